"""Shelf, job tray, light, export and error pages; the lattice in the browser."""

from __future__ import annotations

import json
import re
from pathlib import Path

import av
import numpy as np
import pytest
from playwright.sync_api import Page, Route, expect

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.launch.running import Running
from tests.browser.conftest import report
from tools.browser import until, wait_ready

pytestmark = pytest.mark.browser


@pytest.fixture
def shelf(page: Page, running: Running, clip: str) -> Page:
    page.goto(running.address)
    page.wait_for_selector(".card-clip")
    return page


def test_a_card_says_what_the_clip_is_and_what_was_found(shelf: Page):
    card = shelf.locator(".card-clip").first
    expect(card).to_contain_text("1280 × 720 · 30 fps")
    expect(card).to_contain_text("0:03.0")
    expect(card).to_contain_text("px →")
    expect(card).to_contain_text("measured, keeps")
    until(shelf, "document.querySelector('.card-picture img').naturalWidth === 480")


def test_nothing_can_be_clicked_before_somebody_listens(page: Page, clip: str):
    held: list[Route] = []
    page.route("**/alpine-csp.min.js", lambda route: held.append(route))
    page.goto(f"{clip}/exports", wait_until="commit")
    until(page, "Boolean(document.querySelector('.export-form'))")
    button = page.get_by_role("button", name="Export", exact=True)
    expect(page.locator("#main")).to_have_attribute("inert", "")
    button.focus()
    expect(button).not_to_be_focused()
    held[0].continue_()
    page.unroute("**/alpine-csp.min.js")
    expect(page.locator("#main")).not_to_have_attribute("inert", "")
    expect(button).to_be_enabled()
    button.focus()
    expect(button).to_be_focused()


def test_names_are_changed_where_they_stand(shelf: Page):
    name = shelf.get_by_label("Name of the clip shaky walk")
    name.fill("  morning   walk ")
    name.press("Enter")
    expect(shelf.get_by_label("Name of the clip morning walk")).to_have_value("morning walk")
    shelf.reload()
    expect(shelf.get_by_role("link", name="Open morning walk")).to_have_count(1)
    # An empty name is refused in words, and the old one stands again.
    name = shelf.get_by_label("Name of the clip morning walk")
    name.fill("   ")
    name.blur()
    said = shelf.get_by_role("alert").filter(has_text="cannot be empty")
    expect(said).to_be_visible()
    expect(name).to_have_value("morning walk")
    said.get_by_role("button", name="Close").click()
    expect(said).to_be_hidden()
    shelf.complaints.clear()
    name.fill("shaky walk")
    name.blur()
    expect(shelf.get_by_label("Name of the clip shaky walk")).to_have_count(1)


def test_a_shoot_is_made_removed_and_put_back(shelf: Page):
    shelf.get_by_placeholder("Name of a new shoot").fill("Second day")
    shelf.keyboard.press("Enter")
    expect(shelf.locator(".shoot")).to_have_count(2)
    shelf.get_by_role("button", name="Remove the shoot Second day").click()
    expect(shelf.locator(".shoot")).to_have_count(1)
    shelf.get_by_role("button", name="Put back").click()
    expect(shelf.locator(".shoot")).to_have_count(2)
    # Its name can be changed where it stands, as a clip's.
    name = shelf.get_by_label("Name of the shoot").nth(1)
    name.fill("Third day")
    name.press("Enter")
    shelf.reload()
    expect(shelf.get_by_label("Name of the shoot").nth(1)).to_have_value("Third day")
    shelf.get_by_role("button", name="Remove the shoot Third day").click()
    said = shelf.get_by_role("status").filter(has_text="Third day was taken off the shelf.")
    said.get_by_role("button", name="Close").click()
    expect(said).to_be_hidden()
    expect(shelf.locator(".shoot")).to_have_count(1)


def longer(take: Path, path: Path, times: int) -> Path:
    """The same film several times over, without encoding it again."""
    with av.open(str(take)) as source, av.open(str(path), "w") as film:
        stream = source.streams.video[0]
        track = film.add_stream_from_template(stream)
        packets = [packet for packet in source.demux(stream) if packet.dts is not None]
        length = sum(packet.duration for packet in packets)
        stamps = [(packet.pts, packet.dts) for packet in packets]
        for turn in range(times):
            for packet, (shown, decoded) in zip(packets, stamps, strict=True):
                packet.stream = track
                packet.time_base = stream.time_base
                packet.pts, packet.dts = shown + turn * length, decoded + turn * length
                film.mux(packet)
    return path


def test_taking_in_is_cancelled_and_tried_again(shelf: Page, take: Path, tmp_path: Path):
    (tmp_path / "no film.mp4").write_text("no film")
    long = longer(take, tmp_path / "long walk.mp4", 6)
    shelf.set_input_files(".shoot input[type=file]", [long, tmp_path / "no film.mp4"])
    card = shelf.locator(".card-clip").filter(has=shelf.get_by_label("Name of the clip long walk"))
    jobs = shelf.locator("[aria-controls=tray]")
    jobs.click()
    tray = shelf.locator("#tray")
    tray.get_by_role("button", name="Cancel Taking in long walk").click()
    expect(card).to_contain_text("Cancelled", timeout=20_000)
    jobs.click()
    card.get_by_role("button", name="Try again").click()
    jobs.click()
    tray.get_by_role("button", name="Cancel Taking in long walk").click()
    tray.get_by_role("button", name="Try again: Taking in long walk").first.click()
    expect(card).to_contain_text("1280 × 720", timeout=60_000)
    # So is finding out what suits it, from where it is waited for: it is ready all the same.
    jobs.click()
    card.get_by_role("link", name="Open long walk").click()
    wait = shelf.locator(".wait-card")
    expect(wait).to_contain_text(re.compile("Choosing a model|Finding out what suits"))
    wait.get_by_role("button", name="Cancel").click()
    wait_ready(shelf, 60)
    shelf.get_by_role("link", name="Shelf", exact=True).click()
    card.get_by_role("button", name="Remove long walk").click()
    expect(card).to_have_count(0)
    shelf.complaints.clear()


def test_files_are_dropped_or_picked_with_keys(shelf: Page, running: Running, tmp_path: Path):
    files = shelf.evaluate_handle(
        "() => { const files = new DataTransfer();"
        " for (const name of ['three.mp4', 'four.mp4'])"
        " files.items.add(new File(['no film'], name)); return files; }"
    )
    shoot = shelf.locator(".shoot")
    shoot.dispatch_event("dragover", {"dataTransfer": files})
    expect(shoot).to_have_class("shoot is-over")
    shoot.dispatch_event("drop", {"dataTransfer": files})
    expect(shoot).to_have_class("shoot")
    refused = shelf.locator(".card-refusal:visible")
    expect(refused).to_have_count(2)
    for button in shelf.get_by_role("button", name="Close").locator("visible=true").all()[::-1]:
        button.click()
    # Dropped beside a shoot, they go to the first one.
    shelf.locator("body").dispatch_event("drop", {"dataTransfer": files})
    expect(refused).to_have_count(2)
    for button in shelf.get_by_role("button", name="Close").locator("visible=true").all()[::-1]:
        button.click()
    expect(refused).to_have_count(0)
    for key in ("Enter", "Space"):
        shelf.get_by_role("button", name="Add clips").focus()
        with shelf.expect_file_chooser():
            shelf.wait_for_timeout(300)
            shelf.keyboard.press(key)
    assert shelf.url == running.address
    shelf.complaints.clear()


def test_an_empty_shelf_asks_for_footage_and_makes_a_shoot_for_it(page: Page, running: Running):
    asked = []
    page.route("**/shelf.json", lambda route: route.fulfill(json={"shoots": []}))
    page.route(
        "**/shoots", lambda route: (asked.append(route.request.post_data), route.continue_())
    )
    page.goto(running.address)
    empty = page.get_by_role("region", name="An empty shelf")
    expect(empty).to_contain_text("Drop shaky footage here.")
    page.unroute("**/shelf.json")
    with page.expect_file_chooser() as chosen:
        empty.get_by_role("button", name="Choose files").click()
    files = {"name": "five.mp4", "mimeType": "video/mp4", "buffer": b"no film"}
    chosen.value.set_files([files])
    expect(page.locator(".card-refusal:visible")).to_contain_text("five.mp4")
    assert json.loads(asked[0]) == {"name": "First shoot"}
    expect(empty).to_be_hidden()
    page.get_by_role("button", name="Remove the shoot First shoot").click()
    expect(page.get_by_label("Name of the shoot")).not_to_have_count(0)
    page.unroute("**/shoots")
    page.complaints.clear()


def test_a_file_over_the_limit_is_not_even_sent(shelf: Page, tmp_path: Path):
    sent = []
    shelf.on("request", lambda r: sent.append(r.url) if r.method == "POST" else None)
    shelf.evaluate("Alpine.$data(document.querySelector('.shelf')).limit = 1000")
    large = tmp_path / "large.mp4"
    large.write_bytes(bytes(1001))
    shelf.set_input_files(".shoot input[type=file]", large)
    expect(shelf.locator(".card-refusal:visible")).to_contain_text("larger than the limit")
    assert sent == []


def test_several_files_at_once_stay_on_the_shelf(shelf: Page, running: Running, tmp_path: Path):
    for name in ("one.mp4", "two.mp4"):
        (tmp_path / name).write_text("no film")
    shelf.set_input_files(".shoot input[type=file]", [tmp_path / "one.mp4", tmp_path / "two.mp4"])
    expect(shelf.locator(".card-refusal:visible")).to_have_count(2)
    assert shelf.url == running.address
    shelf.complaints.clear()


def test_the_tray_lists_what_was_done_and_leads_there(shelf: Page):
    button = shelf.get_by_role("button", name="Jobs")
    expect(button).to_be_visible(timeout=60_000)  # while there is work, it says how much
    expect(button).to_have_attribute("aria-expanded", "false")
    button.click()
    tray = shelf.locator("#tray")
    expect(tray).to_contain_text("Taking in shaky walk")
    expect(tray).to_contain_text("done")
    tray.get_by_role("link", name="Open the clip").first.click()
    shelf.wait_for_url("**/clips/*")


def test_day_and_night_are_kept(shelf: Page, running: Running):
    light = "document.documentElement.dataset.bsTheme"
    paper = "getComputedStyle(document.body).backgroundColor"
    day = shelf.evaluate(paper)
    shelf.get_by_role("button", name="Day or night").click()
    assert shelf.evaluate(light) == "dark"
    assert shelf.evaluate(paper) != day
    shelf.goto(running.address + "nowhere")
    assert shelf.evaluate(light) == "dark"
    shelf.get_by_role("button", name="Day or night").click()
    assert shelf.evaluate(paper) == day
    shelf.complaints.clear()


def test_a_missing_page_leads_back(page: Page, running: Running):
    page.goto(running.address + "clips/424242")
    expect(page.get_by_role("heading")).to_contain_text("There is nothing here")
    page.get_by_role("link", name="Go to the shelf").click()
    page.wait_for_selector(".shoot")
    page.complaints.clear()


def test_an_export_can_be_smaller_and_cancelled(opened: Page):
    kept = report(opened)["picture_kept"]
    opened.get_by_role("link", name="Export").click()
    opened.wait_for_selector(".export-fields option", state="attached")
    opened.get_by_label("Size").select_option("540")
    opened.get_by_label("Quality").select_option("small")
    opened.get_by_role("button", name="Export", exact=True).click()
    row = opened.locator(".export-row").first
    expect(row).to_contain_text("540 lines")
    expect(row).to_contain_text("frame", timeout=20_000)
    row.get_by_role("button", name="Cancel").click()
    expect(row).to_contain_text("cancelled", timeout=20_000)
    assert row.get_by_role("link", name="Download").is_hidden()
    row.get_by_role("button", name="Try again").click()
    row.get_by_role("link", name="Download").wait_for(timeout=90_000)
    row.locator("summary").click()
    expect(row.locator(".figures")).to_contain_text("960 × 540 px")
    expect(row.locator(".figures")).to_contain_text(f"{kept:.1f} %")
    expect(row).to_contain_text("Sound copied bit for bit (aac).")


def test_an_export_is_looked_at_before_and_after(opened: Page):
    opened.get_by_role("link", name="Export").click()
    opened.wait_for_selector(".export-fields option", state="attached")
    if not opened.get_by_role("link", name="Download").locator("visible=true").count():
        opened.get_by_role("button", name="Export", exact=True).click()
        opened.get_by_role("link", name="Download").first.wait_for(timeout=90_000)
    row = opened.locator(".export-row").filter(
        has=opened.get_by_role("link", name="Download").locator("visible=true")
    )
    row = row.first
    row.get_by_role("button", name="Look: ").click()
    after = row.get_by_label("After", exact=True)
    expect(row.locator(".player .num")).to_have_text("0.0 of 3.0 s")
    # Both show the same moment, wherever one goes.
    row.get_by_label("Time, seconds").fill("1.5")
    expect(row.locator(".player .num")).to_have_text("1.5 of 3.0 s")
    times = "() => [...document.querySelectorAll('.player video')].map((v) => v.currentTime)"
    before, now = opened.evaluate(times)
    assert abs(before - now) < 0.07
    assert after.evaluate("video => video.videoWidth") > 0
    row.get_by_role("button", name="Play").focus()
    opened.keyboard.press("ArrowLeft")
    expect(row.locator(".player .num")).to_have_text("0.5 of 3.0 s")
    opened.keyboard.press("Space")
    expect(row.get_by_role("button", name="Pause")).to_be_visible()
    until(opened, "document.querySelectorAll('.player video')[1].currentTime > 1")
    row.get_by_role("button", name="Pause").click()
    expect(row.get_by_role("button", name="Play")).to_be_visible()
    before, now = opened.evaluate(times)
    assert abs(before - now) < 0.2
    row.get_by_role("button", name="Close: ").click()
    expect(row.locator(".player")).to_have_count(0)
    row.locator("summary").click()
    with opened.expect_download() as got:
        row.get_by_role("link", name="Whole report, per frame (JSON)").click()
    told = json.loads(Path(got.value.path()).read_text("utf-8"))
    assert len(told["frames"]) == told["frame_count"] == 90
    assert opened.complaints == []


def test_a_refused_export_says_so_until_it_is_closed(opened: Page):
    opened.get_by_role("link", name="Export").click()
    opened.wait_for_selector(".export-fields option", state="attached")
    opened.route("**/exports", lambda route: route.fulfill(status=507, json={"error": "Full."}))
    opened.get_by_role("button", name="Export", exact=True).click()
    said = opened.get_by_role("alert").filter(has_text="Full.")
    said.get_by_role("button", name="Close").click()
    expect(said).to_be_hidden()
    opened.unroute("**/exports")
    opened.complaints.clear()


@pytest.mark.parametrize(("columns", "rows"), [(2, 2), (33, 19)])
def test_the_browser_reads_the_lattice_as_python_meant_it(shelf: Page, columns: int, rows: int):
    canvas = Canvas(1280, 720)
    turn = Similarities(np.array([1.02 * np.exp(0.03j)]), np.array([25 - 12j]))
    chain = WarpChain(canvas, View(canvas, zoom=1.1, offset=4 + 2j), (turn,), 1)
    nodes = chain.lattice(columns=columns, rows=rows)
    places = np.random.default_rng(2).uniform(0, 1, (12, 2))
    mapped, back = shelf.evaluate(
        "async ([columns, rows, nodes, places]) => {"
        " const begins = document.querySelector('script[type=module]').src;"
        " const { Lattice } = await import(new URL('../clip/stage/lattice.js', begins));"
        " const lattice = new Lattice(columns, rows, new Float32Array(nodes));"
        " const mapped = places.map(([u, v]) => lattice.map(0, u, v));"
        " return [mapped, mapped.map(([x, y]) => lattice.unmap(0, x, y))]; }",
        [columns, rows, nodes.ravel().tolist(), places.tolist()],
    )
    size = np.array([1280, 720])
    expected, _ = chain(0, places * size - 0.5)
    assert np.abs(np.array(mapped) * size - 0.5 - expected).max() < 0.01
    assert np.abs(np.array(back) - places).max() < 1e-4


def test_the_house_tells_who_works_and_gives_disk_back_when_asked(
    page: Page, running: Running, clip: str, make_clip
):
    page.goto(running.address)
    page.wait_for_selector(".card-clip")
    page.set_input_files(".shoot input[type=file]", make_clip("unwanted.mp4", count=30))
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 90)
    page.goto(running.address)
    page.get_by_role("button", name="Remove unwanted").click()
    page.get_by_role("link", name="House").click()
    page.wait_for_url("**/house")
    expect(page.get_by_text("2 workers: heard of")).to_be_visible()
    room = page.get_by_role("region", name="Room")
    expect(room).to_contain_text("First day")
    expect(room).to_contain_text("GB free")
    expect(room).to_contain_text(re.compile(r"\d clips? removed"))
    expect(page.get_by_role("region", name="Work").first).to_contain_text("in the last hour")
    page.get_by_role("button", name="Empty now").click()
    page.get_by_role("button", name="Keep it").click()
    page.get_by_role("button", name="Empty now").click()
    page.get_by_role("button", name="Let it go").click()
    expect(page.get_by_text("gone for good")).to_be_visible()
    expect(room).to_contain_text("Nothing is removed.")


def test_an_upload_rests_goes_on_and_survives_a_connection_that_breaks(
    page: Page, running: Running, clip: str, make_clip
):
    page.goto(running.address)
    page.wait_for_selector(".card-clip")
    held: list[Route] = []

    def hold(route: Route) -> None:
        if route.request.method == "PATCH":
            held.append(route)
        else:
            route.continue_()

    def sent(count: int) -> None:
        for _ in range(100):
            if len(held) >= count:
                return
            page.wait_for_timeout(50)
        raise AssertionError(f"{len(held)} requests with bytes, not {count}")

    page.route("**/uploads/*", hold)
    page.set_input_files(".shoot input[type=file]", make_clip("slow line.mp4", count=30))
    card = page.locator(".card-clip", has_text="slow line.mp4")
    sent(1)
    card.get_by_role("button", name="Pause").click()
    expect(card).to_contain_text("paused")
    card.get_by_role("button", name="Go on").click()
    sent(2)
    held[1].abort("connectionreset")
    sent(3)  # by itself
    held[2].continue_()
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 90)
    page.unroute("**/uploads/*")
    page.complaints.clear()  # the browser says that a connection broke
    page.goto(running.address)
    page.get_by_role("button", name="Remove slow line").click()


def test_an_upload_is_stopped_and_a_letter_is_refused(
    page: Page, running: Running, clip: str, make_clip, tmp_path: Path
):
    page.goto(running.address)
    page.wait_for_selector(".card-clip")
    page.route("**/uploads/*", lambda route: None if route.request.method == "PATCH" else
               route.continue_())  # fmt: skip
    page.set_input_files(".shoot input[type=file]", make_clip("unsent.mp4", count=30))
    card = page.locator(".card-clip", has_text="unsent.mp4")
    card.get_by_role("button", name="Stop").click()
    expect(card).to_have_count(0)
    page.unroute("**/uploads/*")
    letter = tmp_path / "note.mp4"
    letter.write_text("Dear editor, this is no film.")
    page.set_input_files(".shoot input[type=file]", letter)
    refused = page.locator(".card-clip", has_text="note.mp4")
    expect(refused).to_contain_text("not a video file")
    refused.get_by_role("button", name="Close").click()
    expect(refused).to_have_count(0)
    page.complaints.clear()
