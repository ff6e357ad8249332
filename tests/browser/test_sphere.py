"""Footage that looks everywhere: dropped, steadied, looked around in, exported."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from keen_horizon.core.media.probe import scan
from keen_horizon.core.treatment import Treatment
from tests.browser.conftest import (
    choose,
    drag,
    in_stage,
    keys,
    report,
    station,
    summary,
    tools,
    unfold,
    value,
)
from tools.browser import pause_at, wait_ready, wait_settled

pytestmark = pytest.mark.browser


@pytest.fixture
def sphere(page: Page, sphere_clip: str) -> Page:
    """The sphere with the default treatment, stopped at frame 10, seen as at first."""
    page.complaints.clear()
    page.goto(sphere_clip)
    wait_ready(page)
    page.evaluate(
        "treatment => { const { clip, view } = keen; clip.treatment = treatment; clip.endTool();"
        " view.show('treated'); keen.stage.look(1); return clip.solve(true); }",
        Treatment().as_data(),
    )
    wait_settled(page)
    pause_at(page, 10)
    return page


def viewing(page: Page) -> None:
    """Take a flat picture out, with its tools open."""
    station(page, "View")
    page.get_by_role("switch", name="View on").click()
    wait_settled(page)


def shown(page: Page, u: float, v: float) -> list[float]:
    """Where in the recorded sphere a place of the treated picture comes from, in shares."""
    return page.evaluate(
        "([u, v]) => { const s = keen.stage; return s.lattice.map(s.clock.at, u, v); }", [u, v]
    )


def test_a_sphere_is_known_by_its_file_and_steadied(sphere: Page):
    stations = sphere.locator(".station-name")
    expect(stations).to_have_text(["Motion", "View", "Finish"])
    expect(summary(sphere, "View")).to_contain_text("the whole sphere")
    told = report(sphere)
    assert told["shake_unit"] == "degrees"
    assert told["shake_after"] < 0.2 * told["shake_before"]
    expect(sphere.locator(".price")).to_contain_text("Horizon level to")
    sphere.get_by_role("button", name="Horizon", exact=True).click()
    assert sphere.evaluate("keen.view.around") is False
    sphere.keyboard.press("n")
    assert sphere.evaluate("keen.view.around") is True
    for mode in ("Original", "Split", "Side by side", "Difference", "Treated"):
        choose(sphere, mode)
    # What flat clips alone have is neither there nor asked for.
    for key in "mewx":
        sphere.keyboard.press(key)
    assert sphere.evaluate("keen.view.marks || keen.view.exact") is False
    assert sphere.complaints == []


def test_its_picture_is_drawn_as_the_core_samples_it(sphere: Page):
    viewing(sphere)
    turn = sphere.evaluate("keen.stage.lattice.whole(keen.clock.at)")
    x, y = shown(sphere, 0.5, 0.5)
    # The middle of a view looks along the third column of its turn.
    right, down, ahead = turn[2], turn[5], turn[8]
    assert x == pytest.approx(np.arctan2(right, ahead) / (2 * np.pi) + 0.5, abs=1e-6)
    assert y == pytest.approx(np.arcsin(down) / np.pi + 0.5, abs=1e-6)


def test_dragging_turns_the_view_and_the_wheel_opens_it(sphere: Page):
    viewing(sphere)
    before = shown(sphere, 0.4, 0.5)
    start, stop = in_stage(sphere, 0.5, 0.5), in_stage(sphere, 0.6, 0.5)
    under = sphere.evaluate("at => keen.stage.sourceAt(keen.stage.spot(at))",
                            {"clientX": start[0], "clientY": start[1]})  # fmt: skip
    drag(sphere, start, stop)
    wait_settled(sphere)
    assert value(sphere, "view.yaw") < -3
    assert shown(sphere, 0.4, 0.5) != before
    # What was under the pointer went along with it.
    now = sphere.evaluate("at => keen.stage.sourceAt(keen.stage.spot(at))",
                          {"clientX": stop[0], "clientY": stop[1]})  # fmt: skip
    assert now == pytest.approx(under, abs=0.01)
    sphere.mouse.wheel(0, 300)
    sphere.wait_for_timeout(600)
    wait_settled(sphere)
    assert value(sphere, "view.angle") > 95
    choose(sphere, "Side by side")
    drag(sphere, in_stage(sphere, 0.25, 0.5), in_stage(sphere, 0.15, 0.45))
    wait_settled(sphere)
    assert value(sphere, "view.yaw") < -50
    assert value(sphere, "view.pitch") > 2
    assert sphere.complaints == []


def test_each_setting_of_the_view_is_set(sphere: Page):
    viewing(sphere)
    for one in ("Stereographic", "Cylindrical", "Rectilinear"):
        choose(sphere, one)
        assert value(sphere, "view.projection") == one.lower()
    own = tools(sphere, "View")
    for name, label in (
        ("yaw", "To the right"), ("pitch", "Upwards"), ("roll", "Roll"), ("angle", "Angle of view"),
        ("fastest", "Fastest turn"),
    ):  # fmt: skip
        control = own.locator(f"""[x-data="field('view.{name}')"]""")
        slider, entry = control.locator("input[type=range]"), control.locator("input[type=number]")
        was = value(sphere, f"view.{name}")
        slider.focus()
        slider.press("ArrowRight")
        wait_settled(sphere)
        assert value(sphere, f"view.{name}") > was
        entry.fill("44")
        entry.press("Tab")
        wait_settled(sphere)
        assert value(sphere, f"view.{name}") == 44, label
        toggle = control.locator(".key-toggle")
        if toggle.count():
            toggle.click()
            wait_settled(sphere)
            assert [key["frame"] for key in keys(sphere, f"view.{name}")] == [10]
            toggle.click()
            wait_settled(sphere)
    for name, label in (("width", "Width"), ("height", "Height")):
        entry = own.get_by_label(label)
        entry.fill("480")
        entry.press("Tab")
        wait_settled(sphere)
        assert value(sphere, f"view.{name}") == 480
    for shape, sides in (("1:1", (480, 480)), ("9:16", (360, 640)), ("16:9", (640, 360))):
        own.get_by_role("button", name=shape).click()
        wait_settled(sphere)
        assert (value(sphere, "view.width"), value(sphere, "view.height")) == sides
    assert sphere.complaints == []


def test_what_enlarging_takes_is_put_back(sphere: Page):
    viewing(sphere)
    station(sphere, "Finish")
    sphere.get_by_role("switch", name="Finish on").click()
    wait_settled(sphere)
    expect(summary(sphere, "Finish")).to_contain_text("puts back ×")
    assert sphere.evaluate("keen.stage.renderer.stages.map((one) => one.name)") == ["sharpen"]
    own = tools(sphere, "Finish")
    expect(own).to_contain_text("Puts back what")
    for name in ("put_back", "beyond", "overshoot", "floor"):
        control = own.locator(f"""[x-data="field('finish.{name}')"]""")
        slider, entry = control.locator("input[type=range]"), control.locator("input[type=number]")
        slider.focus()
        slider.press("ArrowLeft" if name == "put_back" else "ArrowRight")
        wait_settled(sphere)
        entry.fill("5")
        entry.press("Tab")
        wait_settled(sphere)
        assert value(sphere, f"finish.{name}") == 5
        toggle = control.locator(".key-toggle")
        if toggle.count():
            toggle.click()
            wait_settled(sphere)
            toggle.click()
            wait_settled(sphere)
    assert sphere.complaints == []


def test_keys_of_the_view_go_the_short_way_over_the_seam(sphere: Page):
    viewing(sphere)
    sphere.evaluate(
        "() => { const { clip } = keen; clip.treatment.keys['view.yaw'] = ["
        "{ frame: 0, value: 170, smooth: false }, { frame: 20, value: -170, smooth: false }];"
        " return clip.solve(true); }"
    )
    wait_settled(sphere)
    assert abs(sphere.evaluate("keen.clip.value('view.yaw')")) == pytest.approx(180, abs=0.01)
    assert report(sphere)["view_pace"] == pytest.approx(30, abs=0.5)


def test_the_view_follows_what_is_clicked(sphere: Page):
    viewing(sphere)
    sphere.get_by_role("button", name="Follow something").click()
    sphere.mouse.click(*in_stage(sphere, 0.45, 0.45))
    wait_settled(sphere, 60)
    assert value(sphere, "view.follow")["frame"] == 10
    at = value(sphere, "view.follow")["at"]
    assert shown(sphere, 0.5, 0.5) == pytest.approx(at, abs=0.01)
    sphere.get_by_role("button", name="Follow another").click()
    sphere.keyboard.press("Escape")
    sphere.get_by_role("button", name="Look freely").click()
    wait_settled(sphere)
    assert value(sphere, "view.follow") is None
    assert shown(sphere, 0.5, 0.5) == pytest.approx(at, abs=0.01)
    assert sphere.complaints == []


def test_motion_has_what_a_sphere_has(sphere: Page):
    own = tools(sphere, "Motion")
    expect(own.get_by_text("Model")).to_have_count(0)
    slider = own.locator("""[x-data="field('motion.calm')"] input[type=range]""")
    slider.focus()
    slider.press("ArrowRight")
    own.get_by_role("button", name="Unlink").click()
    wait_settled(sphere)
    for part in ("across", "updown", "roll"):
        row = own.locator(f"""[x-data="field('motion.calm_{part}')"]""")
        row.locator("input[type=range]").press("ArrowRight")
        wait_settled(sphere)
        row.locator("input[type=number]").fill("80")
        row.locator("input[type=number]").press("Tab")
        wait_settled(sphere)
        assert value(sphere, f"motion.calm_{part}") == 80
    own.get_by_role("button", name="Link").click()
    wait_settled(sphere)
    assert value(sphere, "motion.calm_roll") is None
    for heading in ("Ahead", "Fixed", "As recorded"):
        own.locator("""[x-data="choice('motion.heading')"]""").get_by_role(
            "radio", name=heading
        ).click()
        wait_settled(sphere)
    own.get_by_label("Upside down").click()
    wait_settled(sphere)
    assert value(sphere, "motion.upside_down") is True
    own.get_by_label("Upside down").click()
    wait_settled(sphere)
    own.get_by_label("Take out stitching wobble").click()
    wait_settled(sphere)
    assert value(sphere, "motion.stitch") is False
    own.get_by_label("Take out stitching wobble").click()
    wait_settled(sphere)
    assert own.get_by_text("rms over the sphere").is_visible()
    own.get_by_role("radio", name="Lock off").click()
    wait_settled(sphere)
    own.get_by_role("button", name="This frame").click()
    wait_settled(sphere)
    assert value(sphere, "motion.lock_frame") == 10
    own.get_by_role("button", name="First frame").click()
    wait_settled(sphere)
    assert value(sphere, "motion.lock_frame") is None
    # Another cone has to be fitted anew, by a worker.
    cone = own.locator("""[x-data="field('motion.nadir')"]""")
    cone.locator("input[type=range]").press("ArrowRight")
    cone.locator("input[type=number]").fill("20")
    cone.locator("input[type=number]").press("Tab")
    wait_settled(sphere, 60)
    assert value(sphere, "motion.nadir") == 20
    assert sphere.complaints == []


def test_a_point_is_held(sphere: Page):
    own = tools(sphere, "Motion")
    own.get_by_role("radio", name="Hold").click()
    wait_settled(sphere)
    own.get_by_role("button", name="Place a point").click()
    sphere.mouse.click(*in_stage(sphere, 0.38, 0.45))
    wait_settled(sphere, 60)
    assert value(sphere, "motion.hold")[0]["frame"] == 10
    expect(own).to_contain_text("Placed at frame 10")
    own.get_by_role("button", name="Remove").locator("visible=true").click()
    wait_settled(sphere)
    assert value(sphere, "motion.hold") == []


def test_a_horizon_that_is_drawn_is_made_level(sphere: Page):
    own = tools(sphere, "Motion")
    level = own.locator("""[x-data="choice('motion.level')"]""")
    for name in ("As recorded", "By uprights", "By both", "By the horizon"):
        level.get_by_role("radio", name=name).click()
        wait_settled(sphere)
    expect(own).to_contain_text("No horizon is drawn yet")
    choose(sphere, "Original")
    own.get_by_role("button", name="Draw the horizon").click()
    drag(sphere, in_stage(sphere, 0.3, 0.45), in_stage(sphere, 0.6, 0.55))
    wait_settled(sphere)
    ends = value(sphere, "motion.horizon")[0]["ends"]
    # Both ends of it are as high as the middle of what comes out.
    heights = sphere.evaluate(
        "ends => ends.map(([x, y]) => keen.stage.lattice.unmap(keen.clock.at, x, y)[1])", ends
    )
    assert heights == pytest.approx([0.5, 0.5], abs=2e-3)
    expect(own).to_contain_text("The horizon drawn in 1 frame tells")
    own.get_by_role("button", name="Go there").click()
    own.get_by_role("button", name="Remove").locator("visible=true").click()
    wait_settled(sphere)
    assert value(sphere, "motion.horizon") == []
    assert sphere.complaints == []


def test_it_is_worked_on_as_a_flat_clip_if_one_says_so(sphere: Page):
    unfold(sphere, "Kind of clip").get_by_role("radio", name="Flat").click()
    expect(sphere.locator(".station-name")).to_have_count(6, timeout=30_000)
    wait_ready(sphere, 90)
    expect(summary(sphere, "Motion")).to_contain_text("calm")
    unfold(sphere, "Kind of clip").get_by_role("radio", name="Sphere").click()
    expect(sphere.locator(".station-name")).to_have_text(
        ["Motion", "View", "Finish"], timeout=30_000
    )
    wait_ready(sphere, 90)


def test_a_flat_view_and_a_sphere_are_exported(sphere: Page, tmp_path: Path):
    def exported(count: int) -> Path:
        sphere.get_by_role("link", name="Export").click()
        sphere.get_by_role("button", name="Export").click()
        expect(sphere.locator(".export-row")).to_have_count(count)
        row = sphere.locator(".export-row").first
        link = row.get_by_role("link", name="Download")
        expect(link).to_be_visible(timeout=90_000)
        expect(row).to_contain_text(re.compile("Shake left"))
        with sphere.expect_download() as download:
            link.click()
        path = tmp_path / f"{len(list(tmp_path.iterdir()))}.mp4"
        download.value.save_as(path)
        sphere.get_by_role("link", name="Back to the clip").click()
        wait_ready(sphere)
        return path

    probe = scan(exported(1)).probe
    assert (probe.width, probe.height) == (1024, 512)
    assert probe.sphere is not None
    viewing(sphere)
    sphere.evaluate(
        "keen.clip.edit(({ view }) => Object.assign(view, { width: 480, height: 270 }))"
    )
    wait_settled(sphere)
    probe = scan(exported(2)).probe
    assert (probe.width, probe.height) == (480, 270)
    assert probe.sphere is None
    assert sphere.complaints == []
