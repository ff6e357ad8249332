"""A running application, a browser, and a clip that was dropped onto it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page

from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.running import Running, application
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.simulated.record import record
from keen_horizon.simulated.sphere import harbour_sphere
from tests.browser.ledger import Ledger
from tests.integration.conftest import fresh_database, server_url  # noqa: F401
from tools.browser import browser_page, pause_at, wait_ready, wait_settled


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
        page.ledger = Ledger(page.context)
        yield page


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Whether everything was pressed is asked last, and only if all of these tests run."""
    here = Path(__file__).parent
    asked = [item for item in items if item.path.name == "test_pressed.py"]
    if {item.path for item in items if item.path.parent == here} == set(here.glob("test_*.py")):
        items[:] = [item for item in items if item not in asked] + asked
    else:
        items[:] = [item for item in items if item not in asked]


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
    page.wait_for_selector(".shoot input[type=file]", state="attached")
    page.set_input_files(".shoot input[type=file]", take)
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 90)
    return page.url


@pytest.fixture(scope="session")
def sphere_clip(page: Page, running: Running, tmp_path_factory: pytest.TempPathFactory) -> str:
    """Drop a sphere on a shoot of its own: address of its clip, ready."""
    path = tmp_path_factory.mktemp("sphere") / "small boat.mp4"
    record(harbour_sphere(1.2, (1024, 512)), path)
    page.goto(running.address)
    page.get_by_placeholder("Name of a new shoot").fill("All around")
    page.get_by_role("button", name="New shoot").click()
    shoot = page.locator("section.shoot[aria-label='All around']")
    shoot.locator("input[type=file]").set_input_files(path)
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 120)
    return page.url


@pytest.fixture
def opened(page: Page, clip: str) -> Page:
    page.complaints.clear()
    page.goto(clip)
    wait_ready(page)
    return page


@pytest.fixture
def fresh(opened: Page) -> Page:
    """The clip with the default treatment, stopped at frame 30, seen as at first."""
    reset(opened)
    pause_at(opened, 30)
    return opened


def reset(page: Page, *settings: str) -> None:
    """Give the clip on the page the default treatment, with some settings changed; by the plain
    model unless they name one, which spares every test a choice of models."""
    plain = with_settings(Treatment(), ["motion.model=similarity", *settings])
    treatment = plain.as_data()
    page.evaluate(
        "treatment => { const { clip, view } = keen; clip.treatment = treatment;"
        " clip.endTool(); view.show('treated'); view.clean = false; view.help = false;"
        " view.exact = false; if (view.scopes) view.toggle('scopes');"
        " for (const name of ['marks', 'grid']) if (view[name]) view.toggle(name);"
        " if (!view.bare) view.toggle('bare'); keen.stage.look(1); return clip.solve(true); }",
        treatment,
    )
    wait_settled(page)


def report(page: Page) -> dict:
    return page.evaluate("keen.clip.answer.report")


def value(page: Page, name: str):
    """A setting of the treatment, as ``motion.calm``."""
    return page.evaluate("name => keen.clip.treatment[name[0]][name[1]]", name.split("."))


def keys(page: Page, name: str) -> list[dict]:
    """The keyframes of a setting."""
    return page.evaluate("name => keen.clip.treatment.keys[name] ?? []", name)


def station(page: Page, name: str) -> None:
    page.locator(".station-open").filter(has_text=name).click()


def summary(page: Page, name: str) -> Locator:
    """What the light path says of a station."""
    return page.locator(".station").filter(has_text=name)


def tools(page: Page, name: str) -> Locator:
    """The tools of a station."""
    return page.get_by_role("region", name=name, exact=True)


def unfold(page: Page, name: str) -> Locator:
    """A fold of the tools, open."""
    fold = page.locator("details:visible").filter(has=page.locator("summary", has_text=name))
    if fold.get_attribute("open") is None:
        fold.locator("summary").click()
    return fold


def client(page: Page, place: list[float]) -> tuple[float, float]:
    """Where a place of the source, in shares, is on the page."""
    x, y = page.evaluate(
        "place => { const s = keen.stage; const part = s.layout().at(-1);"
        " const [a, b] = s.place(part, place); const r = s.picture.getBoundingClientRect();"
        " return [r.left + a / s.ratio, r.top + b / s.ratio]; }",
        place,
    )
    return x, y


def drag(page: Page, start: tuple[float, float], stop: tuple[float, float], steps: int = 5) -> None:
    page.mouse.move(*start)
    page.mouse.down()
    page.mouse.move(*stop, steps=steps)
    page.mouse.up()


def enter(page: Page, label: str, text: str) -> None:
    """Type into an entry and leave it."""
    entry = page.get_by_label(label, exact=True).locator("visible=true")
    entry.fill(text)
    entry.press("Tab")
    wait_settled(page)


def choose(page: Page, name: str) -> None:
    page.get_by_role("radio", name=name, exact=True).locator("visible=true").click()
    wait_settled(page)


def on_strip(page: Page, frame: int) -> tuple[float, float]:
    """Where a frame of the range is on the strip, at the height of keyframes."""
    x, y = page.evaluate(
        "frame => { const s = keen.strip; const r = s.canvas.getBoundingClientRect();"
        " return [r.left + s.x(frame) / s.ratio, r.top + s.floor / s.ratio - 6]; }",
        frame,
    )
    return x, y


def in_stage(page: Page, u: float, v: float) -> tuple[float, float]:
    """A place of the stage, in shares of it, on the page."""
    box = page.locator(".stage").bounding_box()
    return box["x"] + u * box["width"], box["y"] + v * box["height"]
