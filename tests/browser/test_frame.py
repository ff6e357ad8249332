"""The tools of the Frame station: corners, edge stretch, swell, size, cover and keep all."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import drag, enter, keys, report, reset, station, unfold, value
from tools.browser import grip, until, wait_settled

pytestmark = pytest.mark.browser


@pytest.fixture
def frame(fresh: Page) -> Page:
    station(fresh, "Frame")
    return fresh


def test_corners_are_dragged_squared_up_typed_and_keyed(frame: Page):
    fold = unfold(frame, "Turn and square up")
    fold.get_by_role("button", name="Set corners").click()
    wait_settled(frame)
    x, y = grip(frame, 0)
    frame.mouse.move(x + 2, y + 2)
    frame.mouse.down()
    frame.mouse.move(x + 90, y + 40, steps=4)
    until(frame, "keen.stage.overlay.magnified !== null")
    frame.mouse.up()
    assert frame.evaluate("keen.stage.overlay.magnified") is None
    fold.get_by_role("button", name="Square up", exact=True).click()
    wait_settled(frame)
    assert value(frame, "frame.square_up") is True
    assert value(frame, "frame.top_left_x") > 5
    enter(frame, "bottom right across, percent", "95")
    assert value(frame, "frame.bottom_right_x") == 95
    enter(frame, "bottom right down, percent", "97")
    assert value(frame, "frame.bottom_right_y") == 97
    key = fold.get_by_label("Keyframe of the corners here")
    key.click()
    wait_settled(frame)
    assert len(keys(frame, "frame.top_left_x")) == len(keys(frame, "frame.bottom_left_y")) == 1
    expect(key).to_have_attribute("aria-pressed", "true")
    frame.keyboard.press("h")
    assert frame.evaluate("keen.view.clean") is True
    frame.keyboard.press("h")
    fold.get_by_role("button", name="None").click()
    wait_settled(frame)
    assert value(frame, "frame.square_up") is False
    assert keys(frame, "frame.top_left_x") == []
    assert frame.complaints == []


def test_sides_are_stretched_in_pairs_or_alone(frame: Page):
    unfold(frame, "Edge stretch")
    enter(frame, "Edge stretch, left, 0 to 25 %", "6")
    assert value(frame, "frame.pull_right") == 6
    expect(frame.get_by_text("left 6 %, right 6 %")).to_be_visible()
    frame.get_by_label("left and right together").click()
    enter(frame, "Edge stretch, left, 0 to 25 %", "2")
    assert value(frame, "frame.pull_right") == 6
    enter(frame, "Edge stretch, top, 0 to 25 %", "3")
    assert value(frame, "frame.pull_bottom") == 3
    frame.get_by_label("top and bottom together").click()
    enter(frame, "Edge stretch, top, 0 to 25 %", "1")
    assert value(frame, "frame.pull_bottom") == 3
    told = frame.evaluate("keen.clip.answer.stations.frame.details.stretched")
    expect(frame.get_by_text(told)).to_be_visible()


def test_a_swell_is_moved_and_widened_on_the_picture(frame: Page):
    fold = unfold(frame, "Swell")
    enter(frame, "Swell, 0.4 to 2.5 ×", "1.5")
    centre, rim = grip(frame, 0), grip(frame, 1)
    drag(frame, centre, (centre[0] + 80, centre[1] + 20))
    wait_settled(frame)
    assert value(frame, "frame.swell_x") > 30
    rim = grip(frame, 1)
    drag(frame, rim, (rim[0] + 30, rim[1]))
    wait_settled(frame)
    assert value(frame, "frame.swell_radius") > 32
    fold.get_by_label("and its twin across the centre").click()
    wait_settled(frame)
    assert value(frame, "frame.swell_twin") is True
    assert frame.complaints == []


def test_cover_hides_every_bare_edge_and_keep_all_loses_none(frame: Page):
    reset(frame, "frame.edge=leave", "frame.turn=4")
    assert report(frame)["bare_edges"] > 0
    fold = unfold(frame, "Cover, or keep it all")
    fold.get_by_role("button", name="Cover", exact=True).click()
    until(frame, "keen.clip.treatment.frame.extra_zoom > 1", seconds=30)
    wait_settled(frame)
    assert report(frame)["bare_edges"] < 0.01
    expect(fold.get_by_role("status")).not_to_have_text("")
    reset(frame, "frame.edge=leave", "frame.turn=4")
    enter(frame, "Largest side in px", "99999")
    most = frame.get_by_label("Largest side in px").input_value()
    assert int(most) == int(frame.get_by_label("Largest side in px").get_attribute("max"))
    enter(frame, "Largest side in px", "1300")
    fold.get_by_role("button", name="Keep all").click()
    until(frame, "keen.clip.treatment.frame.width !== null", seconds=30)
    wait_settled(frame)
    assert value(frame, "frame.width") <= 1300
    frame.get_by_role("button", name="As the source").click()
    wait_settled(frame)
    assert value(frame, "frame.width") is None
    assert frame.complaints == []
