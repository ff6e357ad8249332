"""Retake every picture in ``docs/screenshots/`` from the demo shoot: ``./keen shots``."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from playwright.sync_api import Page

from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.running import application

from .browser import browser_page, pause_at, wait_ready

HOME = Path(__file__).parent.parent
TARGET = HOME / "docs" / "screenshots"


def main() -> int:
    TARGET.mkdir(parents=True, exist_ok=True)
    data = Path(os.environ.get("KEEN_DATA", HOME / ".keen")).resolve()
    with (
        application(data, free_port(), demo=True, say=print) as running,
        browser_page() as page,
    ):
        _take(page, running.address)
        if page.complaints:  # type: ignore[attr-defined]
            print("the page complained:", page.complaints)  # type: ignore[attr-defined]
            return 1
    return 0


def _shot(page: Page, name: str) -> None:
    page.wait_for_timeout(500)
    page.screenshot(path=TARGET / f"{name}.png")
    print(name)


def _clip(page: Page, name: str) -> str:
    return str(page.get_attribute(f"a[aria-label='Open {name}']", "href"))


def _take(page: Page, address: str) -> None:
    page.goto(address)
    page.wait_for_selector(".card-clip")
    walk, loft = _clip(page, "quay walk"), _clip(page, "loft doorway")
    for clip in (loft, walk):
        page.goto(address.rstrip("/") + clip)
        wait_ready(page)
    pause_at(page, 205)
    _shot(page, "clip")
    page.keyboard.press("3")
    page.keyboard.press("m")
    page.wait_for_timeout(800)
    _shot(page, "clip-split-marks")
    page.keyboard.press("m")
    page.keyboard.press("4")
    page.get_by_role("button", name="Frame", exact=False).first.click()
    page.get_by_role("radio", name="Leave").click()
    page.get_by_role("button", name="Day or night").click()
    page.wait_for_timeout(600)
    pause_at(page, 348)
    _shot(page, "clip-side-by-side-night")
    page.get_by_role("button", name="Undo").click()
    page.get_by_role("button", name="Day or night").click()
    page.wait_for_timeout(600)
    page.goto(address.rstrip("/") + walk + "/exports")
    page.wait_for_selector(".export-fields option", state="attached")
    if not page.locator(".export-row").count():
        page.locator("form button[type=submit]").click()
        page.wait_for_selector("text=Download", timeout=120_000)
    page.locator("summary").first.click()
    _shot(page, "export")
    page.goto(address)
    page.wait_for_selector(".card-state:has-text('measured')")
    _shot(page, "shelf")


if __name__ == "__main__":
    sys.exit(main())
