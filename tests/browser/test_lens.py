"""The lens station as a person uses it: dial, numbers, edges, charts, cabinet, grid and horizon."""

from __future__ import annotations

import json
import re
from itertools import pairwise
from pathlib import Path

import pytest
from numpy.typing import NDArray
from playwright.sync_api import Locator, Page, expect

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.motion.camera_motion import AngleOfView
from keen_horizon.core.stations.lens.by_motion import lens_by_motion, words_of
from keen_horizon.simulated.brindle_quay import MOUSTACHE, engine_shed, shed_edges
from keen_horizon.simulated.record import record
from keen_horizon.simulated.truth import pictured_edge
from tests.browser.conftest import (
    choose,
    client,
    drag,
    enter,
    keys,
    report,
    reset,
    station,
    summary,
    tools,
    unfold,
    value,
)
from tools.browser import pause_at, until, wait_ready, wait_settled

pytestmark = pytest.mark.browser
FRAME = 10
TAKE = engine_shed(1.0)
BENT = ("lens.model=brown", "lens.k1=-0.2")


@pytest.fixture(scope="module")
def shed(page: Page, clip: str, tmp_path_factory: pytest.TempPathFactory) -> str:
    """The engine shed, dropped on the shelf: address of its clip."""
    path: Path = tmp_path_factory.mktemp("shed") / "engine shed.mp4"
    record(TAKE, path, sound=False)
    page.goto(clip.split("/clips")[0])
    page.wait_for_selector(".shoot input[type=file]", state="attached")
    page.set_input_files(".shoot input[type=file]", path)
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 90)
    return page.url


@pytest.fixture
def lens(page: Page, shed: str) -> Page:
    """The engine shed without a lens, stopped, with the Lens station open."""
    page.goto(shed)
    wait_ready(page)
    reset(page)
    pause_at(page, FRAME)
    station(page, "Lens")
    page.complaints.clear()
    return page


def band() -> NDArray:
    """A band of the shed as this lens pictures it: pixels along a curve."""
    return pictured_edge(TAKE, shed_edges()[0], FRAME)


def shares(points: NDArray) -> list[list[float]]:
    """Pixel centres in shares of the recording."""
    return [[(x + 0.5) / 1280, (y + 0.5) / 720] for x, y in points.tolist()]


def trace(page: Page, along: NDArray) -> None:
    """Click near both ends of an edge, with the tool in hand."""
    for x, y in (client(page, place) for place in shares(along[[2, -3]])):
        page.mouse.click(x, min(max(y + 2, 0), 590))
        page.wait_for_timeout(100)


def slow_down(page: Page, answers: dict[str, int]) -> None:
    """Hold answers back for some ms, by a part of their address; the test goes on meanwhile."""
    page.evaluate(
        """answers => {
          const plain = window.fetch;
          window.fetch = async (address, ...rest) => {
            const answer = await plain(address, ...rest);
            const part = Object.keys(answers).find((one) => String(address).includes(one));
            await new Promise((done) => setTimeout(done, answers[part] ?? 0));
            return answer;
          };
        }""",
        answers,
    )


def edges(page: Page) -> Locator:
    return page.get_by_role("list", name="Straight edges").locator("li")


def test_a_turn_of_the_dial_straightens_and_tells_the_angles(lens: Page):
    choose(lens, "Angle")
    dial = lens.get_by_role("slider", name="Angle of view from corner to corner")
    dial.focus()
    for _ in range(3):
        dial.press("PageUp")
        wait_settled(lens)
    assert value(lens, "lens.model") == "fisheye"
    angle = float(dial.get_attribute("aria-valuenow"))
    assert 110 < angle < 140
    expect(lens.locator(".angles")).to_contain_text(f"{angle:.0f}° diagonal")
    assert lens.evaluate("keen.stage.lattice.columns") == 33
    choose(lens, "4:3")
    # Told for the taller picture, this one takes in less.
    assert report(lens)["lens"]["bent"]["diagonal"] < angle - 3
    assert value(lens, "motion.model") == "rotation"
    choose(lens, "16:9")
    assert report(lens)["lens"]["bent"]["diagonal"] == pytest.approx(angle, abs=0.6)
    choose(lens, "This picture")
    box = dial.bounding_box()
    middle = box["x"] + box["width"] / 2
    drag(lens, (middle - 60, box["y"] + 60), (middle, box["y"] + 20))
    wait_settled(lens)
    assert float(dial.get_attribute("aria-valuenow")) == pytest.approx(105, abs=8)
    # Its marks are an even scale.
    marks = [int(one[:-1]) for one in lens.locator(".dial text").all_text_contents()[:-1]]
    assert {b - a for a, b in pairwise(marks)} == {30}
    lens.get_by_role("button", name="Back to straight").click()
    wait_settled(lens)
    assert value(lens, "lens.model") == "rectilinear"
    assert lens.complaints == []


def test_two_clicks_trace_an_edge_and_straighten_the_picture(lens: Page):
    choose(lens, "Edges")
    along = band()
    assert abs(along[:, 1].max() - along[:, 1].min()) > 12
    tool = lens.get_by_role("button", name="Trace an edge")
    tool.click()
    expect(tool).to_have_attribute("aria-pressed", "true")
    trace(lens, along)
    expect(edges(lens)).to_have_count(1, timeout=30_000)
    expect(edges(lens)).to_contain_text(" px")
    wait_settled(lens)
    expect(summary(lens, "Lens")).to_contain_text("1 edge")
    lens.keyboard.press("Escape")
    expect(tool).to_have_attribute("aria-pressed", "false")
    # An edge is dragged by any part of it.
    before = value(lens, "lens.edges")[0]["pins"]
    x, y = client(lens, shares(along)[len(along) // 2])
    lens.mouse.move(x, y)
    lens.mouse.down()
    lens.mouse.move(x, y + 3, steps=3)
    lens.mouse.up()
    until(lens, "keen.clip.treatment.lens.edges[0].pins.length === 3", seconds=20)
    wait_settled(lens)
    assert value(lens, "lens.edges")[0]["pins"] != before
    lens.get_by_label("How edge 1 runs").select_option("level")
    expect(lens.get_by_text("Turns the picture by")).to_be_visible(timeout=20_000)
    lens.get_by_role("button", name="Level", exact=True).locator("visible=true").first.click()
    wait_settled(lens)
    assert value(lens, "frame.turn") != 0
    lens.get_by_label("Model", exact=True).locator("visible=true").select_option("division")
    until(lens, "keen.clip.treatment.lens.model === 'division'", seconds=20)
    wait_settled(lens)
    pause_at(lens, 3)
    lens.get_by_role("button", name="Go to edge 1").click()
    until(lens, "f => keen.clock.frame === f", FRAME)
    lens.get_by_role("button", name="Remove edge 1").click()
    expect(edges(lens)).to_have_count(0)
    assert lens.complaints == []


def test_edges_are_proposed_accepted_and_refused(lens: Page):
    choose(lens, "Edges")
    propose = lens.get_by_role("button", name="Propose")
    slow_down(lens, {"/lens/look": 1500})
    propose.click()
    expect(lens.get_by_text("Looking for long edges in this picture")).to_be_visible()
    proposed = lens.get_by_role("list", name="Proposed edges").locator("li")
    expect(proposed.nth(3)).to_be_visible(timeout=30_000)
    count = proposed.count()
    proposed.first.hover()
    lens.get_by_role("button", name="Refuse Edge A").click()
    expect(proposed).to_have_count(count - 1)
    lens.get_by_role("button", name="Accept Edge A", exact=True).click()
    expect(edges(lens)).to_have_count(1)
    wait_settled(lens)
    edges(lens).first.hover()
    # An answer that comes late must not undo what was accepted meanwhile.
    lens.get_by_label("How edge 1 runs").select_option("upright")
    slow_down(lens, {"/treatment?": 1500, "/lens/fit": 3000})
    until(lens, "keen.clip.asking")
    lens.get_by_role("button", name="Accept all").click()
    until(lens, "!keen.clip.asking")
    expect(edges(lens)).to_have_count(count - 1)
    for k in range(count - 1):
        expect(edges(lens).nth(k)).to_contain_text(" px", timeout=20_000)
    expect(lens.get_by_text("Fitting a lens")).to_have_count(0)
    wait_settled(lens)
    assert value(lens, "lens.model") != "rectilinear"
    expect(propose).to_have_attribute("aria-pressed", "false")
    # What was bent comes out straight: the true band, through the lattice.
    rows = lens.evaluate(
        "(points) => points.map(([x, y]) => keen.stage.lattice.unmap(keen.clock.at, x, y)[1])",
        shares(band()[::6]),
    )
    ends = [rows[0] + (rows[-1] - rows[0]) * k / (len(rows) - 1) for k in range(len(rows))]
    bend = max(abs(a - b) for a, b in zip(rows, ends, strict=True)) * 720
    assert bend < 1.5
    propose.click()
    expect(proposed.nth(0)).to_be_visible(timeout=30_000)
    propose.click()
    expect(proposed).to_have_count(0)
    assert lens.complaints == []


def test_numbers_draw_their_curve_and_are_reset_one_by_one(lens: Page):
    choose(lens, "Numbers")
    lens.get_by_label("Model", exact=True).locator("visible=true").select_option("brown")
    wait_settled(lens)
    enter(lens, "k1, -10 to 10", "-0.2")
    expect(lens.locator(".curve path").first).to_be_visible()
    assert value(lens, "lens.k1") == -0.2
    assert value(lens, "lens.found_by") == "numbers"
    lens.get_by_role("button", name="Reset k1").click()
    wait_settled(lens)
    assert value(lens, "lens.k1") == 0


def test_a_lens_is_found_by_the_clips_own_motion(lens: Page):
    choose(lens, "Motion")
    find = lens.get_by_role("button", name="Find it from this clip").locator("visible=true")
    use = lens.get_by_role("button", name="Use this lens").locator("visible=true")
    find.click()
    told = re.compile("own motion tells|cannot be told from this clip")
    expect(lens.get_by_role("status").filter(has_text=told)).to_be_visible(timeout=20_000)
    # One second tells no lens for certain; what a longer clip told is taken over.
    known = AngleOfView(83.9, 0.4, MOUSTACHE.coefficients[:2])
    answer = {"settings": lens_by_motion(known, Canvas(1280, 720)), "words": words_of(known)}
    lens.route("**/lens/motion", lambda route: route.fulfill(json=answer))
    find.click()
    expect(lens.get_by_text("its lens bends straight lines (k1 -0.300, k2 0.220)")).to_be_visible()
    use.click()
    wait_settled(lens)
    lens.unroute("**/lens/motion")
    assert value(lens, "lens.found_by") == "motion"
    assert value(lens, "lens.k1") == MOUSTACHE.coefficients[0]
    assert report(lens)["lens"]["bent"]["across"] == pytest.approx(83.9, abs=0.1)
    expect(summary(lens, "Lens")).to_contain_text("motion")
    expect(use).to_have_count(0)


def test_an_amount_that_starts_at_nothing_and_ends_in_full(lens: Page):
    reset(lens, "lens.model=brown", "lens.k1=-0.3")
    lens.keyboard.press("Home")
    until(lens, "keen.clock.frame === keen.clip.first")
    lens.get_by_role("button", name="Keyframe of Amount here").click()
    wait_settled(lens)
    enter(lens, "Amount, 0 to 100 %", "0")
    pause_at(lens, 29)
    enter(lens, "Amount, 0 to 100 %", "100")
    assert [key["value"] for key in keys(lens, "lens.amount")] == [0, 100]
    bends = lens.evaluate(
        "() => [0, 29].map((f) => { const n = keen.stage.lattice.frame(f);"
        " const at = (c, r) => n[2 * (r * 33 + c) + 1];"
        " return Math.abs(at(16, 0) - (at(0, 0) + at(32, 0)) / 2); })"
    )
    assert bends[0] < 0.004
    assert bends[1] > bends[0] + 0.01


def test_a_lens_is_kept_used_replaced_followed_and_taken_out(lens: Page, tmp_path: Path):
    reset(lens, *BENT, "glass.loss_r2=0.8")
    choose(lens, "Cabinet")
    listed = lens.get_by_role("list", name="Lenses of the house").locator("li")
    keep = tools(lens, "Lens").get_by_role("button", name="Keep", exact=True)
    keep.click()
    expect(lens.get_by_text("Give this lens a name first.")).to_be_visible()
    name = lens.get_by_label("Name of this lens")
    expect(name).to_be_focused()
    name.fill("Quay wide")
    lens.get_by_label("Camera", exact=True).fill("Harbour camera")
    lens.get_by_label("Lens or setting").fill("wide")
    lens.get_by_label("Mode", exact=True).fill("HD")
    keep.click()
    expect(listed).to_have_count(1)
    expect(listed).to_contain_text("Harbour camera")
    use = listed.get_by_role("button", name="In use")
    expect(use).to_be_visible()
    # Without a lens, it is used; that was disabled once for everybody.
    lens.get_by_role("button", name="Back to straight").click()
    wait_settled(lens)
    assert value(lens, "lens.model") == "rectilinear"
    expect(listed.get_by_role("button", name="Replace")).to_be_disabled()
    lens.evaluate("keen.clip.adopt('glass', { loss_r2: 0 }, true)")
    wait_settled(lens)
    use = listed.get_by_role("button", name="Use", exact=True)
    expect(use).to_be_enabled()
    use.click()
    wait_settled(lens)
    assert value(lens, "glass.loss_r2") == 0.8  # a profile carries its glass
    assert value(lens, "glass.found_by") == "copy"
    assert value(lens, "lens.k1") == -0.2
    assert value(lens, "lens.found_by") == "profile"
    expect(summary(lens, "Lens")).to_contain_text("profile")
    # Replaced by another: a clip that uses the old edition is told, and follows.
    old = lens.evaluate("keen.clip.treatment")
    choose(lens, "Numbers")
    enter(lens, "k1, -10 to 10", "-0.25")
    choose(lens, "Cabinet")
    listed.get_by_role("button", name="Replace").click()
    expect(listed).to_contain_text("edition 2")
    lens.evaluate("t => { keen.clip.treatment = t; return keen.clip.solve(true); }", old)
    wait_settled(lens)
    lens.get_by_role("button", name="Follow", exact=True).locator("visible=true").click()
    wait_settled(lens)
    assert value(lens, "lens.k1") == -0.25
    # It is written, read again, and taken out.
    with lens.expect_download() as got:
        listed.get_by_role("link", name="JSON").click()
    file = tmp_path / "lens.json"
    got.value.save_as(file)
    assert json.loads(file.read_text())["optics"]["k1"] == -0.25
    with lens.expect_download() as got:
        listed.get_by_role("link", name="YAML").click()
    got.value.save_as(tmp_path / "lens.yml")
    lens.get_by_role("button", name="Take out Quay wide").click()
    expect(listed).to_have_count(0)
    expect(lens.get_by_text("The cabinet is empty.")).to_be_visible()
    with lens.expect_file_chooser() as chooser:
        lens.get_by_role("button", name="Import …").click()
    chooser.value.set_files(file)
    expect(listed).to_have_count(1)
    lens.get_by_role("button", name="Take out Quay wide").click()
    expect(listed).to_have_count(0)
    assert lens.complaints == []


def test_charts_are_printed_and_read(lens: Page):
    choose(lens, "Chart")
    for kind in ("PDF", "SVG"):
        with lens.expect_download() as got:
            lens.get_by_role("link", name=kind).click()
        assert got.value.suggested_filename == f"chart-9x6-A4.{kind.lower()}"
    lens.get_by_label("Paper").select_option("A3")
    lens.get_by_label("Inner corners across").fill("8")
    lens.get_by_label("Inner corners down").fill("5")
    with lens.expect_download() as got:
        lens.get_by_role("link", name="PDF").click()
    assert got.value.suggested_filename == "chart-8x5-A3.pdf"
    lens.get_by_role("button", name="In this clip").click()
    expect(lens.get_by_text("Looking for charts")).to_be_visible()
    expect(lens.get_by_text("no whole chart of 8 × 5").first).to_be_visible(timeout=60_000)
    lens.get_by_label("Inner corners across").fill("9")
    lens.get_by_label("Inner corners down").fill("6")
    lens.get_by_role("button", name="Demo set").click()
    expect(lens.get_by_text("Residual 0.")).to_be_visible(timeout=60_000)
    views = lens.get_by_role("list", name="Views of the chart").locator("li")
    expect(views.nth(12)).to_be_visible()
    expect(lens.locator(".coverage .seen").first).to_be_visible()
    lens.get_by_role("button", name="Use this lens").click()
    wait_settled(lens)
    assert value(lens, "lens.found_by") == "chart"
    with lens.expect_file_chooser() as chooser:
        lens.get_by_role("button", name="Photographs …").click()
    shipped = Path(__file__).parents[2] / "keen_horizon/demo/charts"
    chooser.value.set_files(sorted(shipped.glob("*.jpg"))[:2])
    expect(
        lens.get_by_text("photographs", exact=False).or_(lens.get_by_text("views"))
    ).not_to_have_count(0)
    expect(views).to_have_count(2, timeout=60_000)
    assert lens.complaints == []


def test_the_grid_is_ruled_and_lies_where_it_is_put(lens: Page):
    fold = unfold(lens, "Grid and horizon")
    lens.get_by_role("button", name="Grid", exact=True).click()
    for label in ("Spacing of the grid", "Turn of the grid", "Grid to the right", "Grid down",
                  "Thickness of the grid"):  # fmt: skip
        slider = fold.get_by_label(label)
        before = slider.input_value()
        slider.press("ArrowRight")
        assert float(slider.input_value()) > float(before)
    fold.get_by_label("Colour of the grid").fill("#ff0000")
    fold.get_by_label("dark rim").click()
    choose(lens, "In the source")
    kept = lens.evaluate("keen.view.ruling")
    assert kept["colour"] == "#ff0000"
    assert kept["at"] == "source"
    lens.reload()
    wait_ready(lens)
    assert lens.evaluate("keen.view.ruling") == kept
    station(lens, "Lens")
    unfold(lens, "Grid and horizon")
    choose(lens, "Over the output")
    unfold(lens, "Grid and horizon").get_by_role("button", name="Reset").click()
    assert lens.evaluate("keen.view.ruling.colour") != "#ff0000"
    if lens.evaluate("keen.view.grid"):
        lens.get_by_role("button", name="Grid", exact=True).click()


def test_the_horizon_line_tells_tilt_and_bend(lens: Page):
    unfold(lens, "Grid and horizon")
    lens.get_by_role("button", name="Horizon line").click()
    grips = "keen.stage.overlay.grips.length"
    until(lens, f"{grips} >= 2")
    # Its ends are dragged onto an edge; they begin at a fifth and at four fifths of the picture.
    box = lens.evaluate(
        "() => { const { box } = keen.stage.layout().at(-1); const s = keen.stage;"
        " const r = s.picture.getBoundingClientRect(); return [r.left + box.left / s.ratio,"
        " r.top + box.top / s.ratio, box.width / s.ratio, box.height / s.ratio]; }"
    )
    ends = shares(band()[[2, -3]])
    for share, end in zip((0.2, 0.8), ends, strict=True):
        start = (box[0] + share * box[2], box[1] + 0.5 * box[3])
        drag(lens, start, client(lens, end))
    said = lens.get_by_text("bent by")
    expect(said).to_be_visible(timeout=20_000)
    assert float(said.inner_text().split("bent by ")[1].split(" ")[0]) > 6
    unfold(lens, "Grid and horizon").get_by_role("button", name="Level", exact=True).click()
    wait_settled(lens)
    assert abs(value(lens, "frame.turn")) < 3
    # A line that lies on no edge while its ends are on their way is answered in words.
    assert [said for said in lens.complaints if "(BAD REQUEST)" not in said] == []
