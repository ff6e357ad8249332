"""The Glass station: found in the clip, told by hand, seen in the picture."""

from __future__ import annotations

import base64
import re
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.picture.radial import RadialField
from keen_horizon.core.stations.glass.lateral import Lateral
from keen_horizon.simulated.shade import Shade
from tests.browser.conftest import enter, report, reset, station, summary, tools, unfold, value
from tests.browser.test_application import picture
from tools.browser import bytes_of, pause_at, until, wait_settled

pytestmark = pytest.mark.browser
FOLDS = ("Dead corners", "Colours by hand", "Halo")
LOSSES = ("glass.loss_r2", "glass.loss_r4", "glass.loss_r6")


@pytest.fixture
def glass(fresh: Page) -> Page:
    reset(fresh, "motion.on=false")
    pause_at(fresh, 30)
    station(fresh, "Glass")
    for name in FOLDS:
        unfold(fresh, name)
    return fresh


def test_light_is_brought_back_by_hand_and_seen_at_once(glass: Page):
    before = picture(glass)
    enter(glass, "Corners, stops, 0 to 8", "1.5")
    assert sum(value(glass, name) for name in LOSSES) == pytest.approx(1.5, abs=0.01)
    assert value(glass, "glass.found_by") == "hand"
    expect(summary(glass, "Glass")).to_contain_text("+ 1.5 stops")
    told = report(glass)["glass"]
    after = picture(glass)
    middle, corner = np.s_[230:310, 420:540], np.s_[12:48, 20:80]
    assert after[middle].mean() == pytest.approx(before[middle].mean(), rel=0.06)
    # As the export has it: light times a power of two, in the browser's own curve.
    seen = (after[corner].mean() / 255 + 0.055) / (before[corner].mean() / 255 + 0.055)
    stops = 2.4 * np.log2(seen)
    lost = np.interp(93, *np.array(told["curve"]).T)
    assert stops == pytest.approx(lost, abs=0.25)
    enter(glass, "Half at, %, 71 to 89", "88")
    assert value(glass, "glass.loss_r6") > value(glass, "glass.loss_r2")
    enter(glass, "Softness, 0 to 100", "100")
    assert report(glass)["glass"]["hand"]["softness"] == pytest.approx(100, abs=1)
    assert glass.complaints == []


def test_a_slider_moves_the_curve_while_it_is_dragged(glass: Page):
    line = tools(glass, "Glass").locator(".curve path:not(.curve-seen)").first
    flat = line.get_attribute("d")
    slider = glass.get_by_label("Corners, stops", exact=True)
    slider.focus()
    for _ in range(3):
        slider.press("PageUp")
    wait_settled(glass)
    assert line.get_attribute("d") != flat
    assert sum(value(glass, name) for name in LOSSES) > 0.5
    for label in ("Half at, %", "Softness"):
        before = [value(glass, name) for name in LOSSES]
        glass.get_by_label(label, exact=True).locator("visible=true").press("PageUp")
        wait_settled(glass)
        assert [value(glass, name) for name in LOSSES] != before
    glass.get_by_role("button", name="Back to even").click()
    wait_settled(glass)
    assert [value(glass, name) for name in LOSSES] == [0, 0, 0]
    expect(summary(glass, "Glass")).to_contain_text("even")
    assert glass.complaints == []


def test_a_clip_without_fall_off_is_left_alone_and_a_limit_is_pointed_out(glass: Page):
    glass.get_by_role("button", name="Find it in this clip").click()
    told = tools(glass, "Glass").get_by_role("status")
    expect(told).to_contain_text("The marks tell of no fall-off", timeout=60_000)
    assert value(glass, "glass.found_by") == "nothing"
    reset(glass, "motion.on=false", "glass.loss_r2=2", "glass.limit=1")
    expect(tools(glass, "Glass").get_by_text("would need more than 1 stop ")).to_be_visible()
    assert glass.complaints == []


# --- an even surface ------------------------------------------------------------------------------


def test_a_frame_and_a_photograph_are_looked_at_for_evenness(glass: Page, tmp_path: Path):
    unfold(glass, "By an even surface")
    told = tools(glass, "Glass").get_by_role("status").first
    glass.get_by_role("button", name="This frame is even").click()
    expect(told).to_contain_text("no even surface", timeout=60_000)
    assert value(glass, "glass.found_by") == "nothing"
    shade = Shade(1280, 720, 0.62)
    light = 0.5 * shade.passed
    grey = np.rint(255 * (1.055 * light ** (1 / 2.4) - 0.055)).astype(np.uint8)
    cv2.imwrite(str(tmp_path / "wall.png"), grey)
    entry = tools(glass, "Glass").locator("input[type=file]")
    entry.set_input_files(tmp_path / "wall.png")
    expect(told).to_contain_text("as the even surface tells", timeout=60_000)
    wait_settled(glass)
    assert value(glass, "glass.found_by") == "even"
    assert report(glass)["glass"]["corner_stops"]["top left"] == pytest.approx(0.94, abs=0.05)
    (tmp_path / "note.png").write_text("no picture")
    entry.set_input_files(tmp_path / "note.png")
    expect(glass.get_by_role("alert").first).to_contain_text("note.png")
    glass.get_by_role("button", name="Close").locator("visible=true").first.click()


def test_the_wall_that_came_along_is_looked_at(glass: Page):
    unfold(glass, "By an even surface")
    told = tools(glass, "Glass").get_by_role("status").first
    glass.get_by_role("button", name="Demo wall").click()
    expect(told).to_contain_text("as the even surface tells", timeout=60_000)
    wait_settled(glass)
    assert report(glass)["glass"]["corner_stops"]["top right"] > 0.8
    assert glass.complaints == []


def test_the_curve_stands_against_the_frame_s_own_light(glass: Page):
    seen = tools(glass, "Glass").locator(".curve-seen")
    expect(seen).to_have_attribute("d", re.compile("L"), timeout=15_000)
    before = seen.get_attribute("d")
    pause_at(glass, 45)
    until(glass, "was => document.querySelector('.curve-seen').getAttribute('d') !== was", before)
    expect(tools(glass, "Glass").get_by_text("Light by the curve of")).to_be_visible()
    assert glass.complaints == []


# --- dead corners ---------------------------------------------------------------------------------

CUT = "[[0.2,0],[1,0],[1,1],[0,1],[0,0.3]]"


def reddish(page: Page) -> float:
    """How red the upper left of the stage's picture is against its green: stripes are."""
    seen = colours(page)
    box = page.evaluate("keen.stage.layout().at(-1).box")
    top, left = round(box["top"]) + 3, round(box["left"]) + 3
    corner = seen[top : top + 24, left : left + 40]
    return float((corner[..., 0] - corner[..., 1]).std())


def test_a_dead_corner_is_hatched_counted_and_kept_out_of_view(glass: Page):
    reset(glass, "motion.on=false", f"glass.live={CUT}", "frame.zoom_ceiling=1.6")
    expect(summary(glass, "Glass")).to_contain_text("dead corners")
    told = report(glass)["dead"]
    assert told["share"] == pytest.approx(0.03, abs=0.001)
    assert report(glass)["zoom"] == pytest.approx(told["zoom"], abs=0.01)
    expect(tools(glass, "Glass").get_by_text("3.0 % of the picture. Hiding them")).to_be_visible()
    glass.keyboard.press("1")  # the original shows where it is
    glass.wait_for_timeout(200)
    hatched = reddish(glass)
    glass.keyboard.press("e")
    glass.wait_for_timeout(200)
    assert hatched > reddish(glass) + 10
    glass.keyboard.press("e")
    glass.keyboard.press("2")
    station(glass, "Frame")
    glass.get_by_role("radio", name="Leave", exact=True).click()
    wait_settled(glass)
    assert report(glass)["bare_edges"] == pytest.approx(3.0, abs=0.2)
    assert reddish(glass) > 20
    station(glass, "Glass")
    glass.get_by_role("button", name="Use all of the picture").click()
    wait_settled(glass)
    assert report(glass)["dead"] is None
    expect(tools(glass, "Glass").get_by_text("None are known")).to_be_visible()
    assert glass.complaints == []


# --- colours --------------------------------------------------------------------------------------


def colours(page: Page) -> np.ndarray:
    """What the stage shows, as red, green and blue at its own size."""
    data = page.evaluate(
        "() => { keen.stage.draw(); return keen.stage.picture.toDataURL('image/png'); }"
    )
    raw = np.frombuffer(base64.b64decode(data.split(",")[1]), np.uint8)
    return cv2.imdecode(raw, cv2.IMREAD_COLOR)[..., ::-1].astype(float)


def drawn_small(page: Page) -> np.ndarray:
    """The treated picture at the proxy's own size, red, green and blue."""
    both = bytes_of(page, "() => keen.stage.small(960).bytes").reshape(2, 540, 960, 4)
    return both[1, ::-1, :, :3].astype(float)


def test_colours_are_moved_by_hand_and_seen_at_once(glass: Page):
    before = colours(glass)
    solves = glass.evaluate("keen.clip.answer.report.zoom")
    enter(glass, "Red, px, -12 to 12", "6")
    enter(glass, "Blue, px, -12 to 12", "-6")
    assert value(glass, "glass.colour_found_by") == "hand"
    expect(summary(glass, "Glass")).to_contain_text("colours 6.0 px")
    assert report(glass)["colours"]["corner_px"] == pytest.approx({"red": 6, "blue": -6}, abs=0.01)
    assert glass.evaluate("keen.clip.answer.report.zoom") == solves
    after = colours(glass)
    assert np.abs(after[..., 1] - before[..., 1]).mean() < 0.1  # green stays
    red, blue = (np.abs(after[..., k] - before[..., k]) for k in (0, 2))
    height, width = red.shape
    middle = np.s_[height // 2 - 30 : height // 2 + 30, width // 2 - 30 : width // 2 + 30]
    assert red[: height // 3].mean() > 1.5 * red[middle].mean()
    assert blue[: height // 3].mean() > 0.5
    enter(glass, "Outwards, 0 to 100", "80")
    assert value(glass, "glass.red_r3") == pytest.approx(4 * value(glass, "glass.red_r"), rel=0.01)
    for label, key in (("Red, px", "PageDown"), ("Blue, px", "PageUp"), ("Outwards", "PageDown")):
        was = report(glass)["colours"]["hand"]
        slider = glass.get_by_label(label, exact=True).locator("visible=true")
        slider.press(key)
        wait_settled(glass)
        assert report(glass)["colours"]["hand"] != was
    glass.get_by_role("button", name="Leave colours as they are").click()
    wait_settled(glass)
    assert report(glass)["colours"] is None
    assert value(glass, "glass.colour_found_by") == "nothing"
    assert glass.complaints == []


def test_the_preview_moves_colours_as_the_core_does(glass: Page):
    """The same proxy, drawn by the page and sampled by the rule."""
    before = drawn_small(glass)
    enter(glass, "Red, px, -12 to 12", "8")
    after = drawn_small(glass)
    scale = 960 / 1280
    x, y = np.meshgrid(np.arange(960.0), np.arange(540.0))
    places = (np.stack([x, y], axis=-1) + 0.5) / scale - 0.5
    told = report(glass)["colours"]["hand"]["red"] / np.hypot(639.5, 359.5)
    moved = Lateral(RadialField(Canvas(1280, 720)), (told, 0.0), (0.0, 0.0)).parted(places)
    at = np.stack([x, y], axis=-1) + moved[..., 0, :] * scale
    true = cv2.remap(before[..., 0], at.astype(np.float32), None, cv2.INTER_LINEAR)
    off = (after[..., 0] - true)[12:-12, 12:-12]
    assert np.abs(after[..., 0] - before[..., 0]).mean() > 1
    assert np.sqrt((off**2).mean()) < 2


def test_a_halo_is_taken_away_on_the_page(glass: Page):
    before = colours(glass)
    enter(glass, "Halo, 0 to 100 %", "100")
    expect(summary(glass, "Glass")).to_contain_text("halo")
    after = colours(glass)
    luma = [one @ [0.2126, 0.7152, 0.0722] for one in (before, after)]
    assert np.abs(luma[0] - luma[1]).mean() < 0.6  # it changes colours alone
    assert glass.complaints == []
