"""A headless Chromium for screenshots, benchmarks and browser tests."""

from __future__ import annotations

import base64
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np
from numpy.typing import NDArray
from playwright.sync_api import Error, Locator, Page, sync_playwright

SIZE = {"width": 1280, "height": 800}
FLAGS = [
    "--no-sandbox",  # Chromium refuses a sandbox to root
    "--disable-gpu",
    "--enable-unsafe-swiftshader",  # WebGL on the processor
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-quic",
    "--no-first-run",
    "--autoplay-policy=no-user-gesture-required",
]


@contextmanager
def browser_page(*, scheme: str = "light") -> Iterator[Page]:
    """A page of 1280 x 800; what it complains of is collected in ``page.complaints``."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        page = browser.new_page(
            viewport=SIZE,
            color_scheme=scheme,
            accept_downloads=True,  # type: ignore[arg-type]
        )
        complaints: list[str] = []
        page.on("pageerror", lambda error: complaints.append(str(error)))
        page.on(
            "console",
            lambda message: complaints.append(message.text) if message.type == "error" else None,
        )
        page.complaints = complaints  # type: ignore[attr-defined]
        try:
            yield page
        finally:
            browser.close()


IDLE = "fetch('/work').then(r => r.json()).then(d => !d.work.some(w => w.open))"


def clip_address(page: Page, address: str, name: str) -> str:
    """Of a clip of the demo shoot, once nothing is under way: its takes are recorded by workers."""
    page.goto(address)
    page.get_by_role("link", name=f"Open {name}").wait_for()
    until(page, IDLE, seconds=600)
    href = page.get_by_role("link", name=f"Open {name}").get_attribute("href")
    return address.rstrip("/") + str(href)


READY = """Boolean(window.keen && keen.stage.loaded && keen.clip.ready && keen.clip.answer.whole
  && keen.stage.lattice.length > 1)"""
SETTLED = """!keen.clip.asking && !keen.clip.wish && !keen.clip.going
  && Boolean(keen.clip.answer?.whole)"""


def until(page: Page, test: str, arg: object = None, seconds: float = 30) -> None:
    """Wait until a script's value is true. Asked from outside: the page's policy forbids the
    evaluation of strings inside it, as it should."""
    deadline = time.monotonic() + seconds
    while not _is_true(page, test, arg):
        if time.monotonic() > deadline:
            raise TimeoutError(f"waited in vain for {test}")
        page.wait_for_timeout(50)


def _is_true(page: Page, test: str, arg: object) -> bool:
    """Whether a script's value is true; not while the page is being loaded anew."""
    try:
        return bool(page.evaluate(test, arg))
    except Error as error:
        if "context was destroyed" not in error.message:
            raise
        return False


def bytes_of(place: Page | Locator, script: str) -> NDArray[np.uint8]:
    """The bytes of a typed array that a script gives; as text, as many numbers take long to send.
    Of a place on the page, the script is given its element."""
    told = place.evaluate(
        "(one) => { const bytes = (" + script + ")(one); let text = '';"
        " for (let i = 0; i < bytes.length; i += 8192)"
        " text += String.fromCharCode(...bytes.subarray(i, i + 8192)); return btoa(text); }"
    )
    return np.frombuffer(base64.b64decode(told), np.uint8)


def wait_ready(page: Page, seconds: float = 60) -> None:
    """Wait until the clip on this page is drawn through its own lattice."""
    until(page, READY, seconds=seconds)


def wait_settled(page: Page, seconds: float = 60) -> None:
    """Wait until nothing is asked any more, and all of the answer is there."""
    page.wait_for_timeout(50)
    until(page, SETTLED, seconds=seconds)


def pause_at(page: Page, frame: int) -> None:
    """Stop at a frame of the recording and wait until it is the one drawn."""
    page.evaluate("n => { keen.clock.pause(); keen.clock.seek(n); }", frame)
    until(page, "n => keen.clock.frame === n && !keen.clock.video.seeking", frame)
    page.wait_for_timeout(120)


def grip(page: Page, number: int) -> tuple[float, float]:
    """Where something that can be taken hold of is, on the page."""
    until(page, "n => keen.stage.overlay.grips.length > n", number)
    return tuple(
        page.evaluate(
            "n => { const s = keen.stage; const { away } = s.overlay.grips[n];"
            " const [o, a, b] = [[0, 0], [1e3, 0], [0, 1e3]].map((spot) => away(spot) ** 2);"
            " const [x, y] = [(o - a) / 2e3 + 500, (o - b) / 2e3 + 500];"
            " const r = s.picture.getBoundingClientRect();"
            " return [r.left + x / s.ratio, r.top + y / s.ratio]; }",
            number,
        )
    )
