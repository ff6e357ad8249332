"""A short stretch as an export draws it, at full size, and as it was recorded, to be played over
and over."""

from __future__ import annotations

from pathlib import Path

from ..geometry.canvas import Canvas
from ..geometry.chain import WarpChain
from ..geometry.view import View
from ..media.encode import Encoding
from ..media.probe import Scan
from ..progress import Progress, silent
from .render_clip import Drawing, flat_film

LONGEST = 300  # frames
ENCODING = Encoding(crf=12, preset="veryfast", keyframe=30)


def exact_loop(
    path: Path, scan: Scan, drawing: Drawing, first: int, stretch: tuple[int, int],
    targets: tuple[Path, Path], progress: Progress = silent,
) -> None:  # fmt: skip
    """Write two MP4 files of frames ``stretch``, both included: as recorded and as drawn. The
    chain's frames start at ``first``."""
    start, stop = stretch
    total = 2 * (stop - start + 1)
    canvas: Canvas = drawing.chain.source
    plain = Drawing(WarpChain(canvas, View(canvas), (), len(drawing.chain)))
    done = 0
    for target, drawn in zip(targets, (plain, drawing), strict=True):
        before = done

        def told(at: int, _: int, before: int = before) -> None:
            progress(before + at + first - start, total)

        film = flat_film(path, scan, drawn, first, encoding=ENCODING)
        film.write(target, film.pictures(start), start, stop, told)
        done += stop - start + 1
