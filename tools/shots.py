"""Retake every picture in ``docs/screenshots/`` from the demo shoot: ``./keen shots``."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from playwright.sync_api import Page

from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.running import application

from .browser import browser_page, clip_address, grip, pause_at, until, wait_ready, wait_settled

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


def _house(page: Page, address: str) -> None:
    page.goto(f"{address}house")
    page.get_by_text("heard of").wait_for()
    _shot(page, "house")


def _shot(page: Page, name: str) -> None:
    page.wait_for_timeout(500)
    page.screenshot(path=TARGET / f"{name}.png")
    print(name)


def _take(page: Page, address: str) -> None:
    names = "loft doorway", "tender deck", "engine shed", "harbour sphere", "quay walk"
    loft, deck, shed, sphere, walk = (clip_address(page, address, name) for name in names)
    for clip in (loft, deck, shed, sphere, walk):
        page.goto(clip)
        wait_ready(page, 120)
    pause_at(page, 205)
    page.locator(".start").first.wait_for(timeout=60_000)
    _shot(page, "clip")
    page.keyboard.press("3")
    page.keyboard.press("m")
    page.wait_for_timeout(800)
    _shot(page, "clip-split-marks")
    page.keyboard.press("2")
    _marks(page)
    page.keyboard.press("m")
    _hold(page)
    page.keyboard.press("4")
    _station(page, "Frame")
    page.get_by_role("radio", name="Leave").click()
    page.get_by_role("button", name="Day or night").click()
    page.wait_for_timeout(600)
    pause_at(page, 348)
    _shot(page, "clip-side-by-side-night")
    page.get_by_role("button", name="Undo").click()
    page.get_by_role("button", name="Day or night").click()
    page.wait_for_timeout(600)
    _keys(page)
    page.goto(deck)
    wait_ready(page)
    _shutter(page)
    page.goto(shed)
    wait_ready(page, 120)
    _edges(page)
    _glass(page)
    _square(page)
    page.goto(loft)
    wait_ready(page)
    _dead_corners(page)
    page.goto(deck)
    wait_ready(page)
    _charts(page)
    page.goto(sphere)
    wait_ready(page, 120)
    _sphere(page)
    page.goto(walk + "/exports")
    page.wait_for_selector(".export-fields option", state="attached")
    if not page.locator(".export-row").count():
        page.locator("form button[type=submit]").click()
        page.wait_for_selector("text=Download", timeout=120_000)
    page.locator("summary").first.click()
    _shot(page, "export")
    page.goto(address)
    page.wait_for_selector(".card-state:has-text('measured')")
    _shot(page, "shelf")
    _house(page, address)


def _station(page: Page, name: str) -> None:
    page.locator(".station-open").filter(has_text=name).click()


def _undo(page: Page, times: int) -> None:
    for _ in range(times):
        page.get_by_role("button", name="Undo").click()
        wait_settled(page)


def _marks(page: Page) -> None:
    """Groups of marks, one of them lit."""
    pause_at(page, 150)
    page.locator("summary").filter(has_text="Marks").click()
    groups = page.get_by_role("list", name="Groups").locator("li")
    groups.first.wait_for()
    # The one that moves fastest against the rest: the figure.
    groups.nth(2).scroll_into_view_if_needed()
    groups.nth(2).hover()
    _shot(page, "marks")
    page.locator("summary").filter(has_text="Marks").click()


def _hold(page: Page) -> None:
    """A point that is held, as far as the walk allows."""
    pause_at(page, 60)
    page.locator(".tools").evaluate("tools => tools.scrollTo(0, 0)")
    page.get_by_role("radio", name="Hold").click()
    page.wait_for_timeout(800)
    page.get_by_role("button", name="Place a point").click()
    box = page.locator(".stage").bounding_box()
    assert box is not None
    page.mouse.click(box["x"] + 226, box["y"] + 246)
    page.wait_for_selector("text=known in", timeout=60_000)
    _shot(page, "hold")
    _undo(page, 2)


def _keys(page: Page) -> None:
    """Zoom and position that change over the clip."""
    page.keyboard.press("2")
    pause_at(page, 90)
    drifting = page.get_by_label("Drifting zoom, 0 to 50 %/s")
    drifting.fill("2")
    drifting.press("Tab")
    wait_settled(page)
    page.get_by_label("Keyframe of Extra zoom here").click()
    wait_settled(page)
    pause_at(page, 240)
    extra = page.get_by_label("Extra zoom, 0.1 to 4 ×")
    extra.fill("1.15")
    extra.press("Tab")
    wait_settled(page)
    _shot(page, "frame-keys")
    _undo(page, 3)


def _edges(page: Page) -> None:
    """Proposed edges accepted, the picture straight."""
    pause_at(page, 30)
    _station(page, "Lens")
    page.get_by_role("radio", name="Edges", exact=True).click()
    page.get_by_role("button", name="Propose").click()
    page.get_by_role("button", name="Accept all").click(timeout=60_000)
    page.wait_for_selector("[aria-label='Straight edges'] li", timeout=60_000)
    wait_settled(page)
    _shot(page, "lens-edges")


def _glass(page: Page) -> None:
    """What the clip tells of its glass, beside the picture as recorded; then closely."""
    pause_at(page, 30)
    _station(page, "Glass")
    page.keyboard.press("3")
    page.get_by_role("button", name="Find it in this clip").click()
    page.get_by_role("status").filter(has_text="as edges").wait_for(timeout=60_000)
    wait_settled(page)
    page.locator("summary", has_text="Colours by hand").click()
    _shot(page, "glass")
    page.keyboard.press("w")
    page.mouse.move(560, 230)
    page.keyboard.press("x")
    until(page, "() => Boolean(keen.stage.exactNow)")
    page.locator(".loupe-pair").scroll_into_view_if_needed()
    _shot(page, "exact-scopes")
    page.keyboard.press("w")
    page.keyboard.press("0")
    page.get_by_role("button", name="Fringe map").click()
    until(page, "() => Boolean(keen.stage.exactNow?.mapped)")
    _shot(page, "fringe-map")
    page.keyboard.press("w")
    for key in ("x", "w", "2", "0"):
        page.keyboard.press(key)
    _undo(page, 1)


def _sphere(page: Page) -> None:
    """A flat view beside the steadied sphere that it is taken out of."""
    pause_at(page, 40)
    _station(page, "View")
    page.get_by_role("switch", name="View on").click()
    wait_settled(page)
    page.keyboard.press("4")
    box = page.locator(".stage").bounding_box()
    assert box is not None
    middle = box["x"] + 0.75 * box["width"], box["y"] + 0.5 * box["height"]
    page.mouse.move(*middle)
    page.mouse.down()
    page.mouse.move(middle[0] - 60, middle[1] + 10, steps=5)
    page.mouse.up()
    wait_settled(page)
    _shot(page, "sphere")
    page.keyboard.press("2")
    _undo(page, 2)


def _dead_corners(page: Page) -> None:
    """Behind a filter's ring, recorded and treated."""
    pause_at(page, 60)
    _station(page, "Glass")
    page.get_by_role("button", name="Find it in this clip").click()
    page.get_by_role("status").filter(has_text="dead corners").wait_for(timeout=60_000)
    wait_settled(page)
    page.keyboard.press("4")
    page.locator("summary", has_text="Dead corners").click()
    page.get_by_role("button", name="Use all of the picture").scroll_into_view_if_needed()
    page.wait_for_timeout(400)
    _shot(page, "dead-corners")
    page.keyboard.press("2")
    _undo(page, 1)


def _square(page: Page) -> None:
    """A corner on its way, with what is under it enlarged."""
    _station(page, "Frame")
    page.locator("summary").filter(has_text="Turn and square up").click()
    page.get_by_role("button", name="Set corners").click()
    wait_settled(page)
    x, y = grip(page, 0)
    page.mouse.move(x + 2, y + 2)
    page.mouse.down()
    page.mouse.move(x + 90, y + 50, steps=6)
    _shot(page, "square-up")
    page.mouse.up()
    page.get_by_role("button", name="Square up", exact=True).click()
    wait_settled(page)
    page.get_by_role("button", name="None", exact=True).click()
    wait_settled(page)
    page.locator("summary").filter(has_text="Turn and square up").click()


def _charts(page: Page) -> None:
    """The deck camera by its angle of view, then by charts."""
    pause_at(page, 60)
    _station(page, "Lens")
    page.get_by_role("radio", name="Angle", exact=True).click()
    dial = page.locator(".dial")
    dial.focus()
    for _ in range(5):
        dial.press("PageUp")
    wait_settled(page)
    page.mouse.move(5, 5)
    _shot(page, "lens-angle")
    page.get_by_role("radio", name="Chart", exact=True).click()
    page.get_by_role("button", name="Demo set").click()
    page.get_by_role("button", name="Use this lens").click(timeout=120_000)
    wait_settled(page)
    _shot(page, "lens-chart")


def _shutter(page: Page) -> None:
    pause_at(page, 100)
    page.keyboard.press("2")
    _station(page, "Shutter")
    page.get_by_role("button", name="Find it from this clip").click()
    page.wait_for_selector("text=give or take", timeout=60_000)
    wait_settled(page)  # a new clip has it already, so that this changes nothing
    page.get_by_role("radio", name="Vibration too").click()
    wait_settled(page)
    page.locator(".station-words").filter(has_text="strong").wait_for(timeout=60_000)
    _shot(page, "shutter")
    _undo(page, 1)


if __name__ == "__main__":
    sys.exit(main())
