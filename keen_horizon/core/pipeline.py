"""Measure, solve, render: the whole job as plain functions with a progress callback.

``progress(done, total)`` is called after frames; raising from it stops the work cleanly (that is
how work is cancelled).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from itertools import islice
from pathlib import Path
from typing import Any

import numpy as np

from .errors import BadSetting, KeenError, disk_errors
from .geometry.canvas import Canvas
from .geometry.chain import View, WarpChain
from .media.decode import Picture, frames, working_format
from .media.encode import Encoding, Mp4Writer
from .media.probe import Scan
from .media.segments import join, plan
from .motion.camera_motion import CameraMotion, PointTrack
from .motion.point_tracker import follow_point
from .motion.rolling_shutter import Readout
from .path.edge_fill_plan import Lenders
from .path.solution import Solution
from .picture.edge_fill import warp_borrowing
from .picture.warp import Sampler, sampler_of, warp_planes
from .tracking.features import FeatureTracker
from .tracking.tracks import Tracks, TracksWriter
from .treatment import HeldPoint, Treatment

Progress = Callable[[int, int], None]


def silent(done: int, total: int) -> None:
    """Progress that nobody watches."""


def check_range(scan: Scan, first: int, last: int) -> None:
    """Raise KeenError unless ``first`` to ``last`` (inclusive) are two frames or more of it."""
    count = scan.probe.frame_count
    if not 0 <= first < last < count:
        raise KeenError(
            f"frames {first} to {last} cannot be used: the recording has frames 0 to "
            f"{count - 1}, and a range needs at least two.",
            remedy="Choose another range.",
        )


def measure(
    path: Path, scan: Scan, first: int, last: int, folder: Path, progress: Progress = silent,
    *, closer: bool = False,
) -> Tracks:  # fmt: skip
    """Follow marks through frames ``first`` to ``last`` and keep them in ``folder``; more of them,
    and more exactly, for a ``closer`` measure.

    If ``folder`` holds a measure of the same range that was broken off, it goes on from there.
    """
    check_range(scan, first, last)
    total = last - first + 1
    follower = FeatureTracker(scan.probe.width, scan.probe.height, closer=closer)
    with disk_errors(path), TracksWriter(folder, follower) as writer:
        start = first + writer.resumed
        for picture in frames(path, scan, start, last, luma_only=True):
            writer.add(follower.step(picture.planes[0]))
            progress(picture.index - first + 1, total)
        writer.close(scan.times[first : last + 1], first)
    return Tracks.read(folder)


def follow(
    path: Path, scan: Scan, canvas: Canvas, motion: CameraMotion, point: HeldPoint,
    progress: Progress = silent,
) -> PointTrack:  # fmt: skip
    """Follow a held point through the frames of ``motion``; one that cannot be followed says so."""

    def luma(first: int, last: int) -> Iterator[Any]:
        for picture in frames(path, scan, first, last, luma_only=True):
            yield picture.planes[0]

    try:
        return follow_point(luma, canvas, motion, point, progress)
    except BadSetting as error:
        said = f"{error.message[:1].upper()}{error.message[1:]} The camera is followed instead."
        return PointTrack.nothing(len(motion), said)


@dataclass(frozen=True)
class Rendered:
    """What a render says of itself."""

    width: int
    height: int
    sound: str
    frame_count: int


def resized(view: View, lines: int | None) -> View:
    """The view delivered at ``lines`` rows (never more than it has), sizes kept even."""
    if lines is None or lines >= view.output.height:
        return view
    factor = lines / view.output.height
    width = max(16, round(view.output.width * factor / 2) * 2)
    output = Canvas(width, lines // 2 * 2, view.output.pixel_aspect)
    return replace(view, output=output, scale=view.scale * factor)


def render(
    path: Path,
    scan: Scan,
    chain: WarpChain,
    first: int,
    target: Path,
    *,
    bare: bool,
    lenders: Lenders | None = None,
    encoding: Encoding | None = None,
    lines: int | None = None,
    room: Path | None = None,
    progress: Progress = silent,
) -> Rendered:
    """Draw the chain's frames, starting at ``first`` of the file, into an MP4 with its sound.

    ``bare`` leaves uncovered areas black; otherwise the chain covers the output, or neighbours
    lend, as ``lenders`` say. With ``room``, a
    folder, the pictures are kept there in segments until all are drawn, and a render that was
    broken off goes on from the last whole one.
    """
    chain = replace(chain, view=resized(chain.view, lines))
    total = len(chain)
    last = first + total - 1
    check_range(scan, first, last)
    output = chain.view.output
    full = scan.probe.colour["range"] == 2
    format_ = working_format(scan.probe.pixel_format)

    def write(
        file: Path, pictures: Iterator[Lent], start: int, stop: int, sound: Path | None = None
    ) -> str:
        with Mp4Writer(
            file, scan, output.width, output.height, format_, encoding or Encoding(), start, stop,
            sound_from=sound, pixel_aspect=output.pixel_aspect,
        ) as writer:  # fmt: skip
            for picture, lend in islice(pictures, stop - start + 1):
                done = picture.index - first + 1
                planes = writer.blank_planes()
                sampler = sampler_of(chain[done - 1 : done])
                if lenders is None:
                    warp_planes(picture, sampler, planes, bare=bare, full_range=full)
                else:
                    warp_borrowing(picture, sampler, lend, planes, full_range=full)
                writer.write(picture.pts)
                progress(done, total)
            writer.finish()
        return writer.sound_note

    if room is None:
        sound = write(target, _lent(path, scan, chain, first, first, lenders), first, last, path)
    else:
        segments = plan(room, first, last)
        missing = [segment for segment in segments if not segment.path.exists()]
        if missing:
            pictures = _lent(path, scan, chain, first, missing[0].first, lenders)
            for segment in missing:
                write(segment.path, pictures, segment.first, segment.last)
        progress(total, total)
        sound = join(segments, target, scan, sound_from=path)
    return Rendered(output.width, output.height, sound, total)


def lenders_of(solution: Solution, treatment: Treatment) -> Lenders | None:
    """Who lends to bare edges, if the edge rule is to borrow."""
    if treatment.edge != "borrow":
        return None
    return Lenders(solution.motion, treatment.frame.borrow_reach)


Lent = tuple[Picture, Iterator[tuple[Picture, Sampler]]]


def _lent(
    path: Path, scan: Scan, chain: WarpChain, first: int, start: int, lenders: Lenders | None
) -> Iterator[Lent]:
    """Pictures from frame ``start`` on, each with those that may lend to it, nearest first.

    No more pictures are held than lie within the reach.
    """
    last = first + len(chain) - 1
    reach = max(lenders.offsets) if lenders is not None else 0
    held: dict[int, Picture] = {}
    now = start

    def lend(frame: int) -> Iterator[tuple[Picture, Sampler]]:
        assert lenders is not None
        for other in lenders.of(frame - first):
            if first + other in held:
                yield held[first + other], sampler_of(lenders.lent(chain, frame - first, other))

    begin = max(first, start - reach)
    for picture in frames(path, scan, begin, last):
        held[picture.index] = picture
        while now <= last and (now + reach <= picture.index or picture.index == last):
            yield held[now], lend(now)
            now += 1
            held.pop(now - reach - 1, None)


def measure_report(
    motion: CameraMotion, canvas: Canvas, readout: Readout | None = None
) -> dict[str, Any]:
    """The measure as JSON data: see ``docs/formats.md``."""
    matrices = motion.steps.pixel_matrices(canvas)
    return {
        "width": canvas.width,
        "height": canvas.height,
        "pixel_aspect": canvas.pixel_aspect,
        "frames": [
            {
                "index": motion.first + t,
                "time": float(motion.times[t]),
                "marks": int(motion.marks[t]),
                "confidence": round(float(motion.confidence[t]), 4),
                "previous_to_this": matrices[t].tolist(),
            }
            for t in range(len(motion))
        ],
        "cuts": (motion.first + motion.cuts).tolist(),
        "blurred": (motion.first + np.nonzero(motion.blurred)[0]).tolist(),
        "readout": None
        if readout is None
        else {
            "ms": round(readout.ms, 2),
            "sure_ms": round(readout.sure, 2) if np.isfinite(readout.sure) else None,
            "words": readout.words,
        },
    }


def correction_report(
    solution: Solution,
    treatment: Treatment,
    rendered: Rendered,
    seconds: dict[str, float],
) -> dict[str, Any]:
    """The report of a finished correction as JSON data: see ``docs/formats.md``.

    ``seconds`` spent in ``measure``, ``solve`` and ``render``.
    """
    chain, motion = solution.chain, solution.motion
    steady = chain.steady.pixel_matrices(chain.source)
    zooms = chain.view.zooms(len(chain))
    # What was solved for the full size may have been delivered smaller.
    shrink = chain.view.output.height / rendered.height
    return solution.report | {
        "pixels_per_output_pixel": solution.report["pixels_per_output_pixel"] * shrink,
        "output": solution.report["output"] | {"width": rendered.width, "height": rendered.height},
        "sound": rendered.sound,
        "treatment": treatment.model_dump(mode="json"),
        "seconds": seconds,
        "conventions": (
            "steady maps a pixel of the steadied picture (source size, before zoom) to the source "
            "pixel it is taken from, bends and rows apart; zoom is the zoom applied, zoom_needed "
            "the least for that frame"
        ),
        "frames": [
            {
                "index": motion.first + t,
                "time": float(motion.times[t]),
                "steady": steady[t].tolist(),
                "zoom": float(zooms[t]),
                "zoom_needed": float(np.minimum(solution.zooms[t], 1e6)),
            }
            for t in range(len(motion))
        ],
    }
