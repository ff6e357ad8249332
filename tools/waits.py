"""What an editor waits for, on the running application: ``./keen bench waits``.

From a drop to a steady picture in the browser, and from a click to a film, against what ffmpeg's
own command takes to decode and encode the same pictures with the same settings.
"""

from __future__ import annotations

import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
from playwright.sync_api import Page

from keen_horizon.core.media.encode import Encoding
from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.running import application
from keen_horizon.simulated.brindle_quay import loft_doorway, quay_walk, slip_descent
from keen_horizon.simulated.take import Take

from .browser import browser_page, until, wait_ready
from .films import coded, full_hd
from .rows import Row, say

SECONDS, RATE = 10, 30  # of each clip
TAKES: dict[str, Callable[[], Take]] = {
    "quay walk": quay_walk, "loft doorway": loft_doorway, "slip descent": slip_descent,
}  # fmt: skip
STEADY = "Boolean(window.keen && keen.stage.loaded && keen.clip.answer)"


def waits(folder: Path) -> list[Row]:
    steady, ready, films = [], [], []
    with application(folder / "app", free_port()) as running, browser_page() as page:
        for name, take in TAKES.items():
            say(f"from a drop to a steady picture: {name}")
            path = folder / f"{name}.mp4"
            there = full_hd(take(), SECONDS * RATE // 2)
            coded(path, "mp4", "libx264", [*there, *reversed(there)], {"crf": "18"}, RATE)
            first, last = _dropped(page, running.address, name, path)
            steady.append(first / SECONDS)
            ready.append(last / SECONDS)
            page.wait_for_timeout(8000)  # for all that goes on after that
            plain = _ffmpeg(path, folder / "plain.mp4")
            films.append(_exported(page) / plain)
    share = float(np.median(films))
    return [
        Row("drop of 10 s of 1080p30 to a steady picture in the browser", "≤ 0.9 × its length",
            f"{np.median(steady):.2f} × ({min(steady):.2f} to {max(steady):.2f})",
            float(np.median(steady)) <= 0.9, "the browser draws on the same two cores"),
        Row("the same, to the one that suits it best", "", f"{np.median(ready):.2f} ×", True),
        Row("export, from a click to a film, against ffmpeg's own decoding and encoding",
            "≤ 1.15 ×", f"{share:.2f} × ({min(films):.2f} to {max(films):.2f})", share <= 1.15,
            "what is drawn has less of the sensor's noise, which is less for an encoder to do"),
    ]  # fmt: skip


def _dropped(page: Page, address: str, name: str, path: Path) -> tuple[float, float]:
    """Seconds from dropping a file to a steady picture, and to the one that suits it."""
    page.goto(address)
    page.get_by_placeholder("Name of a new shoot").fill(name)
    page.get_by_role("button", name="New shoot").click()
    place = page.locator(f"section.shoot[aria-label='{name}'] input[type=file]")
    place.wait_for(state="attached")
    started = time.monotonic()
    place.set_input_files(path)
    page.wait_for_url("**/clips/*", timeout=60_000)
    until(page, STEADY, seconds=120)
    steady = time.monotonic() - started
    wait_ready(page, 120)
    return steady, time.monotonic() - started


def _exported(page: Page) -> float:
    """Seconds from a click to a film that can be had, of the clip that is open."""
    page.goto(f"{page.url}/exports")
    ask = page.get_by_role("button", name="Export", exact=True)
    page.wait_for_load_state("networkidle")
    started = time.monotonic()
    ask.click()
    page.get_by_role("link", name="Download").first.wait_for(timeout=180_000)
    return time.monotonic() - started


def _ffmpeg(path: Path, target: Path) -> float:
    own = Encoding()
    started = time.monotonic()
    subprocess.run(
        ["ffmpeg", "-y", "-v", "error", "-i", path, "-an", "-c:v", "libx264",
         "-preset", own.preset, "-crf", str(own.crf), "-g", str(own.keyframe), target],
        check=True,
    )  # fmt: skip
    return time.monotonic() - started
