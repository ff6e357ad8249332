"""A running application, a browser, and a clip that was dropped onto it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Page

from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.running import Running, application
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.simulated.record import record
from tests.integration.conftest import fresh_database, server_url  # noqa: F401
from tools.browser import browser_page, wait_ready


@pytest.fixture(scope="session")
def running(
    server_url: str,  # noqa: F811
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[Running]:
    with pytest.MonkeyPatch.context() as patch, fresh_database(server_url) as url:
        patch.setenv("KEEN_DATABASE_URL", url)
        with application(tmp_path_factory.mktemp("app"), free_port()) as running:
            yield running


@pytest.fixture(scope="session")
def page(running: Running) -> Iterator[Page]:
    with browser_page() as page:
        yield page


@pytest.fixture(scope="session")
def take(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("take") / "shaky walk.mp4"
    record(quay_walk(3.0), path)
    return path


@pytest.fixture(scope="session")
def clip(page: Page, running: Running, take: Path) -> str:
    """Drop a file on an empty shelf and do nothing else: address of its clip, ready."""
    page.goto(running.address)
    page.get_by_placeholder("Name of a new shoot").fill("First day")
    page.get_by_role("button", name="New shoot").click()
    page.wait_for_selector("input[type=file]", state="attached")
    page.set_input_files("input[type=file]", take)
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 90)
    return page.url


@pytest.fixture
def opened(page: Page, clip: str) -> Page:
    page.goto(clip)
    wait_ready(page)
    return page


def report(page: Page) -> dict:
    return page.evaluate("Alpine.$data(document.querySelector('.clip')).report")
