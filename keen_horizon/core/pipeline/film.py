"""A film that is drawn of another's pictures: in one go, or in segments, by one or by several."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Generator, Iterator
from contextlib import ExitStack, closing
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from typing import Generic, TypeVar

from ..geometry.canvas import Canvas
from ..media.ahead import pictures_ahead
from ..media.damage import damage_words
from ..media.decode import Picture, Plane, working_format
from ..media.encode import Blank, Encoding, Mp4Writer
from ..media.probe import Scan
from ..media.segments import Handed, Segment, join, missing, plan
from ..media.spherical import SphereTag
from ..progress import Progress, silent
from .measure_tracks import check_range

Seen = TypeVar("Seen")  # what a picture is drawn of


@dataclass(frozen=True)
class Rendered:
    """What a render says of itself."""

    width: int
    height: int
    sound: str
    frame_count: int
    damaged: tuple[int, ...] = ()  # numbers of frames that were read, and bridged

    @property
    def notes(self) -> list[str]:
        """What is to be said of it."""
        words = damage_words(self.damaged)
        return [words] if words else []


@dataclass(frozen=True, kw_only=True)
class Film(ABC, Generic[Seen]):
    """A film to be drawn of frames ``first`` to ``last`` of the file at ``path``. Raises KeenError
    for a range that is none."""

    path: Path
    scan: Scan
    first: int
    last: int
    encoding: Encoding = field(default_factory=Encoding)
    damaged: list[int] = field(default_factory=list)

    def __post_init__(self) -> None:
        check_range(self.scan, self.first, self.last)

    @property
    @abstractmethod
    def canvas(self) -> Canvas:
        """Of its own pictures."""

    @property
    def sphere(self) -> SphereTag | None:
        """What its file is to say of being one."""
        return None

    @abstractmethod
    def pictures(self, start: int) -> Generator[Seen, None, None]:
        """What frames are drawn of, from ``start`` on."""

    @abstractmethod
    def draw(self, seen: Seen, planes: tuple[Plane, ...]) -> Picture:
        """Fill the planes of one frame; returns the file's picture that it is of."""

    def segments(self, room: Path) -> list[Segment]:
        """The segments that it is drawn in, with the files in ``room`` that they have or will
        have."""
        return plan(room, self.scan, self.first, self.last)

    def render(
        self, target: Path, progress: Progress = silent,
        *, room: Path | None = None, handed: Handed = missing,
    ) -> Rendered:  # fmt: skip
        """Draw all frames into an MP4 with the file's sound.

        With ``room``, a folder, the pictures are kept there in segments until all are drawn, and a
        render that was broken off goes on from the last whole one. Which of them are drawn here is
        ``handed`` out, if others draw, too.
        """
        count = self.last - self.first + 1
        if room is None:
            with closing(self.pictures(self.first)) as pictures:
                sound = self.write(
                    target, pictures, self.first, self.last, progress, sound_from=self.path
                )
        else:
            self.draw_segments(room, progress, handed)
            progress(count, count)
            sound = join(
                self.segments(room), target, self.scan, sound_from=self.path, sphere=self.sphere
            )
        size = self.canvas.width, self.canvas.height
        return Rendered(*size, sound, count, tuple(self.damaged))

    def draw_segments(self, room: Path, progress: Progress, handed: Handed) -> None:
        """Draw those segments of somebody's :meth:`render` that are ``handed`` out. Of segments
        that follow each other pictures are decoded in one go."""
        with ExitStack() as opened:
            follows, pictures = -1, self.pictures(self.first)
            for segment, where in handed(self.segments(room), progress):
                if segment.first != follows:
                    opened.close()
                    pictures = opened.enter_context(closing(self.pictures(segment.first)))
                self.write(where, pictures, segment.first, segment.last, progress)
                follows = segment.last + 1

    def write(
        self, target: Path, pictures: Iterator[Seen], start: int, stop: int, progress: Progress,
        *, sound_from: Path | None = None,
    ) -> str:  # fmt: skip
        """Draw frames ``start`` to ``stop`` into a file; returns what to say of the sound."""
        with Mp4Writer(
            target, self.scan, self.canvas.width, self.canvas.height,
            working_format(self.scan.probe.pixel_format), self.encoding, start, stop,
            sound_from=sound_from, pixel_aspect=self.canvas.pixel_aspect, sphere=self.sphere,
        ) as writer:  # fmt: skip

            def drawn() -> Iterator[tuple[Picture, Blank]]:
                for seen in islice(pictures, stop - start + 1):
                    blank = writer.blank()
                    picture = self.draw(seen, blank.planes)
                    if picture.corrupt:
                        self.damaged.append(picture.index)
                    yield picture, blank

            with pictures_ahead(drawn(), self.canvas) as done:
                for picture, blank in done:
                    writer.write(blank, picture.pts)
                    progress(picture.index - self.first + 1, self.last - self.first + 1)
            writer.finish()
        return writer.sound_note
