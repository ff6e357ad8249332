"""Marks: how they look, which move together, and setting them aside."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import in_stage, unfold, value
from tools.browser import pause_at, until, wait_ready, wait_settled

pytestmark = pytest.mark.browser


def test_a_lasso_sets_aside_what_is_inside_and_is_put_back(fresh: Page):
    unfold(fresh, "Marks")
    lasso = fresh.get_by_role("button", name="Lasso")
    lasso.click()
    expect(lasso).to_have_attribute("aria-pressed", "true")
    corners = [(0.55, 0.2), (0.9, 0.2), (0.9, 0.75), (0.55, 0.75), (0.55, 0.2)]
    places = [in_stage(fresh, u, v) for u, v in corners]
    fresh.mouse.move(*places[0])
    fresh.mouse.down()
    for place in places[1:]:
        fresh.mouse.move(*place, steps=8)
    fresh.mouse.up()
    listed = fresh.get_by_role("list", name="Set aside").locator("li")
    expect(listed).to_have_count(1)
    expect(listed).to_contain_text("Lasso at frame 30")
    aside = "[...(keen.stage.markings.sets.get(30)?.marks || [])].filter((_, i) => i % 4 === 2)"
    until(fresh, f"{aside}.includes(2)")
    listed.hover()
    until(fresh, "keen.stage.markings.lit !== null")
    fresh.mouse.move(5, 5)
    until(fresh, "keen.stage.markings.lit === null")
    # Still there after leaving and coming back.
    fresh.reload()
    expect(listed).to_have_count(1, timeout=20_000)
    pause_at(fresh, 12)
    listed.get_by_role("button", name="Go there").click()
    until(fresh, "keen.clock.frame === 30")
    listed.get_by_role("button", name="Put back").click()
    expect(listed).to_have_count(0)
    fresh.keyboard.press("Control+z")
    expect(listed).to_have_count(1)
    assert fresh.complaints == []


def test_a_lasso_that_loses_its_pointer_leaves_nothing_behind(fresh: Page):
    unfold(fresh, "Marks")
    fresh.get_by_role("button", name="Lasso").click()
    fresh.mouse.move(*in_stage(fresh, 0.3, 0.3))
    fresh.mouse.down()
    fresh.mouse.move(*in_stage(fresh, 0.6, 0.4), steps=4)
    fresh.locator(".stage").dispatch_event("pointercancel")
    assert fresh.evaluate("keen.stage.overlay.lasso") is None
    fresh.mouse.up()
    fresh.keyboard.press("Escape")
    assert fresh.evaluate("keen.clip.tool") == ""
    assert value(fresh, "motion.aside") == []


def test_groups_are_lit_set_aside_and_left_to_steer_alone(fresh: Page):
    unfold(fresh, "Marks")
    groups = fresh.get_by_role("list", name="Groups").locator("li")
    said = fresh.get_by_text("Marks that move together, otherwise").or_(
        fresh.get_by_text("Everything moves as the camera has it move.")
    )
    expect(said).to_be_visible(timeout=20_000)
    if not groups.count():
        pytest.skip("this short take has no group of its own")
    groups.first.get_by_role("button", name="Set aside").click()
    wait_settled(fresh)
    assert value(fresh, "motion.aside")[0]["kind"] == "group"
    expect(groups.first.get_by_role("button", name="Is set aside")).to_be_disabled()
    groups.first.get_by_role("button", name="Only this steers").click()
    wait_settled(fresh)
    assert value(fresh, "motion.steer_by")["kind"] == "group"
    fresh.get_by_role("button", name="Let all steer").click()
    wait_settled(fresh)
    assert value(fresh, "motion.steer_by") is None


def test_marks_look_as_one_likes_and_so_the_next_time(fresh: Page):
    unfold(fresh, "Marks")
    for label, size in (("Dot size in pixels", "6"), ("Trail length in frames", "12")):
        fresh.get_by_label(label).fill(size)
    assert fresh.evaluate("[keen.view.dotSize, keen.view.trail]") == [6, 12]
    expect(fresh.get_by_text("12 frames")).to_be_visible()
    fresh.reload()
    wait_ready(fresh)
    assert fresh.evaluate("[keen.view.dotSize, keen.view.trail]") == [6, 12]
    unfold(fresh, "Marks")
    for label, size in (("Dot size in pixels", "3"), ("Trail length in frames", "8")):
        fresh.get_by_label(label).fill(size)


def test_a_closer_measure_is_made_used_and_left_again(fresh: Page):
    unfold(fresh, "Marks")
    before = fresh.evaluate("keen.clip.answer.keys.motion")
    closer = fresh.get_by_label("Closer measure")
    closer.check()
    fold = fresh.locator("details").filter(has=closer)
    expect(fold).to_contain_text("Measuring")
    expect(fold).to_contain_text("In use.", timeout=90_000)
    until(fresh, "before => keen.clip.answer.keys.motion !== before", before)
    closer.uncheck()
    expect(fold).to_contain_text("Is there.")
    until(fresh, "before => keen.clip.answer.keys.motion === before", before)
    assert fresh.complaints == []


def test_what_the_marks_advise_can_be_taken(fresh: Page):
    """Where a group pulls the solve; here it is said of one that does not."""
    group = {"subject": {"kind": "group", "frame": 40, "at": [0.5, 0.5]}, "marks": "", "words": "x",
             "when": "frames 0 to 60", "speed": "", "aside": False, "only": False}  # fmt: skip
    told = {"groups": [group], "aside": [], "only": None, "words": "",
            "advice": {"group": 0, "words": "Two marks pull the picture."}}  # fmt: skip
    fresh.route("**/groups", lambda route: route.fulfill(json=told))
    fresh.reload()
    wait_ready(fresh)
    unfold(fresh, "Marks")
    advice = fresh.locator(".banner").filter(has_text="Two marks pull the picture.")
    advice.get_by_role("button", name="Set aside").click()
    fresh.unroute("**/groups")
    wait_settled(fresh)
    (subject,) = value(fresh, "motion.aside")
    assert (subject["kind"], subject["frame"]) == ("group", 40)
