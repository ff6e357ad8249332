"""The pages for everybody: faults of accessibility, the keyboard alone, browsers that fail."""

from __future__ import annotations

from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from keen_horizon.core.stations import light_path
from keen_horizon.launch.running import Running
from tests.browser.conftest import choose, report, station, tools
from tools.browser import until, wait_ready, wait_settled

pytestmark = pytest.mark.browser
AXE = Path(__file__).parents[2] / "node_modules/axe-core/axe.min.js"
FOUND = """async () => {
  const { violations } = await axe.run(document, { resultTypes: ["violations"] });
  return violations.filter((one) => ["serious", "critical"].includes(one.impact)).map((one) =>
    `${one.id}: ${one.nodes.map((node) => node.target.join(" ")).slice(0, 4).join(", ")}`);
}"""


def faults(page: Page) -> list[str]:
    """Serious faults of the page as it stands."""
    page.evaluate(AXE.read_text("utf-8"))
    return page.evaluate(FOUND)


@pytest.fixture(params=["day", "night"])
def light(request: pytest.FixtureRequest, page: Page, running: Running) -> Page:
    """A page by day and by night, which it remembers."""
    page.goto(running.address)
    if request.param == "night":
        page.get_by_role("button", name="Day or night").click()
    yield page
    page.goto(running.address)
    if request.param == "night":
        page.get_by_role("button", name="Day or night").click()
    page.complaints.clear()


def test_no_screen_has_serious_faults_of_accessibility(light: Page, clip: str, running: Running):
    found = {}
    for address in (running.address, running.address + "nowhere", f"{clip}/exports"):
        light.goto(address)
        light.wait_for_load_state("networkidle")
        found[address] = faults(light)
    light.locator("[aria-controls=tray]").click()
    found["tray"] = faults(light)
    light.goto(clip)
    wait_ready(light)
    for one in light_path("flat"):
        station(light, one.title)
        light.evaluate("for (const fold of document.querySelectorAll('details')) fold.open = true")
        found[one.title] = faults(light)
    station(light, "Lens")
    for way in ("Edges", "Chart", "Cabinet", "Numbers"):
        choose(light, way)
        found[way] = faults(light)
    light.get_by_role("button", name="Keys").click()
    found["keys"] = faults(light)
    light.get_by_role("button", name="Keys").click()
    light.evaluate("for (const fold of document.querySelectorAll('details')) fold.open = false")
    assert {where: what for where, what in found.items() if what} == {}


def test_links_lead_where_they_say(fresh: Page, clip: str, running: Running):
    fresh.evaluate("document.activeElement.blur()")
    fresh.goto(f"{clip}/exports")
    fresh.keyboard.press("Tab")
    skip = fresh.get_by_role("link", name="Go to the content")
    expect(skip).to_be_focused()
    expect(skip).to_be_visible()
    fresh.keyboard.press("Enter")
    expect(fresh.locator("main")).to_be_focused()
    fresh.get_by_role("link", name="Back to the clip").click()
    fresh.wait_for_url(clip)
    fresh.get_by_role("link", name="Keen Horizon: the shelf").click()
    fresh.wait_for_url(running.address)
    light = fresh.get_by_role("button", name="Day or night")
    expect(light).to_have_text("Night")
    light.click()
    expect(light).to_have_text("Day")
    light.click()


def focused(page: Page) -> str:
    return page.evaluate("document.activeElement.textContent.trim()")


def test_a_group_of_choices_is_one_stop_of_the_tab_key(fresh: Page):
    group = fresh.get_by_role("radiogroup", name="View")
    stops = group.locator("[role=radio][tabindex='0']")
    expect(stops).to_have_count(1)
    stops.focus()
    fresh.keyboard.press("ArrowRight")
    assert focused(fresh) == "Split"
    assert fresh.evaluate("keen.view.mode") == "split"
    fresh.keyboard.press("ArrowLeft")
    fresh.keyboard.press("ArrowLeft")
    assert focused(fresh) == "Original"
    fresh.keyboard.press("ArrowLeft")
    assert focused(fresh) == "Difference"  # round
    expect(stops).to_have_text("Difference")
    fresh.keyboard.press("Tab")
    assert focused(fresh) not in ("Original", "Treated", "Split")


def test_letters_can_be_switched_off(fresh: Page):
    fresh.keyboard.press("?")
    keys = fresh.get_by_role("region", name="Keys")
    expect(keys).to_be_visible()
    letters = keys.get_by_label("Letters and signs do this, too")
    letters.uncheck()
    fresh.keyboard.press("?")
    expect(keys).to_be_visible()
    frame = fresh.evaluate("keen.clock.frame")
    fresh.keyboard.press("g")
    assert not fresh.evaluate("keen.view.grid")
    # What is no letter still works, and the choice is remembered.
    expect(letters).to_be_focused()
    fresh.keyboard.press("ArrowRight")
    until(fresh, f"keen.clock.frame === {frame + 1}")
    fresh.reload()
    wait_ready(fresh)
    fresh.keyboard.press("?")
    expect(keys).to_be_hidden()
    fresh.get_by_role("button", name="Keys").click()
    letters.check()
    keys.get_by_role("button", name="Close").click()
    expect(keys).to_be_hidden()


def test_focus_stays_where_it_was_after_a_click(fresh: Page):
    calm = tools(fresh, "Motion").get_by_role("button", name="Unlink")
    calm.click()
    wait_settled(fresh)
    assert "Link" in focused(fresh) or "link" in focused(fresh)
    fresh.get_by_role("button", name="Undo").click()
    wait_settled(fresh)


def test_the_tools_can_be_wider_by_keys_and_by_dragging_and_stay_so(fresh: Page):
    edge = fresh.get_by_role("separator", name="Width of the tools")
    width = "document.querySelector('aside.tools').getBoundingClientRect().width"
    before = fresh.evaluate(width)
    edge.focus()
    fresh.keyboard.press("ArrowLeft")
    fresh.keyboard.press("ArrowLeft")
    assert fresh.evaluate(width) == pytest.approx(before + 32, abs=1)
    assert edge.get_attribute("aria-valuenow") == str(round(before + 32))
    box = edge.bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + 200
    fresh.mouse.move(x, y)
    fresh.mouse.down()
    fresh.mouse.move(x - 60, y, steps=4)
    fresh.mouse.up()
    wide = fresh.evaluate(width)
    assert wide == pytest.approx(before + 92, abs=4)
    fresh.reload()
    wait_ready(fresh)
    assert fresh.evaluate(width) == pytest.approx(wide, abs=1)
    edge.focus()
    fresh.keyboard.press("Home")
    assert fresh.evaluate(width) == pytest.approx(before, abs=1)


@pytest.mark.parametrize("kept", ["{", "[1]", '{"toolsWidth": "wide", "marks": 7}', "null"])
def test_what_the_browser_kept_never_keeps_a_page_from_opening(fresh: Page, kept: str):
    fresh.evaluate("kept => localStorage.setItem('keen-view', kept)", kept)
    fresh.reload()
    wait_ready(fresh)
    assert fresh.complaints == []
    assert report(fresh)["shake_removed"] > 0
    fresh.evaluate("localStorage.removeItem('keen-view')")
    fresh.reload()
    wait_ready(fresh)


def test_a_lost_graphics_card_is_waited_for_and_drawn_on_again(fresh: Page):
    drawn = (
        "() => { keen.stage.draw(); const c = keen.stage.picture; const d = document"
        ".createElement('canvas'); d.width = 64; d.height = 36; const p = d.getContext('2d');"
        " p.drawImage(c, 0, 0, 64, 36); const data = p.getImageData(0, 0, 64, 36).data;"
        " return [...data].reduce((a, b) => a + b, 0) / data.length; }"
    )
    before = fresh.evaluate(drawn)
    fresh.evaluate(
        "() => { window.card = keen.stage.picture.getContext('webgl')"
        ".getExtension('WEBGL_lose_context'); card.loseContext(); }"
    )
    expect(fresh.locator(".stage-note")).to_contain_text("graphics")
    fresh.evaluate("card.restoreContext()")
    expect(fresh.locator(".stage-note")).not_to_contain_text("graphics")
    fresh.wait_for_timeout(500)
    assert fresh.evaluate(drawn) == pytest.approx(before, abs=6)
    fresh.complaints.clear()


def test_what_a_station_does_to_pixels_is_drawn_by_its_own_rule(fresh: Page):
    """A rule that the server might send: it compiles, has its numbers, and dims what is shown."""
    mean = (
        "() => { keen.stage.draw(); const d = document.createElement('canvas'); d.width = 64;"
        " d.height = 36; const p = d.getContext('2d');"
        " p.drawImage(keen.stage.picture, 0, 0, 64, 36);"
        " const data = p.getImageData(0, 0, 64, 36).data;"
        " return data.filter((_, i) => i % 4 < 3).reduce((a, b) => a + b, 0); }"
    )
    plain = fresh.evaluate(mean)
    fresh.evaluate(
        "() => { const stage = { name: 'dim', end: 'source', shader:"
        " 'uniform float dim_gain; vec3 dim(vec3 light, vec2 at) { return dim_gain * light; }',"
        " uniforms: { dim_gain: { size: 1, values: btoa(String.fromCharCode("
        "...new Uint8Array(new Float32Array(200).fill(0.25).buffer))) } } };"
        " keen.stage.renderer.setStages([stage]); }"
    )
    dimmed = fresh.evaluate(mean)
    assert 0.35 * plain < dimmed < 0.75 * plain  # a quarter of the light is about half the code
    fresh.evaluate("keen.stage.renderer.setStages([])")
    assert fresh.evaluate(mean) == pytest.approx(plain, rel=0.02)
    assert fresh.complaints == []
