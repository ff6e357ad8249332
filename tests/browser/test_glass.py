"""The Glass station: found in the clip, told by hand, seen in the picture."""

from __future__ import annotations

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import enter, report, reset, station, summary, tools, value
from tests.browser.test_application import picture
from tools.browser import pause_at, wait_settled

pytestmark = pytest.mark.browser
LOSSES = ("glass.loss_r2", "glass.loss_r4", "glass.loss_r6")


@pytest.fixture
def glass(fresh: Page) -> Page:
    reset(fresh, "motion.on=false")
    pause_at(fresh, 30)
    station(fresh, "Glass")
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
    line = tools(glass, "Glass").locator(".curve path")
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
