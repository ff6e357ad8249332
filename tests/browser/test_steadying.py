"""Marks, models, held points, rows, keys and comparing, as a person uses them."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import report
from tools.browser import pause_at, until

pytestmark = pytest.mark.browser
DATA = "Alpine.$data(document.querySelector('.clip'))"


@pytest.fixture
def fresh(opened: Page) -> Page:
    """The clip with the treatment it began with, and no view of anybody's."""
    opened.evaluate(
        f"() => {{ const d = {DATA}; d.treatment.motion.aside = []; d.treatment.motion.hold = [];"
        " d.treatment.motion.steer_by = null; d.treatment.motion.aim = 'follow';"
        " d.treatment.motion.model = 'similarity'; d.treatment.keys = {};"
        " d.treatment.frame.edge = 'fill'; d.treatment.shutter.readout = 0;"
        " if (d.marks) d.overlay('marks'); d.solve(true); }"
    )
    until(opened, f"{DATA}.treatment.motion.model === 'similarity' && !{DATA}.solving")
    pause_at(opened, 30)
    return opened


def station(page: Page, name: str) -> None:
    page.locator(".station-open").filter(has_text=name).click()


def unfold(page: Page, name: str) -> None:
    """Open a fold, unless it was left open."""
    fold = page.locator("details").filter(has=page.locator("summary", has_text=name))
    if fold.get_attribute("open") is None:
        fold.locator("summary").click()


def open_marks(page: Page) -> None:
    unfold(page, "Marks")
    if not page.evaluate(f"{DATA}.marks"):
        page.evaluate(f"{DATA}.overlay('marks')")
    until(page, f"{DATA}.marks && keen.stage.markings.sets.size > 0")


def test_a_lasso_sets_aside_what_is_inside_and_is_put_back(fresh: Page):
    open_marks(fresh)
    fresh.get_by_role("button", name="Lasso").click()
    box = fresh.locator(".stage").bounding_box()
    corners = [(0.55, 0.2), (0.9, 0.2), (0.9, 0.75), (0.55, 0.75), (0.55, 0.2)]
    places = [(box["x"] + u * box["width"], box["y"] + v * box["height"]) for u, v in corners]
    fresh.mouse.move(*places[0])
    fresh.mouse.down()
    for place in places[1:]:
        fresh.mouse.move(*place, steps=8)
    fresh.mouse.up()
    until(fresh, f"{DATA}.asides.length === 1")
    expect(fresh.locator(".subjects").last).to_contain_text("Lasso at frame 30")
    aside = "[...(keen.stage.markings.sets.get(30)?.marks || [])].filter((_, i) => i % 4 === 2)"
    until(fresh, f"{aside}.includes(2)")
    # Still there after leaving and coming back.
    fresh.reload()
    until(fresh, f"window.keen && keen.stage.loaded && {DATA}.asides.length === 1")
    fresh.get_by_role("button", name="Put back").click()
    until(fresh, f"{DATA}.asides.length === 0")
    fresh.keyboard.press("Control+z")
    until(fresh, f"{DATA}.asides.length === 1")
    assert fresh.complaints == []


def test_a_mesh_lessens_the_wobble_on_the_price_line(fresh: Page):
    before = report(fresh)["wobble_after"]
    fresh.get_by_role("radio", name="Mesh").click()
    until(fresh, "keen.stage.lattice.columns > 2")
    assert report(fresh)["wobble_after"] < before
    expect(fresh.locator(".price")).to_contain_text("Wobble")
    fresh.get_by_role("radio", name="Let the clip decide").click()
    until(fresh, f"{DATA}.why.includes('not fitted to')")


def test_a_point_is_placed_followed_and_held(fresh: Page):
    fresh.get_by_role("radio", name="Hold").click()
    expect(fresh.locator(".stage-note")).to_contain_text("Place a point")
    box = fresh.locator(".stage").bounding_box()
    fresh.evaluate(f"{DATA}.overlay('marks')")
    until(fresh, "keen.stage.markings.spots.length > 20")
    # On a mark that steers, near the middle: there is something to hold on to.
    x, y = fresh.evaluate(
        "() => { const s = keen.stage; const [w, h] = [s.picture.width / 2, s.picture.height / 2];"
        " const near = [...s.markings.spots].sort((a, b) => Math.hypot(a[0] - w, a[1] - h)"
        " - Math.hypot(b[0] - w, b[1] - h)); return [near[0][0] / s.ratio, near[0][1] / s.ratio]; }"
    )
    fresh.get_by_role("button", name="Place a point").click()
    fresh.mouse.click(box["x"] + x, box["y"] + y)
    until(fresh, f"{DATA}.heldWords.startsWith('known in')", seconds=60)
    hold = report(fresh)["hold"]
    assert hold["points"] == 1
    assert hold["known_frames"] > 30
    fresh.get_by_role("button", name="Hold it at").click()
    fresh.mouse.move(box["x"] + x, box["y"] + y)
    fresh.mouse.down()
    fresh.mouse.move(box["x"] + x + 15, box["y"] + y + 8, steps=4)
    fresh.mouse.up()
    until(fresh, f"{DATA}.treatment.motion.hold_at && {DATA}.holding === null")
    until(fresh, f"!{DATA}.solving && !{DATA}.wish")
    hold = report(fresh)["hold"]
    fresh.locator("body").click(position={"x": 400, "y": 10})
    fresh.keyboard.press("f")
    until(fresh, "f => keen.stage.frame === f", hold["furthest_frame"])
    fresh.get_by_role("button", name="Remove").click()
    until(fresh, f"{DATA}.heldList.length === 0")
    fresh.evaluate(f"{DATA}.overlay('marks')")


def test_keys_are_set_seen_and_gone_to(fresh: Page):
    station(fresh, "Frame")
    fresh.get_by_label("Keyframe of extra zoom here").click()
    until(fresh, f"{DATA}.keyFrames().length === 1")
    pause_at(fresh, 60)
    entry = fresh.get_by_label("Extra zoom, 0.1 to 4")
    entry.fill("1.3")
    entry.press("Tab")
    until(fresh, f"{DATA}.keyFrames().length === 2")
    until(fresh, f"{DATA}.report.zoom > 1.05 * {DATA}.report.zoom_mean")
    fresh.locator("body").click(position={"x": 400, "y": 10})
    fresh.keyboard.press("[")
    until(fresh, "keen.stage.frame === 30")
    assert fresh.get_by_label("Extra zoom, 0.1 to 4").input_value() == "1"
    fresh.keyboard.press("]")
    until(fresh, "keen.stage.frame === 60")
    expect(fresh.get_by_label("Extra zoom, 0.1 to 4")).to_have_value("1.3")


def test_a_moment_is_eased(fresh: Page):
    pause_at(fresh, 45)
    fresh.get_by_role("button", name="Ease this moment").click()
    until(fresh, f"{DATA}.treatment.keys['motion.ease']?.length === 3")
    assert 45 in fresh.evaluate(f"{DATA}.keyFrames()")


def test_the_readout_time_goes_into_the_warp(fresh: Page):
    station(fresh, "Shutter")
    entry = fresh.get_by_label("Readout time, 0 to 60 ms")
    entry.fill("20")
    entry.press("Tab")
    until(fresh, "keen.stage.lattice.columns > 2")
    expect(fresh.locator(".station").nth(1)).to_contain_text("20 ms")
    fresh.get_by_label("Name of this camera").fill("Test camera")
    fresh.get_by_role("button", name="Remember").click()
    expect(fresh.locator(".known")).to_contain_text("Test camera: 20 ms")
    fresh.get_by_role("button", name="Find it from this clip").click()
    until(fresh, f"{DATA}.readoutWords && {DATA}.readoutWords !== 'Looking …'")
    assert fresh.complaints == []


def test_a_version_beside_the_present_one_a_detail_and_a_loop(fresh: Page):
    unfold(fresh, "Versions")
    fresh.get_by_label("Name of this version").fill("to compare")
    fresh.get_by_role("button", name="Keep", exact=True).click()
    until(fresh, f"{DATA}.versions.some(v => v.name === 'to compare')")
    fresh.get_by_label("Compare with").select_option(label="against to compare")
    until(fresh, "keen.stage.against && keen.stage.against.name === 'to compare'")
    assert fresh.evaluate("keen.stage.mode") == "split"
    assert fresh.evaluate("keen.stage.layout()[0].name") == "to compare"
    box = fresh.locator(".stage").bounding_box()
    fresh.mouse.move(box["x"] + 200, box["y"] + 150)
    fresh.mouse.wheel(0, -200)
    until(fresh, "keen.stage.zoom > 1")
    centre = fresh.evaluate("keen.stage.centre.x")
    fresh.mouse.down()
    fresh.mouse.move(box["x"] + 260, box["y"] + 150, steps=3)
    fresh.mouse.up()
    assert fresh.evaluate("keen.stage.centre.x") < centre
    fresh.locator("body").click(position={"x": 400, "y": 10})
    fresh.keyboard.press("0")
    assert fresh.evaluate("keen.stage.zoom") == 1
    fresh.keyboard.press(",")
    pause_at(fresh, 36)
    fresh.keyboard.press(".")
    assert fresh.evaluate("keen.stage.loop") == [30, 36]
    fresh.keyboard.press(" ")
    fresh.wait_for_timeout(900)
    assert fresh.evaluate("keen.stage.frame") <= 37
    fresh.keyboard.press(" ")
    fresh.keyboard.press("Escape")
    assert fresh.evaluate("keen.stage.loop") is None


def test_the_difference_shows_less_change_when_steadied(fresh: Page):
    fresh.evaluate(
        "() => { const s = keen.stage; const still = new Float32Array(90 * 8);"
        " for (let i = 0; i < 90; i++) still.set([0, 0, 1, 0, 0, 1, 1, 1], 8 * i);"
        " s.kept = s.lattice; s.still = new s.lattice.constructor(2, 2, still);"
        " s.mode = 'difference'; }"
    )

    def change(lattice: str) -> float:
        fresh.evaluate("name => { keen.stage.lattice = keen.stage[name]; }", lattice)
        fresh.evaluate("keen.stage.seek(50)")
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

    treated = change("kept")
    pause_at(fresh, 30)
    original = change("still")
    assert 0 < treated < 0.8 * original
