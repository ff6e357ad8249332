"""The one pass over the pixels: features followed through a range of a recording, part by part."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from itertools import islice
from pathlib import Path
from typing import Any

from ..errors import BadSetting, KeenError, disk_errors
from ..geometry.canvas import Canvas
from ..media.ahead import pictures_ahead
from ..media.decode import Picture, Plane, frames
from ..media.probe import Scan
from ..media.segments import Handed, Segment, missing, plan
from ..motion.camera_motion import CameraMotion, PointTrack
from ..motion.held_point import HeldPoint
from ..motion.point_tracker import follow_point
from ..progress import Progress, silent
from ..tracking.features import FeatureTracker
from ..tracking.joined import join_tracks
from ..tracking.tracks import Follower, Tracks, TracksWriter

Look = Callable[[int, Plane, Path], None]
OnTheWay = Callable[[Iterator[Picture], Segment, Path], Iterator[Picture]]


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
    """Follow features through frames ``first`` to ``last`` and keep the tracks in ``folder``; more
    of them, and more exactly, for a ``closer`` measure.

    If ``folder`` holds parts of the same measure that was broken off, it goes on after them.
    """
    return flat(path, scan, first, last, closer=closer).kept_in(folder, progress)


def flat(
    path: Path, scan: Scan, first: int, last: int,
    *, closer: bool = False, on_the_way: OnTheWay | None = None,
) -> Following:  # fmt: skip
    """The pass over a flat clip."""

    def new_follower() -> Follower:
        return FeatureTracker(scan.probe.width, scan.probe.height, closer=closer)

    return Following(path, scan, first, last, new_follower, on_the_way=on_the_way)


@dataclass(frozen=True)
class Following:
    """A pass over the pictures of frames ``first`` to ``last``, whose marks are followed.

    In each part they are followed anew, up to the next one's first frame, so that parts do not
    depend on each other; where they are joined, marks that lie on the same thing are made one.

    Followers are shown the upper left ``eye`` of pictures, if they hold more. Who else wants to
    ``look`` is given each frame's number in the range, its luma, and the folder of its part.
    Pictures go through ``on_the_way``, in colour and by a thread of its own; it is told of which
    part they are, and where what is made of it lies. Raises KeenError for a range that is none.
    """

    path: Path
    scan: Scan
    first: int
    last: int
    new_follower: Callable[[], Follower]
    eye: Canvas | None = None
    look: Look | None = None
    on_the_way: OnTheWay | None = None

    def __post_init__(self) -> None:
        check_range(self.scan, self.first, self.last)

    def parts(self, room: Path) -> list[Segment]:
        """The parts of the range, with the folders in ``room`` that they have or will have."""
        return plan(room, self.scan, self.first, self.last, "part-{}")

    def kept_in(
        self, folder: Path, progress: Progress,
        gather: Callable[[list[Segment]], None] | None = None,
    ) -> Tracks:  # fmt: skip
        """Make what is missing of it. The tracks are kept in ``folder``, meanwhile its parts, of
        which ``gather`` may take what was found in them besides."""
        room = folder / "parts"
        self.go(room, progress)
        if gather is not None:
            gather(self.parts(room))
        tracks = self.joined(room, folder)
        shutil.rmtree(room)
        return tracks

    def go(self, room: Path, progress: Progress, handed: Handed = missing) -> None:
        """Make those parts that are ``handed`` out."""
        with _Reading(self) as reading:
            for part, where in handed(self.parts(room), progress):
                with disk_errors(room, about=self.path):
                    self._make(part, where, reading, progress)

    def joined(self, room: Path, folder: Path) -> Tracks:
        """The tracks of all parts, kept in ``folder``."""
        with disk_errors(folder, about=self.path):
            folders = [part.path for part in self.parts(room)]
            times = self.scan.times[self.first : self.last + 1]
            join_tracks(folders, folder, times, self.first, self.new_follower().near)
        return Tracks.read(folder)

    def _make(self, part: Segment, where: Path, reading: _Reading, progress: Progress) -> None:
        """Follow the marks of a part, and keep it at ``where`` once it is whole."""
        begun = where.with_name(f"{where.name}.begun")
        shutil.rmtree(begun, ignore_errors=True)  # what was broken off
        follower = self.new_follower()
        with TracksWriter(begun) as writer, ExitStack() as stack:
            count = part.last - part.first + 1
            pictures: Iterator[Picture] = islice(reading.at(part.first), count)
            if self.on_the_way is not None:
                pictures = stack.enter_context(
                    pictures_ahead(self.on_the_way(pictures, part, begun), self.scan.probe.canvas)
                )
            for picture in pictures:
                luma = self._shown(picture)
                writer.add(follower.step(luma))
                if self.look is not None:
                    self.look(picture.index - self.first, luma, begun)
                progress(picture.index - self.first + 1, self.last - self.first + 1)
            beyond = part.last
            if part.last < self.last:
                beyond += 1
                writer.add(follower.step(self._shown(reading.next_one())))
            writer.close(self.scan.times[part.first : beyond + 1], part.first)
        begun.rename(where)

    def _shown(self, picture: Picture) -> Plane:
        eye = self.eye
        luma = picture.planes[0]
        return luma if eye is None else luma[: eye.height, : eye.width]


class _Reading:
    """A file's pictures, decoded ahead. Whoever goes on where somebody ended does not wait for the
    file to be entered again."""

    def __init__(self, of: Following) -> None:
        self._of = of
        self._opened = ExitStack()
        self._pictures: Iterator[Picture] = iter(())
        self._first: Picture | None = None  # that has been looked at already
        self._next = -1

    def __enter__(self) -> _Reading:
        return self

    def __exit__(self, *_: object) -> None:
        self._opened.close()

    def at(self, first: int) -> Iterator[Picture]:
        """The pictures from frame ``first`` on."""
        if first != self._next:
            self._opened.close()
            of, self._first = self._of, None
            luma_only = of.on_the_way is None
            made = frames(of.path, of.scan, first, of.last, luma_only=luma_only)
            self._pictures = self._opened.enter_context(pictures_ahead(made, of.scan.probe.canvas))
        while (picture := self._first or next(self._pictures, None)) is not None:
            self._first, self._next = None, picture.index + 1
            yield picture

    def next_one(self) -> Picture:
        """The picture that comes next, and comes again."""
        self._first = next(self._pictures)
        return self._first


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
