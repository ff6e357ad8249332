"""Looking closely: exact view, scopes, and what Finish says."""

from __future__ import annotations

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import (
    drag,
    enter,
    in_stage,
    report,
    reset,
    station,
    summary,
    tools,
    unfold,
    value,
)
from tools.browser import bytes_of, pause_at, until, wait_settled

pytestmark = pytest.mark.browser
EXACT = "() => Boolean(keen.stage.exactNow)"
CANVAS = "c => c.getContext('2d').getImageData(0, 0, c.width, c.height).data"
COUNT = "() => Alpine.$data(document.querySelector('.scopes')).count"


def exact(page: Page) -> None:
    until(page, EXACT, seconds=60)


def toggle(page: Page, name: str) -> None:
    page.get_by_role("toolbar").get_by_role("button", name=name, exact=True).click()


# --- exact view -----------------------------------------------------------------------------------


def test_a_frame_at_rest_is_drawn_as_an_export_draws_it(fresh: Page):
    fresh.mouse.move(*in_stage(fresh, 0.3, 0.3))
    fresh.keyboard.press("x")
    exact(fresh)
    sizes = "Object.values(keen.stage.exact.pictures).map((p) => [p.width, p.height])"
    pixels = fresh.evaluate(sizes)
    output = report(fresh)["output"]
    assert pixels == [[1280, 720], [output["width"], output["height"]]]
    # At 100 %: a pixel of the output is a pixel of the canvas.
    box = fresh.evaluate("keen.stage.layout().at(-1).box")
    assert box["width"] == pytest.approx(output["width"], rel=0.01)
    expect(fresh.get_by_text("Exact view of frame 30")).to_be_visible()
    for frame in (31, 30):
        pause_at(fresh, frame)
        exact(fresh)
        assert fresh.evaluate("keen.stage.exact.frame") == frame
    toggle(fresh, "Exact")
    until(fresh, "() => keen.stage.exact === null")
    # Nothing is drawn twice for it once it is off.
    fresh.evaluate(
        "() => { keen.draws = 0; const { draw } = keen.stage; const s = keen.stage;"
        " s.draw = () => { keen.draws += 1; draw.call(s); }; keen.from = s.drawn; }"
    )
    fresh.evaluate("keen.clock.play()")
    fresh.wait_for_timeout(1500)
    fresh.evaluate("keen.clock.pause()")
    drawn, frames = fresh.evaluate("[keen.draws, keen.stage.drawn - keen.from]")
    assert frames > 3
    assert drawn < 1.5 * frames
    assert fresh.complaints == []


def test_the_divider_stays_on_its_line_when_looked_at_closely(fresh: Page):
    fresh.keyboard.press("3")
    fresh.mouse.move(*in_stage(fresh, 0.8, 0.3))
    fresh.keyboard.press("x")
    until(fresh, "() => keen.stage.zoom > 1")
    fresh.wait_for_timeout(200)
    left = float(fresh.locator(".divider").evaluate("d => parseFloat(d.style.left)"))
    assert left == pytest.approx(fresh.evaluate("keen.stage.line().point[0] / keen.stage.ratio"))
    fresh.keyboard.press("x")
    fresh.keyboard.press("0")


def test_it_waits_while_playing_and_follows_every_change(fresh: Page):
    toggle(fresh, "Exact")
    exact(fresh)
    fresh.evaluate("keen.clock.play()")
    expect(fresh.get_by_text("Exact view waits until the picture rests.")).to_be_visible()
    assert not fresh.evaluate(EXACT)
    fresh.evaluate("keen.clock.pause()")
    exact(fresh)
    before = fresh.evaluate("keen.stage.exact.answer === Alpine.raw(keen.clip.answer)")
    assert before
    fresh.evaluate("keen.clip.change('frame.extra_zoom', 1.1)")
    wait_settled(fresh)
    exact(fresh)
    assert fresh.evaluate("keen.stage.exact.answer === Alpine.raw(keen.clip.answer)")
    for mode in ("original", "split", "side", "difference", "treated"):
        fresh.evaluate("mode => keen.view.show(mode)", mode)
        fresh.wait_for_timeout(100)
    toggle(fresh, "Exact")
    assert fresh.complaints == []


def test_the_strongest_fringe_is_enlarged_beside_the_sliders(fresh: Page):
    station(fresh, "Glass")
    unfold(fresh, "Colours by hand")
    fresh.get_by_role("button", name="Exact view").click()
    exact(fresh)
    pair = tools(fresh, "Glass").locator(".loupe-pair canvas")
    expect(pair.first).to_be_visible()
    for k in range(2):
        assert bytes_of(pair.nth(k), CANVAS).std() > 5
    toggle(fresh, "Exact")
    assert fresh.complaints == []


def test_a_map_of_nothing_but_fringes_takes_the_place_of_the_picture(fresh: Page):
    reset(fresh, "motion.on=false", "glass.red_r=4")
    station(fresh, "Glass")
    unfold(fresh, "Colours by hand")
    fresh.get_by_role("button", name="Fringe map").click()
    until(fresh, "() => Boolean(keen.stage.exactNow?.mapped)", seconds=60)
    expect(fresh.get_by_text("Nothing but the fringes of frame")).to_be_visible()
    told = tools(fresh, "Glass").locator(".loupe").get_by_role("status")
    expect(told).to_contain_text("px off green")
    fresh.get_by_role("button", name="Fringe map").click()
    until(fresh, "() => keen.stage.exactNow && !keen.stage.exactNow.mapped", seconds=60)
    toggle(fresh, "Exact")
    assert fresh.complaints == []


# --- a loop ---------------------------------------------------------------------------------------


def test_a_loop_is_drawn_exactly_and_played_at_its_own_size(fresh: Page):
    fresh.evaluate("keen.clip.setLoop(20, 32)")
    toggle(fresh, "Exact loop")
    expect(fresh.get_by_text("Drawing the loop exactly")).to_be_visible()
    film = fresh.locator(".exact-loop")
    expect(film).to_be_visible(timeout=60_000)
    expect(film.get_by_role("status")).to_contain_text("Frames 20 to 32, as an export draws them")
    plays = "() => [...document.querySelectorAll('.exact-loop video')].every(v => v.videoWidth)"
    until(fresh, plays)
    sizes = "[...document.querySelectorAll('.exact-loop video')].map(v => v.videoWidth)"
    assert fresh.evaluate(sizes) == [1280, report(fresh)["output"]["width"]]
    place = "document.querySelector('.exact-loop video:not(.is-behind)').style.objectPosition"
    fresh.mouse.move(*in_stage(fresh, 0.25, 0.75))
    until(fresh, f"() => ({place}).startsWith('25')")
    fresh.keyboard.down("o")
    expect(film.get_by_role("status")).to_contain_text("recorded")
    fresh.keyboard.up("o")
    # A change of the treatment makes it stale: it goes.
    fresh.evaluate("keen.clip.change('frame.extra_zoom', 1.1)")
    wait_settled(fresh)
    expect(film).to_be_hidden()
    fresh.keyboard.press("Shift+X")
    expect(film).to_be_visible(timeout=60_000)
    fresh.keyboard.press("Escape")
    expect(film).to_be_hidden()
    assert fresh.evaluate("keen.clip.loop") is None
    assert fresh.complaints == []


# --- scopes ---------------------------------------------------------------------------------------


def scope(page: Page, part: str) -> np.ndarray:
    drawn = bytes_of(page.locator(f".scopes canvas[x-ref={part}]"), CANVAS)
    return drawn.reshape(160, 256, 4).astype(float)


def asked(page: Page, before: int) -> None:
    until(page, f"n => ({COUNT})() > n", before)
    page.wait_for_timeout(150)


def test_scopes_show_the_frame_recorded_and_treated(fresh: Page):
    width = fresh.locator(".stage").bounding_box()["width"]
    toggle(fresh, "Scopes")
    asked(fresh, 0)
    assert fresh.locator(".stage").bounding_box()["width"] < width - 200  # beside, not over
    before = scope(fresh, "treated")
    assert before[..., :3].std() > 5
    count = fresh.evaluate(COUNT)
    reset_light = "keen.clip.adopt('glass', { loss_r2: 2, limit: 4 }, false)"
    fresh.evaluate(reset_light)
    wait_settled(fresh)
    asked(fresh, count)
    assert np.abs(scope(fresh, "treated") - before).mean() > 1
    for name in ("R G B", "Radius", "Luma"):
        was = scope(fresh, "treated")
        fresh.get_by_role("radio", name=name).click()
        fresh.wait_for_timeout(200)
        assert np.abs(scope(fresh, "treated") - was).mean() > 1
    fresh.keyboard.press("w")
    expect(fresh.locator(".scopes")).to_be_hidden()
    assert fresh.complaints == []


def test_rows_are_dragged_on_the_picture(fresh: Page):
    toggle(fresh, "Scopes")
    asked(fresh, 0)
    panel = fresh.locator(".scopes")
    panel.get_by_role("button", name="Rows …").click()
    drag(fresh, in_stage(fresh, 0.5, 0.4), in_stage(fresh, 0.5, 0.6))
    expect(panel.get_by_role("status")).to_contain_text("rows ")
    rows = panel.get_by_role("status").inner_text()
    panel.get_by_role("button", name="Rows higher up").click()
    assert panel.get_by_role("status").inner_text() != rows
    panel.get_by_role("button", name="Rows further down").click()
    panel.get_by_role("button", name="Whole frame").click()
    expect(panel.get_by_role("status")).to_have_text("whole frame")
    count = fresh.evaluate(COUNT)
    fresh.evaluate("keen.clock.play()")
    asked(fresh, count + 3)  # live
    fresh.evaluate("keen.clock.pause()")
    assert fresh.complaints == []


# --- finish ---------------------------------------------------------------------------------------


def test_finish_says_what_scaling_took_and_what_is_put_back(fresh: Page):
    reset(fresh, "motion.on=false", "frame.extra_zoom=1.15")
    station(fresh, "Finish")
    expect(tools(fresh, "Finish").get_by_text("nothing is done")).to_be_visible()
    fresh.get_by_role("switch", name="Finish on").click()
    wait_settled(fresh)
    assert value(fresh, "finish.on") is True
    expect(summary(fresh, "Finish")).to_contain_text("puts back × 1.15")
    expect(tools(fresh, "Finish").get_by_text("Puts back what × 1.15 took")).to_be_visible()
    zoom = report(fresh)["zoom"]
    enter(fresh, "Beyond, 0 to 200 %", "80")
    assert report(fresh)["zoom"] == zoom
    expect(tools(fresh, "Finish").get_by_text("more than half as much again")).to_be_visible()
    enter(fresh, "Even sharpness, 0 to 100 %", "100")
    expect(tools(fresh, "Finish").get_by_text("blurred by motion")).to_be_visible()
    assert report(fresh)["evened_share"] is not None
    enter(fresh, "Match grain, 0 to 100 %", "100")
    assert value(fresh, "finish.grain") == 100
    told = report(fresh)["sharpening"]
    assert told["gain"] == pytest.approx(told["gain_lost"] + 0.8)
    reset(fresh, "motion.on=false", "finish.on=true")
    expect(summary(fresh, "Finish")).to_contain_text("nothing was lost")
    assert fresh.complaints == []


def test_the_picture_is_sharper_on_the_page(fresh: Page):
    reset(fresh, "motion.on=false", "frame.extra_zoom=1.2", "finish.on=false")
    small = "() => keen.stage.small(480).bytes"
    plain = bytes_of(fresh, small).reshape(2, -1, 480, 4)[1, ..., 1].astype(float)
    reset(fresh, "motion.on=false", "frame.extra_zoom=1.2", "finish.on=true", "finish.beyond=200")
    sharp = bytes_of(fresh, small).reshape(2, -1, 480, 4)[1, ..., 1].astype(float)
    assert np.abs(np.diff(sharp, axis=1)).mean() > 1.03 * np.abs(np.diff(plain, axis=1)).mean()
    assert fresh.complaints == []
