"""The application as a person uses it: real server, real workers, real browser."""

from __future__ import annotations

import base64
from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, Request, Route, expect

from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan
from keen_horizon.launch.running import Running
from tests.browser.conftest import on_strip, report, reset, summary, value
from tools.browser import pause_at, until, wait_ready, wait_settled

pytestmark = pytest.mark.browser


def test_from_dropping_a_file_to_seeing_it_steady_takes_no_decision(opened: Page):
    until(opened, "!keen.clock.video.paused && keen.stage.frame > 5")
    assert opened.evaluate("keen.view.mode") == "treated"
    assert report(opened)["shake_removed"] > 80
    expect(opened.locator(".price")).to_contain_text("% of the shake removed")
    assert opened.complaints == []


def test_every_step_and_seek_is_exact_to_the_frame(opened: Page):
    pause_at(opened, 40)
    opened.keyboard.press("ArrowRight")
    until(opened, "keen.stage.frame === 41")
    opened.keyboard.press("Shift+ArrowLeft")
    until(opened, "keen.stage.frame === 31")
    opened.keyboard.press("End")
    until(opened, "keen.stage.frame === 89")
    opened.keyboard.press("Home")
    until(opened, "keen.stage.frame === 0")
    x, y = on_strip(opened, 44)
    opened.mouse.click(x, y - 30)
    until(opened, "keen.stage.frame === 44")


def picture(page: Page) -> np.ndarray:
    """What the stage shows, cut to the picture's box, grey."""
    data, box = page.evaluate(
        "() => { keen.stage.draw(); const l = keen.stage.layout().at(-1);"
        " return [keen.stage.picture.toDataURL('image/png'), l.box]; }"
    )
    raw = np.frombuffer(base64.b64decode(data.split(",")[1]), np.uint8)
    image = cv2.cvtColor(cv2.imdecode(raw, cv2.IMREAD_COLOR), cv2.COLOR_BGR2GRAY)
    # The box has fractions of pixels; sample it exactly.
    scale = box["width"] / 960
    m = np.array([
        [scale, 0, box["left"] + 0.5 * scale - 0.5], [0, scale, box["top"] + 0.5 * scale - 0.5]
    ])  # fmt: skip
    return cv2.warpAffine(
        image, m, (960, 540), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    ).astype(np.float32)


def apart(one: np.ndarray, two: np.ndarray) -> float:
    """How far apart two pictures lie, px: the affine map between them at the farthest corner.

    Evangelidis, Psarakis, *Parametric image alignment using enhanced correlation coefficient
    maximization*, PAMI 2008, as OpenCV has it; to a few hundredths of a pixel.
    """
    soft = [cv2.GaussianBlur(p, (0, 0), 1.5) for p in (one, two)]
    steps = (cv2.TERM_CRITERIA_COUNT | cv2.TERM_CRITERIA_EPS, 200, 1e-6)
    fit = np.eye(2, 3, dtype=np.float32)
    _, fit = cv2.findTransformECC(*soft, fit, cv2.MOTION_AFFINE, steps)
    height, width = one.shape
    corners = np.array([[0, 0, 1], [width, 0, 1], [0, height, 1], [width, height, 1]])
    return float(np.linalg.norm(corners @ fit.T - corners[:, :2], axis=1).max())


def test_preview_and_export_agree(opened: Page, tmp_path: Path):
    expected = {}
    for frame in (10, 37, 80):
        pause_at(opened, frame)
        expected[frame] = picture(opened)
    # The pictures themselves differ by more, or this would prove nothing.
    opened.evaluate("keen.view.show('original')")
    assert apart(picture(opened), expected[80]) > 2
    opened.get_by_role("link", name="Export").click()
    opened.wait_for_selector(".export-fields option", state="attached")
    opened.locator("form button[type=submit]").click()
    download = opened.get_by_role("link", name="Download")
    download.wait_for(timeout=90_000)
    with opened.expect_download() as caught:
        download.click()
    path = tmp_path / caught.value.suggested_filename
    caught.value.save_as(path)
    assert path.name.endswith("-steady.mp4")
    found = scan(path)
    assert found.probe.frame_count == 90
    assert found.probe.sound is not None
    for made in frames(path, found, 0, 89):
        if made.index in expected:
            luma = (made.planes[0].astype(np.float32) - 16) * 255 / 219
            small = cv2.resize(luma, (960, 540), interpolation=cv2.INTER_AREA)
            assert apart(expected[made.index], small) < 0.5
    opened.locator("summary").first.click()
    expect(opened.locator(".figures").first).to_contain_text("Picture kept")


def test_moving_a_slider_changes_picture_price_and_words(opened: Page):
    pause_at(opened, 40)
    before, price = picture(opened), report(opened)["picture_kept"]
    calm = f"calm {value(opened, 'motion.calm'):g}"
    # The range input itself: one key is one step.
    opened.locator("#motion-calm").focus()
    for _ in range(6):
        opened.keyboard.press("PageUp")
    until(
        opened,
        "p => keen.clip.answer.report.picture_kept < p - 0.5",
        arg=price,
    )
    expect(summary(opened, "Motion")).not_to_contain_text(calm)
    assert np.abs(picture(opened) - before).mean() > 1
    opened.locator("body").click(position={"x": 400, "y": 10})
    for _ in range(6):
        if f"calm {value(opened, 'motion.calm'):g}" == calm:
            break
        opened.keyboard.press("Control+z")
        opened.wait_for_timeout(150)
    expect(summary(opened, "Motion")).to_contain_text(calm)
    assert report(opened)["picture_kept"] == pytest.approx(price)


def test_a_wrong_number_is_refused_in_words_and_taken_back(opened: Page):
    entry = opened.get_by_label("Calm, 0 to 100")
    calm = value(opened, "motion.calm")
    entry.fill("140")
    entry.press("Tab")
    expect(opened.get_by_role("alert").first).to_contain_text("a number from 0 to 100")
    assert value(opened, "motion.calm") == calm
    opened.complaints.clear()  # the browser reports the refused request


def test_edge_rules_views_and_overlays(opened: Page):
    reset(opened, "motion.calm=90")
    pause_at(opened, 80)
    opened.locator(".station-open").filter(has_text="Frame").click()
    opened.get_by_role("radio", name="Leave").click()
    expect(summary(opened, "Frame")).to_contain_text("bare")
    hatched = picture(opened)
    opened.keyboard.press("e")
    opened.wait_for_timeout(100)
    plain = picture(opened)
    assert (np.abs(hatched - plain) > 20).mean() > 0.002
    opened.keyboard.press("e")
    opened.get_by_role("radio", name="Trim").click()
    until(opened, "keen.stage.output.width < 1280")
    opened.get_by_role("radio", name="Fill").click()
    until(opened, "keen.stage.output.width === 1280")
    for key, mode in (("1", "original"), ("3", "split"), ("4", "side"), ("2", "treated")):
        opened.keyboard.press(key)
        assert opened.evaluate("keen.view.mode") == mode
    treated = picture(opened)
    opened.keyboard.down("o")
    peeked = picture(opened)
    opened.keyboard.up("o")
    assert np.abs(peeked - treated).mean() > 1
    assert np.abs(picture(opened) - treated).mean() < 0.5
    for name, key in (("marks", "m"), ("grid", "g")):
        opened.keyboard.press(key)
        if name == "marks":
            until(opened, "keen.stage.markings.sets.size > 0")
        inked = opened.evaluate(
            "() => { keen.stage.draw(); const o = keen.stage.overlay.canvas;"
            " return o.getContext('2d').getImageData(0, 0, o.width, o.height).data"
            ".reduce((n, v) => n + (v > 0), 0); }"
        )
        assert inked > 1000
        opened.keyboard.press(key)


def test_the_divider_can_be_dragged_and_turned(opened: Page):
    opened.keyboard.press("3")
    box = opened.locator(".divider").bounding_box()
    start = (box["x"] + 2, box["y"] + 13)
    opened.mouse.move(*start)
    opened.mouse.down()
    opened.mouse.move(start[0] + 150, start[1], steps=4)
    opened.mouse.up()
    assert opened.evaluate("keen.stage.split.x") > 0.6
    knob = opened.locator(".divider-knob").bounding_box()
    opened.mouse.move(knob["x"] + 6, knob["y"] + 6)
    opened.mouse.down()
    opened.mouse.move(knob["x"] + 90, knob["y"] - 30, steps=4)
    opened.mouse.up()
    assert abs(opened.evaluate("keen.stage.split.turn")) > 0.5
    # By keys, too.
    before = opened.evaluate("[keen.stage.split.x, keen.stage.split.turn]")
    opened.locator(".divider").focus()
    opened.keyboard.press("ArrowLeft")
    opened.keyboard.press("Shift+ArrowRight")
    after = opened.evaluate("[keen.stage.split.x, keen.stage.split.turn]")
    assert after[0] < before[0]
    assert after[1] != before[1]
    opened.keyboard.press("2")


def test_the_buttons_under_the_picture_do_what_they_say(opened: Page):
    bar = opened.get_by_role("toolbar", name="Playing and viewing")
    pause_at(opened, 40)
    bar.get_by_role("button", name="Play").click()
    until(opened, "!keen.clock.video.paused")
    bar.get_by_role("button", name="Pause").click()
    until(opened, "keen.clock.video.paused")
    pause_at(opened, 40)
    bar.get_by_role("button", name="One frame on").click()
    until(opened, "keen.stage.frame === 41")
    bar.get_by_role("button", name="One frame back").click()
    until(opened, "keen.stage.frame === 40")
    sound = bar.get_by_role("button", name="Sound")
    sound.click()
    assert not opened.evaluate("keen.clock.video.muted")
    sound.click()
    assert opened.evaluate("keen.clock.video.muted")
    bar.get_by_role("radio", name="Side by side").click()
    assert opened.evaluate("keen.stage.layout().length") == 2
    bar.get_by_role("radio", name="Treated").click()
    for name, state in (("Grid", "grid"), ("Edges", "bare"), ("Marks", "marks")):
        before = opened.evaluate("name => keen.view[name]", state)
        button = bar.get_by_role("button", name=name, exact=True)
        button.click()
        assert opened.evaluate("name => keen.view[name]", state) is not before
        expect(button).to_have_attribute("aria-pressed", str(not before).lower())
        button.click()
    assert opened.complaints == []


def test_the_strip_shows_each_component_and_the_price_leads_to_its_frame(opened: Page):
    drawn = "keen.strip.canvas.toDataURL()"
    pause_at(opened, 0)
    seen = set()
    for component in ("updown", "roll", "size", "across"):
        opened.get_by_label("Path", exact=True).select_option(component)
        opened.wait_for_timeout(200)
        seen.add(opened.evaluate(drawn))
    assert len(seen) == 4
    item = opened.locator(".price-go:visible").first
    label = item.get_attribute("aria-label")
    assert label.endswith(": go there")
    pause_at(opened, 1)
    item.click()
    until(opened, "keen.stage.frame !== 1")


def test_the_space_bar_plays_whatever_was_clicked_last(opened: Page):
    pause_at(opened, 40)
    opened.get_by_role("radio", name="Lock off").click()
    opened.keyboard.press(" ")
    until(opened, "!keen.clock.video.paused")
    expect(opened.get_by_role("radio", name="Lock off")).to_be_focused()  # it keeps its place
    opened.keyboard.press("k")
    until(opened, "keen.clock.video.paused")
    # With the keyboard, arrows choose.
    opened.get_by_role("radio", name="Lock off").focus()
    opened.keyboard.press("ArrowLeft")
    expect(opened.get_by_role("radio", name="Follow")).to_have_attribute("aria-checked", "true")
    expect(opened.get_by_role("radio", name="Follow")).to_be_focused()


def test_the_range_is_dragged_and_its_ends_are_seen(opened: Page):
    opened.get_by_text("Range", exact=True).click()
    first = opened.get_by_label("First frame of the range")
    opened.wait_for_timeout(300)  # it is brought into view
    box = first.bounding_box()
    opened.mouse.move(box["x"] + 6, box["y"] + 9)
    opened.mouse.down()
    opened.mouse.move(box["x"] + 80, box["y"] + 9, steps=4)
    opened.mouse.up()
    wanted = int(first.get_attribute("aria-valuenow"))
    assert 20 < wanted < 40
    until(opened, "n => keen.stage.frame === n", wanted)
    opened.get_by_label("Last frame of the range").focus()
    opened.keyboard.press("PageDown")
    last = opened.get_by_label("Last", exact=True)
    assert last.input_value() == "64"
    end = opened.get_by_label("Last frame of the range").bounding_box()
    opened.mouse.move(end["x"] + 6, end["y"] + 9)
    opened.mouse.down()
    opened.mouse.move(end["x"] + 30, end["y"] + 9, steps=4)
    opened.mouse.up()
    assert int(last.input_value()) > 64
    first.focus()
    opened.keyboard.press("ArrowLeft")
    assert first.get_attribute("aria-valuenow") == str(wanted - 1)
    pause_at(opened, 12)
    opened.get_by_role("button", name="Begin here").click()
    pause_at(opened, 70)
    opened.get_by_role("button", name="End here").click()
    assert (first.get_attribute("aria-valuenow"), last.input_value()) == ("12", "70")
    expect(opened.get_by_role("button", name="Use range")).to_be_enabled()


def test_the_curve_names_the_start_that_it_bends_at(fresh: Page):
    bend = fresh.get_by_role("button", name="from this curve")
    bend.wait_for(timeout=30_000)
    assert "more calm buys less than it costs" in bend.get_attribute("title")
    bend.click()
    wait_settled(fresh)
    expect(bend).to_have_attribute("aria-pressed", "true")
    assert report(fresh)["picture_kept"] >= 85
    kept = f"keeps {report(fresh)['picture_kept']:.0f} %"
    expect(bend).to_contain_text(kept)


def test_a_page_that_finds_nothing_solved_asks_a_worker_for_it(opened: Page):
    """As after an upgrade, or of a long clip: what is asked then is not something that slides."""
    asked = []

    def unsolved(route: Route) -> None:
        found = route.fetch()
        route.fulfill(json=found.json() | {"whole": False})

    def heard(request: Request) -> None:
        if request.url.split("?")[0].endswith("/treatment"):
            asked.append(request.post_data_json["sliding"])

    opened.route("**/solution*", unsolved)
    opened.on("request", heard)
    opened.reload()
    wait_ready(opened)
    opened.unroute("**/solution*")
    opened.remove_listener("request", heard)
    assert asked[0] is False


def test_versions_and_range(opened: Page):
    opened.get_by_text("Versions", exact=True).click()
    opened.get_by_placeholder("Name of this version").fill("first try")
    opened.get_by_role("button", name="Keep", exact=True).click()
    expect(opened.locator(".versions")).to_contain_text("first try")
    opened.get_by_label("First", exact=True).fill("10")
    opened.get_by_label("Last", exact=True).fill("59")
    opened.get_by_role("button", name="Use range").click()
    until(opened, "keen.clock.last === 59 && keen.stage.lattice.length === 50", seconds=60)
    until(opened, "keen.stage.frame >= 10")
    opened.get_by_label("First", exact=True).fill("0")
    opened.get_by_label("Last", exact=True).fill("89")
    opened.get_by_role("button", name="Use range").click()
    until(opened, "keen.stage.lattice.length === 90", seconds=10)


def test_refusals_removal_and_putting_back_on_the_shelf(
    page: Page, running: Running, clip: str, tmp_path: Path
):
    page.goto(running.address)
    page.wait_for_selector(".card-clip")
    wrong = tmp_path / "letter.mp4"
    wrong.write_text("Dear editor, this is no film.")
    page.set_input_files(".shoot input[type=file]", wrong)
    expect(page.locator(".card-refusal", has_text="letter.mp4")).to_contain_text("not a video")
    page.get_by_role("button", name="Close").last.click()
    page.get_by_role("button", name="Remove shaky walk").click()
    expect(page.get_by_role("status").first).to_contain_text("taken off the shelf")
    expect(page.get_by_role("link", name="Open shaky walk")).to_have_count(0)
    page.get_by_role("button", name="Put back").click()
    expect(page.get_by_role("link", name="Open shaky walk")).to_have_count(1)
    page.complaints.clear()  # the browser reports the refused upload


@pytest.mark.parametrize("where", ["", "clips/1", "clips/1/exports", "nowhere"])
def test_every_control_has_a_name_and_nothing_comes_from_elsewhere(
    page: Page, running: Running, clip: str, where: str
):
    asked = []
    page.on("request", lambda request: asked.append(request.url))
    page.goto(running.address + where)
    page.wait_for_timeout(800)
    nameless = page.evaluate(
        "[...document.querySelectorAll('button, a, input, select')].filter(e => e.checkVisibility()"
        " && !(e.innerText || e.getAttribute('aria-label') || e.title || e.placeholder"
        " || (e.labels && [...e.labels].some(l => l.innerText)))).map(e => e.outerHTML)"
    )
    assert nameless == []
    assert all(a.startswith((running.address, "data:", "blob:")) for a in asked)
    if where != "nowhere":
        assert page.complaints == []
    page.complaints.clear()


KEPT = "keen.clip.answer.report.picture_kept"


def test_a_start_costs_what_it_says(opened: Page):
    button = opened.locator(".start").first
    button.wait_for(timeout=30_000)
    before = report(opened)["picture_kept"]
    label = button.locator("span").inner_text()
    button.click()
    until(opened, f"was => {KEPT} !== was", before)
    assert label == f"keeps {report(opened)['picture_kept']:.0f} %"
    expect(button).to_have_attribute("aria-pressed", "true")
    opened.keyboard.press("Control+z")
    until(opened, f"was => {KEPT} === was", before)


def test_an_answer_that_takes_its_time_says_so(fresh: Page):
    note = fresh.locator(".stage-note")
    held: list[Route] = []
    fresh.route("**/treatment?*", lambda route: held.append(route))
    fresh.evaluate("() => { keen.clip.change('motion.calm', 41, false); }")
    expect(note).to_contain_text("Working it out …")
    held[0].continue_()
    wait_settled(fresh)
    expect(note).not_to_contain_text("Working it out …")
    fresh.unroute("**/treatment?*")


def test_nothing_is_priced_while_a_value_slides(fresh: Page):
    asked: list[str] = []
    fresh.on("request", lambda request: asked.append(request.url.split("?")[0].rsplit("/")[-1]))
    for offset in (0.4, 0.8, 1.2, 1.6, 2.0):  # each of which has a curve of its own
        fresh.evaluate("x => keen.clip.change('frame.offset_x', x, false)", offset)
        wait_settled(fresh)
    assert "treatment" in asked
    assert "cost" not in asked
    expect(fresh.locator(".start").first).to_be_visible(timeout=30_000)
    assert "cost" in asked


def test_the_picture_follows_a_drag_along_the_cost_curve(opened: Page):
    opened.locator(".start").first.wait_for(timeout=30_000)
    pause_at(opened, 40)
    before = picture(opened)
    chart = opened.locator(".chart")
    expect(chart.locator(".chart-now")).to_have_count(1)
    box = chart.bounding_box()
    opened.mouse.move(box["x"] + box["width"] - 30, box["y"] + 40)
    opened.mouse.down()
    opened.mouse.move(box["x"] + 40, box["y"] + 40, steps=5)
    until(opened, "keen.clip.treatment.motion.calm < 12")
    opened.mouse.up()
    until(opened, f"{KEPT} > 97")
    assert apart(picture(opened), before) > 2
    assert opened.complaints == []
    opened.keyboard.press("Control+z")


def test_one_component_can_be_left_alone(opened: Page):
    shake = "keen.clip.answer.report.shake_after"
    before = opened.evaluate(shake)
    opened.get_by_role("button", name="Unlink").click()
    entry = opened.get_by_label("Calm, across, 0 to 100")
    entry.fill("0")
    entry.press("Tab")
    until(opened, f"was => {shake} > 3 * was", before)
    expect(summary(opened, "Motion")).to_contain_text("calm 0–40")
    expect(opened.locator(".chart")).to_be_hidden()
    opened.get_by_role("button", name="Link", exact=True).click()
    until(opened, f"was => {shake} === was", before)
    expect(opened.locator(".chart")).to_be_visible()
