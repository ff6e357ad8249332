"""What there is to see while a file is taken in, and what interlaced ones are asked."""

from __future__ import annotations

from pathlib import Path

import cv2
import numpy as np
import pytest
from playwright.sync_api import Page, expect

from keen_horizon.launch.running import Running
from tests.browser.conftest import unfold
from tests.conftest import texture
from tools.browser import until, wait_ready
from tools.films import coded, scratched

pytestmark = pytest.mark.browser
STEADY = "Boolean(window.keen && keen.stage.loaded && keen.clip.answer && !keen.clip.ready)"


def dropped(page: Page, running: Running, shoot: str, path: Path) -> None:
    """Drop a file on a shoot of its own; its page opens."""
    page.goto(running.address)
    page.get_by_placeholder("Name of a new shoot").fill(shoot)
    page.get_by_role("button", name="New shoot").click()
    place = page.locator(f"section.shoot[aria-label='{shoot}']")
    place.locator("input[type=file]").set_input_files(path)
    page.wait_for_url("**/clips/*", timeout=30_000)


def test_the_file_itself_is_played_until_there_is_a_steady_picture(
    page: Page, running: Running, make_clip
):
    path = make_clip("at once.mp4", width=960, height=720, count=200)
    dropped(page, running, "At once", path)
    film = page.get_by_label("The file as it came")
    expect(film).to_be_visible(timeout=10_000)
    film.focus()
    page.keyboard.press("Space")
    until(page, "document.querySelector('.stage-file').currentTime > 0")
    expect(page.get_by_role("heading", name="Taking the file in")).to_be_visible()
    until(page, STEADY, seconds=90)  # a plain picture comes first
    expect(page.get_by_role("heading", name="Finding out what suits this clip")).to_be_visible()
    wait_ready(page, 90)
    expect(film).to_have_count(0)
    assert page.evaluate("keen.clip.treatment.motion.model") == "decide"


def test_work_on_a_file_can_be_cancelled_while_it_is_taken_in(
    page: Page, running: Running, make_clip
):
    path = make_clip("not now.mp4", width=960, height=720, count=160)
    dropped(page, running, "Not now", path)
    page.locator(".wait-card").get_by_role("button", name="Cancel").click()
    again = page.locator(".wait-card").get_by_role("button", name="Try again")
    expect(again).to_be_visible(timeout=20_000)
    again.click()
    wait_ready(page, 90)


def test_each_field_of_an_interlaced_clip_can_become_a_frame(
    page: Page, running: Running, tmp_path: Path
):
    wide = texture(760, 420)
    pictures = []
    for k in range(25):
        upper, lower = (
            cv2.warpAffine(wide, np.array([[1, 0, -9.0 * at], [0, 1, -20]]), (360, 288))
            for at in (k, k + 0.5)
        )
        lower[::2] = upper[::2]
        pictures.append(lower)
    path = coded(tmp_path / "tape.ts", "mpegts", "libx264", pictures, {"flags": "+ilme+ildct"})
    dropped(page, running, "Tapes", path)
    wait_ready(page, 90)
    fold = unfold(page, "Fields")
    expect(fold).to_contain_text("Each pair of fields a frame")
    make = fold.get_by_role("button", name="Make another clip")
    expect(make).to_be_disabled()  # it would be the same
    fold.get_by_role("radio", name="As they are").click()
    expect(fold).to_contain_text("there are combs")
    expect(make).to_be_enabled()
    fold.get_by_role("radio", name="Each pair").click()
    expect(make).to_be_disabled()
    for first in ("Lower first", "As it says", "Upper first"):
        fold.get_by_role("radio", name=first).click()
        expect(fold.get_by_role("radio", name=first)).to_have_attribute("aria-checked", "true")
    fold.get_by_role("radio", name="Each field").click()
    expect(fold).to_contain_text("Twice as many frames")
    before = page.url
    make.click()
    page.wait_for_url(lambda address: address != before and "/clips/" in address)
    wait_ready(page, 90)
    assert page.evaluate("keen.clip.frameCount") == 50
    expect(unfold(page, "Fields")).to_contain_text("Each field a frame")
    page.goto(before)  # which is as it was
    wait_ready(page, 90)
    assert page.evaluate("keen.clip.frameCount") == 25


def test_damaged_frames_are_marked_on_the_strip(
    page: Page, running: Running, tmp_path: Path, make_clip
):
    whole = make_clip("good.mp4", count=40, sound=None).read_bytes()
    path = tmp_path / "scratched.mp4"
    path.write_bytes(scratched(whole))
    dropped(page, running, "Scratched", path)
    wait_ready(page, 90)
    count = page.evaluate("keen.strip.data.damaged.length")
    assert count > 0
    expect(page.locator(".key").filter(has_text=f"× {count} damaged")).to_be_visible()
    expect(page.get_by_text("bridged by the decoder").first).to_be_visible()
