"""Every setting of every station, by the mouse and by the keyboard, as its declaration has it."""

from __future__ import annotations

import pytest
from playwright.sync_api import Locator, Page, expect

from keen_horizon.core.stations import light_path
from keen_horizon.web.fields import Field, fields_of
from tests.browser.conftest import choose, keys, reset, station, value
from tools.browser import pause_at, wait_ready, wait_settled

pytestmark = pytest.mark.browser
FIELDS = fields_of("flat")
# Settings with tools of their own instead of a control: their tests are those of the tools.
OF_TOOLS = {
    "lens.edges", "lens.profile", "lens.edition", "lens.found_by", "lens.residual",
    "glass.loss_r2", "glass.loss_r4", "glass.loss_r6", "glass.found_by", "glass.doubt",
    "glass.find", "glass.red_r", "glass.red_r3", "glass.blue_r", "glass.blue_r3",
    "glass.colour_found_by", "glass.colour_doubt", "glass.live",
    "motion.lock_frame", "motion.hold", "motion.hold_at", "motion.aside", "motion.steer_by",
    "frame.square_up",
} | {name for name in FIELDS if name.startswith(("frame.top_", "frame.bottom_"))}  # fmt: skip


@pytest.fixture(scope="module")
def stopped(page: Page, clip: str) -> Page:
    """The clip, opened once for all settings."""
    page.goto(clip)
    wait_ready(page)
    pause_at(page, 30)
    return page


@pytest.fixture
def fresh(stopped: Page) -> Page:
    stopped.complaints.clear()
    return stopped


def controls_of(*kinds: str) -> list[str]:
    """Names of the settings that have controls of these kinds."""
    return [f.name for f in FIELDS.values() if f.kind in kinds and f.name not in OF_TOOLS]


def settings_for(field: Field) -> list[str]:
    """What has to be set for a field to have an effect."""
    station_name = field.name.split(".")[0]
    said = [
        f"{station_name}.{key}={str(values[0]).lower()}"
        for case in field.facts.needs[:1]
        for key, values in case.items()
    ]
    if field.name.startswith("motion.calm_"):
        said += [f"motion.calm_{part}=40" for part in ("across", "updown", "roll", "size")]
    if station_name == "lens" and field.name != "lens.model":
        said += ["lens.model=fisheye" if field.name == "lens.k4" else "lens.model=brown"]
    return said


def shown(page: Page, field: Field) -> Locator:
    """The control of a setting, with all that hides it out of the way."""
    name = field.name.split(".")[0]
    reset(page, *settings_for(field))
    station(page, next(one.title for one in light_path("flat") if one.name == name))
    if name == "lens":
        choose(page, "Numbers")
    control = page.locator(
        f"""[x-data="field('{field.name}')"], [x-data="choice('{field.name}')"]"""
    )
    fold = page.locator("details").filter(has=control)
    if fold.count() and fold.get_attribute("open") is None:
        fold.locator("summary").click()
    expect(control).to_be_visible()
    return control


def test_every_setting_has_a_control_or_tools_of_its_own(opened: Page):
    on_page = opened.evaluate(
        "() => [...document.querySelectorAll('[x-data]')].map((one) => one.getAttribute('x-data'))"
        ".map((told) => told.match(/^(?:field|choice)\\('(.*)'\\)$/)?.[1]).filter(Boolean)"
    )
    switches = {f"{one.name}.on" for one in light_path("flat")}
    assert set(on_page) | switches | OF_TOOLS == set(FIELDS)
    assert not set(on_page) & OF_TOOLS


@pytest.mark.parametrize("name", controls_of("number", "whole"))
def test_a_number_is_set_by_slider_and_entry_and_keyed(fresh: Page, name: str):
    field = FIELDS[name]
    control = shown(fresh, field)
    before = value(fresh, name)
    slider = control.locator("input[type=range]")
    if slider.count():
        slider.focus()
        at_end = before is not None and before >= field.slides[1]
        slider.press("ArrowLeft" if at_end else "ArrowRight")
        wait_settled(fresh)
        step = -field.facts.step if at_end else field.facts.step
        assert value(fresh, name) == pytest.approx(before + step, abs=field.facts.step / 2)
    entry = control.locator("input[type=number]")
    low, high = field.slides
    wanted = low + round(0.4 * (high - low) / field.facts.step) * field.facts.step
    entry.fill(f"{wanted:g}")
    entry.press("Tab")
    wait_settled(fresh)
    assert value(fresh, name) == pytest.approx(wanted)
    # What is beyond the range is refused in words, and what was there stays.
    entry.fill(f"{field.high + 1000:g}")
    entry.press("Tab")
    wait_settled(fresh)
    banner = fresh.locator(".tools .banner.is-bad")
    expect(banner).to_contain_text(f"{field.high:g}")
    assert value(fresh, name) == pytest.approx(wanted)
    expect(entry).to_have_value(f"{wanted:g}")
    banner.get_by_role("button", name="Close").click()
    expect(banner).to_be_hidden()
    fresh.complaints.clear()  # the browser notes every refusal
    # Nothing typed is nothing changed, but where an entry may be empty.
    entry.fill("")
    entry.press("Tab")
    wait_settled(fresh)
    assert value(fresh, name) == (pytest.approx(wanted) if slider.count() else None)
    resets = control.get_by_role("button", name="Reset")
    if resets.count():
        resets.click()
        wait_settled(fresh)
        assert value(fresh, name) == field.default
    toggle = control.locator(".key-toggle")
    assert toggle.count() == int(field.facts.keyed)
    if field.facts.keyed:
        toggle.click()
        wait_settled(fresh)
        assert [key["frame"] for key in keys(fresh, name)] == [30]
        toggle.click()
        wait_settled(fresh)
        assert keys(fresh, name) == []
    assert fresh.complaints == []


@pytest.mark.parametrize("name", controls_of("choice"))
def test_each_choice_is_made_by_mouse_and_by_arrow_keys(fresh: Page, name: str):
    field = FIELDS[name]
    control = shown(fresh, field)
    values = list(field.facts.choices)
    listed = control.locator("select")
    if listed.count():
        for one in values[::-1]:
            listed.select_option(one)
            wait_settled(fresh)
            assert value(fresh, name) == one
        return
    for one in values[::-1]:
        button = control.get_by_role("radio", name=field.facts.choices[one].label, exact=True)
        button.click()
        wait_settled(fresh)
        assert str(value(fresh, name)).lower() == one
        expect(button).to_have_attribute("aria-checked", "true")
        expect(button).to_be_focused()
    for one in values[1:]:
        fresh.keyboard.press("ArrowRight")
        wait_settled(fresh)
        assert str(value(fresh, name)).lower() == one
    expect(control.locator("[role=radio][tabindex='0']")).to_have_count(1)
    assert fresh.complaints == []


@pytest.mark.parametrize("name", controls_of("tick", "text"))
def test_a_tick_or_a_word_is_set(fresh: Page, name: str):
    field = FIELDS[name]
    if name.endswith(".on"):
        reset(fresh)
        switch = fresh.get_by_role("switch").nth(
            [one.name for one in light_path("flat")].index(name[:-3])
        )
        switch.click()
        wait_settled(fresh)
        assert value(fresh, name) is not field.default
        expect(switch).to_have_attribute("aria-checked", str(not field.default).lower())
        switch.press("Enter")
        wait_settled(fresh)
        assert value(fresh, name) is field.default
        return
    control = shown(fresh, field)
    if field.kind == "tick":
        control.locator("input").click()
        wait_settled(fresh)
        assert value(fresh, name) is not field.default
        return
    entry = control.locator("input")
    entry.fill("16:9")
    entry.press("Tab")
    wait_settled(fresh)
    assert value(fresh, name) == "16:9"
    entry.fill("")
    entry.press("Tab")
    wait_settled(fresh)
    assert value(fresh, name) == field.default
    assert fresh.complaints == []
