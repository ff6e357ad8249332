"""The lens station as a person uses it: dial, numbers, edges, square up, keyframes."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect

from keen_horizon.simulated.brindle_quay import engine_shed, shed_edges
from keen_horizon.simulated.record import record
from keen_horizon.simulated.truth import pictured_edge
from tools.browser import pause_at, until, wait_ready

pytestmark = pytest.mark.browser
DATA = "Alpine.$data(document.querySelector('.clip'))"
FRAME = 10
TAKE = engine_shed(1.0)


@pytest.fixture(scope="module")
def shed(page: Page, clip: str, tmp_path_factory: pytest.TempPathFactory) -> str:
    """The engine shed, dropped on the shelf: address of its clip."""
    path: Path = tmp_path_factory.mktemp("shed") / "engine shed.mp4"
    record(TAKE, path, sound=False)
    page.goto(clip.split("/clips")[0])
    page.wait_for_selector("input[type=file]", state="attached")
    page.set_input_files("input[type=file]", path)
    page.wait_for_url("**/clips/*", timeout=30_000)
    wait_ready(page, 90)
    return page.url


@pytest.fixture
def lens(page: Page, shed: str) -> Page:
    page.goto(shed)
    wait_ready(page)
    page.evaluate(
        f"() => {{ const d = {DATA}; d.treatment.lens.edges = []; d.treatment.keys = {{}};"
        " d.treatment.frame.square_up = false; d.noLens(); }"
    )
    until(page, f"{DATA}.treatment.lens.model === 'rectilinear' && !{DATA}.solving")
    pause_at(page, FRAME)
    page.locator(".station-open").filter(has_text="Lens").click()
    page.complaints.clear()
    return page


def way(page: Page, name: str) -> None:
    page.get_by_role("radio", name=name, exact=True).click()


def unfolded(page: Page, name: str) -> Locator:
    fold = page.locator("details").filter(has=page.locator("summary", has_text=name))
    if fold.get_attribute("open") is None:
        fold.locator("summary").click()
    return fold


def settled(page: Page) -> None:
    page.wait_for_timeout(50)
    idle = f"!{DATA}.dialAsking && !{DATA}.solving && !{DATA}.wish"
    until(page, f"{idle} && !{DATA}.note.startsWith('Solving')", seconds=60)


def test_a_turn_of_the_dial_straightens_and_tells_the_angles(lens: Page):
    way(lens, "Angle")
    dial = lens.get_by_role("slider", name="Angle of view from corner to corner")
    dial.focus()
    for _ in range(3):
        dial.press("PageUp")
    settled(lens)
    assert lens.evaluate(f"{DATA}.treatment.lens.model") == "fisheye"
    angle = float(dial.get_attribute("aria-valuenow"))
    assert 110 < angle < 140
    expect(lens.locator(".angles")).to_contain_text(f"{angle:.0f}° diagonal")
    assert lens.evaluate("keen.stage.lattice.columns") == 33
    lens.get_by_role("radio", name="4:3", exact=True).click()
    settled(lens)
    # Told for the taller picture, this one takes in less.
    assert lens.evaluate(f"{DATA}.report.lens.bent.diagonal") < angle - 3
    assert lens.evaluate(f"{DATA}.treatment.motion.model") == "rotation"
    assert lens.complaints == []


def test_two_clicks_trace_an_edge_and_straighten_the_picture(lens: Page):
    way(lens, "Edges")
    band = pictured_edge(TAKE, shed_edges()[0], FRAME)
    assert abs(band[:, 1].max() - band[:, 1].min()) > 12
    lens.get_by_role("button", name="Trace an edge").click()
    for x, y in (band[2], band[-3]):
        spot = lens.evaluate(
            "([x, y]) => { const s = keen.stage; const [part] = s.layout();"
            " const [a, b] = s.place(part, [x, y]); const r = s.picture.getBoundingClientRect();"
            " return [r.left + a / s.ratio, r.top + b / s.ratio]; }",
            [(x + 0.5) / 1280, (y + 0.5) / 720],
        )
        lens.mouse.click(spot[0], min(max(spot[1] + 2, 0), 590))
        lens.wait_for_timeout(100)
    until(lens, f"{DATA}.edgeList.length === 1 && {DATA}.edgeList[0].left", seconds=30)
    settled(lens)
    assert "1 edge" in lens.locator(".station-words").first.inner_text()
    lens.keyboard.press("Escape")
    lens.get_by_role("button", name="Propose").click()
    until(lens, f"{DATA}.proposed.length > 3", seconds=30)
    lens.get_by_role("button", name="Accept all").click()
    until(lens, f"{DATA}.edgeList.length > 4 && {DATA}.edgeFit", seconds=30)
    settled(lens)
    # What was bent comes out straight: the true band, through the lattice.
    rows = lens.evaluate(
        "(points) => points.map(([x, y]) => keen.stage.lattice.unmap("
        "keen.stage.frame - keen.stage.first, x, y)[1])",
        [[(x + 0.5) / 1280, (y + 0.5) / 720] for x, y in band[::6].tolist()],
    )
    ends = [rows[0] + (rows[-1] - rows[0]) * k / (len(rows) - 1) for k in range(len(rows))]
    bend = max(abs(a - b) for a, b in zip(rows, ends, strict=True)) * 720
    assert bend < 1.5
    assert lens.complaints == []


def test_numbers_draw_their_curve_and_are_reset_one_by_one(lens: Page):
    way(lens, "Numbers")
    lens.locator("#lensmodel").select_option("brown")
    settled(lens)
    entry = lens.get_by_role("spinbutton", name="k1", exact=True)
    entry.fill("-0.2")
    entry.press("Tab")
    settled(lens)
    expect(lens.locator(".curve path")).to_have_count(1)
    assert lens.evaluate(f"{DATA}.treatment.lens.k1") == -0.2
    lens.get_by_role("button", name="Reset k1").click()
    settled(lens)
    assert lens.evaluate(f"{DATA}.treatment.lens.k1") == 0


def test_an_amount_that_starts_at_nothing_and_ends_in_full(lens: Page):
    way(lens, "Numbers")
    lens.locator("#lensmodel").select_option("brown")
    settled(lens)
    entry = lens.get_by_role("spinbutton", name="k1", exact=True)
    entry.fill("-0.3")
    entry.press("Tab")
    settled(lens)
    lens.keyboard.press("Home")
    until(lens, "keen.stage.frame === keen.stage.first")
    lens.get_by_role("button", name="Keyframe of amount here").click()
    settled(lens)
    amount = lens.get_by_role("spinbutton", name="Amount, 0 to 100")
    amount.fill("0")
    amount.press("Tab")
    settled(lens)
    lens.evaluate("keen.stage.seek(keen.stage.last)")
    until(lens, "keen.stage.frame === keen.stage.last")
    amount.fill("100")
    amount.press("Tab")
    settled(lens)
    keys = lens.evaluate(f"{DATA}.treatment.keys['lens.amount']")
    assert [key["value"] for key in keys] == [0, 100]
    bends = lens.evaluate(
        "() => [keen.stage.first, keen.stage.last].map((f) => {"
        " const n = keen.stage.lattice.frame(f - keen.stage.first);"
        " const at = (c, r) => n[2 * (r * 33 + c) + 1];"
        " return Math.abs(at(16, 0) - (at(0, 0) + at(32, 0)) / 2); })"
    )
    assert bends[0] < 0.004
    assert bends[1] > bends[0] + 0.01
    # Copied to another frame, made straight, deleted.
    lens.get_by_role("button", name="Copy", exact=True).first.click()
    pause_at(lens, 15)
    lens.get_by_role("button", name="Paste here").click()
    settled(lens)
    assert lens.evaluate(f"{DATA}.treatment.keys['lens.amount'].length") == 3
    lens.get_by_role("button", name="Make straight").click()
    settled(lens)
    assert lens.evaluate(f"{DATA}.treatment.keys['lens.amount'][1].smooth") is False
    lens.keyboard.press("Delete")
    settled(lens)
    assert lens.evaluate(f"{DATA}.treatment.keys['lens.amount'].length") == 2


def test_corners_are_dragged_and_squared_up(lens: Page):
    lens.locator(".station-open").filter(has_text="Frame").click()
    fold = unfolded(lens, "Turn and square up")
    lens.get_by_role("button", name="Set corners").click()
    until(lens, "keen.stage.grips.length === 4")
    spot = lens.evaluate(
        "() => { const g = keen.stage.grips[0].spot;"
        " const r = keen.stage.picture.getBoundingClientRect();"
        " return [r.left + g[0] / keen.stage.ratio, r.top + g[1] / keen.stage.ratio]; }"
    )
    lens.mouse.move(spot[0] + 2, spot[1] + 2)
    lens.mouse.down()
    lens.mouse.move(spot[0] + 90, spot[1] + 40, steps=4)
    assert lens.evaluate("keen.stage.magnified !== null")
    lens.mouse.up()
    lens.get_by_role("button", name="Square up", exact=True).click()
    settled(lens)
    frame = lens.evaluate(f"{DATA}.treatment.frame")
    assert frame["square_up"] is True
    assert frame["top_left_x"] > 5
    lens.keyboard.press("h")
    assert lens.evaluate("keen.stage.clean") is True
    lens.keyboard.press("h")
    fold.get_by_role("button", name="None").click()
    settled(lens)
    assert lens.evaluate(f"{DATA}.treatment.frame.square_up") is False
    assert lens.complaints == []


def test_the_horizon_line_tells_tilt_and_bend(lens: Page):
    unfolded(lens, "Grid and horizon")
    lens.get_by_role("button", name="Horizon line").click()
    band = pictured_edge(TAKE, shed_edges()[0], FRAME)
    lens.evaluate(
        "(ends) => { const d = Alpine.$data(document.querySelector('.clip'));"
        " d.horizon = ends.map(([x, y]) => keen.stage.lattice.unmap("
        "keen.stage.frame - keen.stage.first, x, y));"
        " return d.measureHorizon(); }",
        [[(x + 0.5) / 1280, (y + 0.5) / 720] for x, y in (band[2].tolist(), band[-3].tolist())],
    )
    words = lens.evaluate(f"{DATA}.horizonWords")
    assert "Tilt" in words
    assert float(words.split("bent by ")[1].split(" ")[0]) > 6
    lens.get_by_role("button", name="Level", exact=True).click()
    settled(lens)
    assert lens.evaluate(f"Math.abs({DATA}.treatment.frame.turn)") < 3
