"""The one pass over the pixels: features followed through a range of a recording.

``progress(done, total)`` is called after frames; raising from it stops the work cleanly (that is
how work is cancelled).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import numpy as np

from ..errors import BadSetting, KeenError, disk_errors
from ..geometry.canvas import Canvas
from ..media.ahead import ahead
from ..media.decode import Picture, Plane, frames
from ..media.probe import Scan
from ..motion.camera_motion import CameraMotion, PointTrack
from ..motion.held_point import HeldPoint
from ..motion.point_tracker import follow_point
from ..tracking.features import FeatureTracker
from ..tracking.tracks import Follower, Tracks, TracksWriter

Progress = Callable[[int, int], None]
Look = Callable[[int, Plane], None]
OnTheWay = Callable[[Iterator[Picture], int], Iterator[Picture]]


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
    *, closer: bool = False, on_the_way: OnTheWay | None = None,
) -> Tracks:  # fmt: skip
    """Follow features through frames ``first`` to ``last`` and keep the tracks in ``folder``; more
    of them, and more exactly, for a ``closer`` measure. ``on_the_way`` something else can be made
    of the pictures.

    If ``folder`` holds a measure of the same range that was broken off, it goes on from there.
    """
    tracker = FeatureTracker(scan.probe.width, scan.probe.height, closer=closer)
    return followed_through(
        path, scan, first, last, folder, tracker, progress, on_the_way=on_the_way
    )


def followed_through(
    path: Path, scan: Scan, first: int, last: int, folder: Path, tracker: Follower,
    progress: Progress, eye: Canvas | None = None, look: Look | None = None,
    on_the_way: OnTheWay | None = None,
) -> Tracks:  # fmt: skip
    """The tracks of ``tracker`` through frames ``first`` to ``last``, kept in ``folder``; it is
    shown the upper left ``eye`` of pictures, if they hold more. Who else wants to ``look`` is given
    each frame's number in the range, and its luma. Pictures go through ``on_the_way``, which is
    told the first one's number, in colour and by a thread of its own."""
    check_range(scan, first, last)
    total = last - first + 1
    part = ... if eye is None else np.s_[: eye.height, : eye.width]
    with disk_errors(folder, about=path), TracksWriter(folder, tracker) as writer:
        start = first + writer.resumed
        with ExitStack() as stack:
            read = frames(path, scan, start, last, luma_only=on_the_way is None)
            pictures = stack.enter_context(ahead(read))
            if on_the_way is not None:
                pictures = stack.enter_context(ahead(on_the_way(pictures, start)))
            for picture in pictures:
                luma = picture.planes[0][part]
                writer.add(tracker.step(luma))
                if look is not None:
                    look(picture.index - first, luma)
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
