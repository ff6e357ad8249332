"""Marks, models, held points, rows, keys and comparing, as a person uses them."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from keen_horizon.core.stations import light_path
from keen_horizon.launch.running import Running
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.simulated.record import record
from tests.browser.conftest import (
    choose,
    drag,
    enter,
    in_stage,
    keys,
    on_strip,
    report,
    reset,
    station,
    summary,
    unfold,
    value,
)
from tools.browser import pause_at, until, wait_ready, wait_settled

pytestmark = pytest.mark.browser


@pytest.fixture(scope="module")
def second(page: Page, running: Running, clip: str, tmp_path_factory) -> str:
    """Another clip of the same shoot: its address."""
    path = tmp_path_factory.mktemp("second") / "second walk.mp4"
    record(quay_walk(1.0), path)
    page.goto(running.address)
    page.wait_for_selector(".card-clip")
    page.set_input_files(".shoot input[type=file]", path)
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 90)
    address = page.url
    page.goto(clip)
    wait_ready(page)
    return address


def near_the_middle(page: Page) -> tuple[float, float]:
    """A mark near the picture's middle: there is something to hold on to."""
    page.keyboard.press("m")
    until(page, "keen.stage.markings.spots.length > 20")
    x, y = page.evaluate(
        "() => { const s = keen.stage; const [w, h] = [s.picture.width / 2, s.picture.height / 2];"
        " const near = [...s.markings.spots].sort((a, b) => Math.hypot(a[0] - w, a[1] - h)"
        " - Math.hypot(b[0] - w, b[1] - h)); return [near[0][0] / s.ratio, near[0][1] / s.ratio]; }"
    )
    box = page.locator(".stage").bounding_box()
    return box["x"] + x, box["y"] + y


def test_stations_are_copied_to_another_clip_of_the_shoot(fresh: Page, clip: str, second: str):
    enter(fresh, "Calm, 0 to 100", "73")
    unfold(fresh, "Copy")
    copy = fresh.get_by_role("button", name="Copy", exact=True).locator("visible=true")
    copy.click()
    expect(fresh.get_by_text("Tick a clip to copy to.")).to_be_visible()
    fresh.get_by_role("checkbox", name="second walk").check()
    for name in (one.title for one in light_path("flat") if one.name != "motion"):
        fresh.get_by_role("checkbox", name=name, exact=True).uncheck()
    fresh.get_by_role("checkbox", name="Motion", exact=True).uncheck()
    copy.click()
    expect(fresh.get_by_text("Tick a station to copy.")).to_be_visible()
    fresh.get_by_role("checkbox", name="Motion", exact=True).check()
    copy.click()
    expect(fresh.get_by_text("Copied to second walk.")).to_be_visible()
    fresh.goto(second)
    wait_ready(fresh, 90)
    assert value(fresh, "motion.calm") == 73
    fresh.get_by_role("button", name="Undo").click()
    wait_settled(fresh)
    assert value(fresh, "motion.calm") != 73
    fresh.goto(clip)
    wait_ready(fresh)


def test_a_mesh_lessens_the_wobble_on_the_price_line(fresh: Page):
    choose(fresh, "Shift, roll, scale")
    before = report(fresh)["wobble_after"]
    choose(fresh, "Mesh")
    until(fresh, "keen.stage.lattice.columns > 2")
    assert report(fresh)["wobble_after"] < before
    expect(fresh.locator(".price")).to_contain_text("Wobble")
    choose(fresh, "Let the clip decide")
    expect(fresh.get_by_text("of the shake; ")).to_be_visible()


def test_the_finished_picture_is_measured_on_request(fresh: Page):
    finish = fresh.get_by_role("button", name="Measure the finished picture")
    told = fresh.get_by_text("Measured in the finished picture: ")
    expect(told).to_have_count(0)
    finish.click()
    expect(finish).to_be_disabled()
    expect(told).to_be_visible(timeout=90_000)
    expect(finish).to_be_enabled()
    enter(fresh, "Calm, 0 to 100", "61")
    wait_settled(fresh)
    expect(told).to_have_count(0)  # that was another picture
    fresh.get_by_role("button", name="Undo").click()
    expect(told).to_be_visible()


def test_a_point_is_placed_followed_and_held(fresh: Page):
    choose(fresh, "Hold")
    expect(fresh.locator(".stage-note")).to_contain_text("Place a point")
    x, y = near_the_middle(fresh)
    fresh.get_by_role("button", name="Place a point").click()
    fresh.mouse.click(x, y)
    expect(fresh.get_by_text("known in ")).to_be_visible(timeout=60_000)
    hold = report(fresh)["hold"]
    assert hold["points"] == 1
    assert hold["known_frames"] > 30
    at = fresh.get_by_role("button", name="Hold it at …")
    at.click()
    expect(at).to_have_attribute("aria-pressed", "true")
    drag(fresh, (x, y), (x + 15, y + 8))
    wait_settled(fresh)
    assert value(fresh, "motion.hold_at") is not None
    expect(at).to_have_attribute("aria-pressed", "false")
    furthest = report(fresh)["hold"]["furthest_frame"]
    fresh.get_by_role("button", name="Furthest off").click()
    until(fresh, "f => keen.clock.frame === f", furthest)
    pause_at(fresh, 30)
    fresh.keyboard.press("f")
    until(fresh, "f => keen.clock.frame === f", furthest)
    fresh.get_by_role("button", name="Where it is").click()
    wait_settled(fresh)
    assert value(fresh, "motion.hold_at") is None
    # Its boxes are sized, it is placed again by hand, and removed.
    fresh.get_by_label("Pattern").press("ArrowRight")
    wait_settled(fresh)
    assert value(fresh, "motion.hold")[0]["pattern"] == pytest.approx(0.085)
    fresh.get_by_label("Search").press("ArrowLeft")
    wait_settled(fresh)
    assert value(fresh, "motion.hold")[0]["search"] == pytest.approx(0.075)
    pause_at(fresh, 50)
    fresh.get_by_role("button", name="Place it here").click()
    fresh.mouse.click(x, y)
    wait_settled(fresh)
    assert [one["frame"] for one in value(fresh, "motion.hold")[0]["again"]] == [50]
    fresh.get_by_role("button", name="Remove").click()
    wait_settled(fresh)
    assert value(fresh, "motion.hold") == []


def test_the_view_of_a_lock_off_is_chosen(fresh: Page):
    choose(fresh, "Lock off")
    fresh.get_by_role("button", name="This frame").click()
    wait_settled(fresh)
    assert value(fresh, "motion.lock_frame") == 30
    expect(fresh.get_by_text("view of frame 30")).to_be_visible()
    least = fresh.get_by_role("button", name="Least costly")
    least.click()
    wait_settled(fresh)
    expect(least).to_have_attribute("aria-pressed", "true")
    # Where the ceiling does not allow what it costs, there is an offer to follow instead.
    offer = fresh.get_by_text("To hold this view still keeps")
    expect(offer).to_be_hidden()
    reset(fresh, "motion.aim=lock_off", "frame.zoom_ceiling=1.01")
    expect(offer).to_be_visible()
    fresh.get_by_role("button", name="Use Follow").click()
    wait_settled(fresh)
    assert value(fresh, "motion.aim") == "follow"


def test_keyframes_are_set_seen_gone_to_and_dragged_along_the_strip(fresh: Page):
    station(fresh, "Frame")
    fresh.get_by_label("Keyframe of Extra zoom here").click()
    wait_settled(fresh)
    pause_at(fresh, 60)
    enter(fresh, "Extra zoom, 0.1 to 4 ×", "1.3")
    assert [key["frame"] for key in keys(fresh, "frame.extra_zoom")] == [30, 60]
    assert report(fresh)["zoom"] > 1.05 * report(fresh)["zoom_mean"]
    fresh.keyboard.press("[")
    until(fresh, "keen.clock.frame === 30")
    entry = fresh.get_by_label("Extra zoom, 0.1 to 4 ×", exact=True)
    expect(entry).to_have_value("1")
    fresh.keyboard.press("]")
    until(fresh, "keen.clock.frame === 60")
    expect(entry).to_have_value("1.3")
    drag(fresh, on_strip(fresh, 60), on_strip(fresh, 72))
    wait_settled(fresh)
    assert [key["frame"] for key in keys(fresh, "frame.extra_zoom")] == [30, 72]
    until(fresh, "keen.clock.frame === 72")
    assert fresh.complaints == []


def test_keyframes_are_moved_copied_turned_and_deleted_from_their_card(fresh: Page):
    station(fresh, "Frame")
    fresh.get_by_label("Keyframe of Extra zoom here").click()
    wait_settled(fresh)
    fresh.get_by_label("Keyframes one frame later").press("Enter")
    wait_settled(fresh)
    until(fresh, "keen.clock.frame === 31")
    fresh.get_by_label("Keyframes one frame earlier").press("Enter")
    wait_settled(fresh)
    assert [key["frame"] for key in keys(fresh, "frame.extra_zoom")] == [30]
    fresh.get_by_role("button", name="Copy", exact=True).first.click()
    until(fresh, "keen.clock.frame === 30")
    pause_at(fresh, 50)
    fresh.get_by_role("button", name="Paste here").click()
    wait_settled(fresh)
    assert [key["frame"] for key in keys(fresh, "frame.extra_zoom")] == [30, 50]
    fresh.get_by_role("button", name="Make straight").click()
    wait_settled(fresh)
    assert keys(fresh, "frame.extra_zoom")[1]["smooth"] is False
    card = fresh.locator(".key-card")
    for button in card.locator("button:visible").all():
        inside, around = button.bounding_box(), card.bounding_box()
        assert inside["x"] >= around["x"]
        assert inside["x"] + inside["width"] <= around["x"] + around["width"]
    card.get_by_role("button", name="Delete").click()
    wait_settled(fresh)
    assert [key["frame"] for key in keys(fresh, "frame.extra_zoom")] == [30]


def test_a_keyframe_outside_the_range_lands_where_the_playhead_is(fresh: Page):
    unfold(fresh, "Range")
    fresh.get_by_label("Last", exact=True).fill("59")
    fresh.get_by_role("button", name="Use range").click()
    until(fresh, "keen.clip.last === 59 && keen.clip.ready", seconds=60)
    wait_settled(fresh)
    fresh.get_by_label("Last frame of the range").focus()
    for _ in range(10):
        fresh.keyboard.press("ArrowRight")
    until(fresh, "keen.clock.frame === 69")
    station(fresh, "Frame")
    fresh.get_by_label("Keyframe of Extra zoom here").click()
    wait_settled(fresh)
    assert [key["frame"] for key in keys(fresh, "frame.extra_zoom")] == [69]
    fresh.get_by_label("Last", exact=True).fill("89")
    fresh.get_by_role("button", name="Use range").click()
    until(fresh, "keen.clip.last === 89 && keen.clip.ready", seconds=30)


def test_a_moment_is_eased(fresh: Page):
    pause_at(fresh, 45)
    fresh.get_by_role("button", name="Ease this moment").click()
    wait_settled(fresh)
    assert [key["frame"] for key in keys(fresh, "motion.ease")] == [21, 45, 69]
    fresh.keyboard.press("Control+z")
    wait_settled(fresh)
    tightest = report(fresh)["tightest_frame"]
    fresh.get_by_role("button", name="Ease the tightest").click()
    wait_settled(fresh)
    assert tightest in [key["frame"] for key in keys(fresh, "motion.ease")]


def test_the_readout_time_goes_into_the_warp(fresh: Page):
    station(fresh, "Shutter")
    name = fresh.get_by_label("Name of this camera")
    fresh.get_by_role("button", name="Remember").click()
    expect(fresh.get_by_text("Give this camera a name first.")).to_be_visible()
    expect(name).to_be_focused()
    name.fill("Test camera")
    fresh.get_by_role("button", name="Remember").click()
    expect(fresh.get_by_text("Set its readout time first")).to_be_visible()
    enter(fresh, "Readout time, 0 to 60 ms", "20")
    until(fresh, "keen.stage.lattice.columns > 2")
    expect(summary(fresh, "Shutter")).to_contain_text("20 ms")
    expect(fresh.get_by_text("by this station.")).to_be_visible()
    fresh.get_by_role("button", name="Remember").click()
    known = fresh.locator(".known")
    expect(known).to_contain_text("Test camera: 20 ms")
    choose(fresh, "Vibration too")
    expect(summary(fresh, "Shutter")).to_contain_text("strong")
    enter(fresh, "Readout time, 0 to 60 ms", "5")
    known.get_by_role("button", name="Test camera").click()
    wait_settled(fresh)
    assert value(fresh, "shutter.readout") == 20
    fresh.get_by_role("button", name="Find it from this clip").click()
    expect(fresh.get_by_text("Looking at how rows")).to_have_count(0, timeout=20_000)
    assert fresh.complaints == []


def test_a_version_beside_the_present_one_a_detail_and_a_loop(fresh: Page):
    fold = unfold(fresh, "Versions")
    fold.get_by_role("button", name="Keep", exact=True).click()
    expect(fold.get_by_text("Give this version a name first.")).to_be_visible()
    fold.get_by_label("Name of this version").fill("to compare")
    fold.get_by_role("button", name="Keep", exact=True).click()
    expect(fold.get_by_role("button", name="to compare")).to_have_attribute("aria-pressed", "true")
    fresh.get_by_label("Compare with").select_option(label="against to compare")
    until(fresh, "keen.stage.against && keen.stage.against.name === 'to compare'")
    assert fresh.evaluate("keen.view.mode") == "split"
    assert fresh.evaluate("keen.stage.layout()[0].name") == "to compare"
    expect(fresh.get_by_role("radio", name="to compare")).to_be_visible()
    fresh.get_by_label("Compare with").select_option(label="against the original")
    expect(fresh.get_by_role("radio", name="Original")).to_be_visible()
    start = in_stage(fresh, 0.2, 0.3)
    fresh.mouse.move(*start)
    fresh.mouse.wheel(0, -200)
    until(fresh, "keen.stage.zoom > 1")
    centre = fresh.evaluate("keen.stage.centre.x")
    drag(fresh, start, (start[0] + 60, start[1]))
    assert fresh.evaluate("keen.stage.centre.x") < centre
    fresh.get_by_role("button", name="Whole picture").click()
    assert fresh.evaluate("keen.stage.zoom") == 1
    fresh.keyboard.press("+")
    assert fresh.evaluate("keen.stage.zoom") > 1
    fresh.keyboard.press("0")
    assert fresh.evaluate("keen.stage.zoom") == 1
    fresh.keyboard.press(",")
    pause_at(fresh, 36)
    fresh.keyboard.press(".")
    assert fresh.evaluate("keen.clock.loop") == [30, 36]
    fresh.keyboard.press(" ")
    fresh.wait_for_timeout(900)
    # On a busy machine a picture may come late, but the loop takes it back.
    until(fresh, "keen.clock.frame >= 30 && keen.clock.frame <= 36")
    assert fresh.evaluate("keen.clock.frame") < 60  # where it would be without one
    fresh.keyboard.press(" ")
    fresh.get_by_role("button", name="End the loop").click()
    assert fresh.evaluate("keen.clock.loop") is None


def test_going_back_to_a_version_and_forth(fresh: Page):
    fold = unfold(fresh, "Versions")
    fold.get_by_label("Name of this version").fill("plain")
    fold.get_by_label("Name of this version").press("Enter")
    plain = fold.get_by_role("button", name="plain", exact=True)
    expect(plain).to_be_visible()
    enter(fresh, "Calm, 0 to 100", "77")
    expect(plain).to_have_attribute("aria-pressed", "false")
    plain.click()
    expect(plain).to_have_attribute("aria-pressed", "true")
    wait_settled(fresh)
    assert value(fresh, "motion.calm") == 40
    fresh.get_by_role("button", name="Redo").click()
    expect(plain).to_have_attribute("aria-pressed", "false")
    wait_settled(fresh)
    assert value(fresh, "motion.calm") == 77


def test_the_difference_shows_less_change_when_steadied(fresh: Page):
    def change() -> float:
        fresh.keyboard.press("5")
        fresh.evaluate("keen.clock.seek(50, { withBefore: true })")
        until(fresh, "keen.stage.texture.follows(50)")
        return fresh.evaluate(
            "() => { keen.stage.draw(); const c = document.createElement('canvas');"
            " const p = keen.stage.picture; c.width = p.width; c.height = p.height;"
            " const pen = c.getContext('2d'); pen.drawImage(p, 0, 0);"
            " const [w, h] = [c.width / 4, c.height / 4];"
            " const d = pen.getImageData(w, h, 2 * w, 2 * h).data;"
            " let sum = 0; for (let i = 0; i < d.length; i += 4) sum += d[i];"
            " return sum / (d.length / 4); }"
        )

    treated = change()
    fresh.get_by_role("switch", name="Motion on").click()
    wait_settled(fresh)
    pause_at(fresh, 30)
    original = change()
    assert 0 < treated < 0.8 * original


def test_what_somebody_else_changes_meanwhile_is_kept_and_said(fresh: Page):
    """Another editor is a request that this page knows nothing of."""
    fresh.evaluate(
        """() => {
          const { clip } = keen;
          const treatment = structuredClone(Alpine.raw(clip.treatment));
          const token = document.querySelector('meta[name="csrf-token"]').content;
          window.elsewhere = (change) => {
            Object.assign(treatment.motion, change);
            return fetch(`${clip.base}/treatment`, {
              method: "POST", body: JSON.stringify({ treatment, keep: true }),
              headers: { "Content-Type": "application/json", "X-CSRFToken": token },
            });
          };
        }"""
    )
    fresh.evaluate("elsewhere({ calm: 71 })")
    choose(fresh, "Lock off")
    wait_settled(fresh)
    assert value(fresh, "motion.aim") == "lock_off"
    assert value(fresh, "motion.calm") == 71
    expect(fresh.get_by_text("Changed elsewhere meanwhile: Calm.")).to_be_visible()
    # The same setting: what is now is shown, and why.
    fresh.evaluate("elsewhere({ aim: 'lock_off', calm: 22 })")
    enter(fresh, "Calm", "55")
    expect(fresh.get_by_text("Calm has been changed elsewhere meanwhile")).to_be_visible()
    wait_settled(fresh)
    assert value(fresh, "motion.calm") == 22
    fresh.complaints.clear()  # of the answer 409
    enter(fresh, "Calm", "55")
    wait_settled(fresh)
    assert value(fresh, "motion.calm") == 55
