"""``docs/benchmarks.md``: a section for each part of the bench, each of its own run.

A part that is run alone writes its own section anew and leaves the others; so each says when it
was run, on which state of the code, and how fast the machine was then.
"""

from __future__ import annotations

import datetime
import os
import platform
import re
import subprocess
import tempfile
from pathlib import Path

import cv2
import numpy as np

from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan

from .films import FULL_HD, coded
from .rows import Row, timed

HOME = Path(__file__).parent.parent
DOCUMENT = HOME / "docs" / "benchmarks.md"
FRAMES = 48  # decoded to tell how fast the machine is
HEAD = f"""# Benchmarks

Written by `./keen bench`, a section for each of its parts; `./keen bench PART…` writes those alone
anew. Accuracy is against the simulated camera's truth; *truth* is photographs on planes in 3-D,
corrected by the command line at its default settings and judged from the pixels of what it wrote.
Speeds are medians of runs taken in turn.

Machine: {os.cpu_count()} cores, {platform.machine()}, Python {platform.python_version()}, OpenCV
{cv2.__version__}. No GPU.
"""


def write(part: str, rows: list[Row], to: Path = DOCUMENT) -> str:
    """Put a part's rows where the document has that part, or at its end; the section as written."""
    found = _sections(to.read_text()) if to.exists() else {}
    found[part] = section(part, rows)
    to.write_text("\n".join([HEAD, *found.values()]))
    return found[part]


def section(part: str, rows: list[Row]) -> str:
    """A part's section: its heading, when it was run, a table, notes."""
    run = f"{datetime.date.today()}, {_state()}, plain decoding of 1080p {pace():.0f} fps."
    lines = [f"## {part}", "", run, ""]
    lines += ["| what | bar | measured | met |", "|---|---|---|---|"]
    for r in rows:
        lines.append(f"| {r.what} | {r.bar} | {r.measured} | {'yes' if r.met else '**no**'} |")
    notes = [f"- {r.what}: {r.note}." for r in rows if r.note]
    if notes:
        lines += ["", *notes]
    return "\n".join([*lines, ""])


def _sections(text: str) -> dict[str, str]:
    """Section texts of a document by their headings."""
    parts = re.split(r"^## (.+)\n", text, flags=re.MULTILINE)
    return {
        name: f"## {name}\n{body.rstrip()}\n"
        for name, body in zip(parts[1::2], parts[2::2], strict=True)
    }


def _state() -> str:
    """The commit that is worked on, and whether anything is changed on it."""

    def git(*words: str) -> str:
        return subprocess.run(
            ["git", *words], cwd=HOME, capture_output=True, text=True, check=True
        ).stdout.strip()

    changed = git("status", "--porcelain", "--", "keen_horizon", "tools")
    return git("rev-parse", "--short", "HEAD") + (" and changes" if changed else "")


def pace() -> float:
    """Frames of 1080p decoded a second here and now: soft shapes that move."""
    width, height = FULL_HD
    shapes = np.random.default_rng(1).integers(0, 255, (40, 60, 3), np.uint8)
    large = cv2.resize(shapes, (width + 3 * FRAMES, height + 2 * FRAMES))
    seen = [np.ascontiguousarray(large[2 * k :, 3 * k :][:height, :width]) for k in range(FRAMES)]
    with tempfile.TemporaryDirectory(prefix="keen-pace-") as folder:
        coder = {"preset": "veryfast", "crf": "18"}
        film = coded(Path(folder) / "pace.mp4", "mp4", "libx264", seen, coder)
        scanned = scan(film)
        return FRAMES / timed(lambda: sum(1 for _ in frames(film, scanned, 0, FRAMES - 1)))
