"""Drawing a solved clip into a file: decode, warp, change pixels, encode; resumable."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from contextlib import ExitStack, closing
from dataclasses import dataclass, field
from functools import cached_property
from itertools import islice
from pathlib import Path

import numpy as np

from ..errors import KeenError
from ..geometry.chain import WarpChain
from ..media.ahead import ahead
from ..media.damage import damage_words
from ..media.decode import Picture, Plane, frames, working_format
from ..media.encode import Blank, Encoding, Mp4Writer
from ..media.probe import Scan
from ..media.segments import Handed, Segment, join, missing, plan
from ..path.edge_fill_plan import Lenders
from ..picture.edge_fill import Lender, warp_with_lenders
from ..picture.even_sharpness import lend_detail
from ..picture.painter import Painter
from ..picture.pixel_stage import AnyStage
from ..picture.warp import sampler_of
from ..picture.working_space import space_of
from ..progress import Progress, silent
from ..stations.finish import FINISH
from ..stations.frame import FRAME
from ..treatment import Treatment
from ..types import Flags
from .measure_tracks import check_range
from .solve_clip import Solution

Held = Mapping[int, Picture]  # by their index in the recording


@dataclass(frozen=True)
class EvenSharpness:
    """Which frames of the range take detail of others, ``blurred`` ``(n,)``, from whom, and by what
    ``amount``, 0..1."""

    lenders: Lenders
    blurred: Flags
    amount: float

    def of(self, frame: int) -> Iterator[int]:
        """The frames that lend to ``frame``, nearest first: the next sharp one on either side."""
        sides: set[bool] = set()
        for other in self.lenders.of(frame):
            if not self.blurred[other] and (other > frame) not in sides:
                sides.add(other > frame)
                yield other


@dataclass(frozen=True)
class Drawing:
    """What is drawn: the ``chain``; ``bare`` leaves what no source pixel covers black, otherwise
    the chain covers the output, or neighbours lend, as ``lenders`` say; ``pixels`` are what is done
    to pixels besides; ``even`` gives blurred frames detail."""

    chain: WarpChain
    bare: bool = False
    lenders: Lenders | None = None
    pixels: tuple[AnyStage, ...] = ()
    even: EvenSharpness | None = None


def pixel_stages(
    solution: Solution, treatment: Treatment, lines: int | None = None
) -> tuple[AnyStage, ...]:
    """What a treatment does to the pixels of a solution, at its own size or at so many lines."""
    scene = solution.scene(treatment, lines)
    return tuple(
        stage for station, own in treatment.each("flat") for stage in station.pixels(own, scene)
    )


def drawing_of(solution: Solution, treatment: Treatment, lines: int | None = None) -> Drawing:
    """A solution drawn as its treatment's edge rule has it, at its own size or at so many
    ``lines``."""
    frame = treatment.of(FRAME)
    lenders = None
    if frame.rule == "borrow":
        lenders = Lenders(solution.motion, frame.borrow_reach)
    pixels = pixel_stages(solution, treatment, lines)
    finish, even = treatment.of(FINISH), None
    blurred = solution.motion.timeline.blurred
    if finish.on and finish.even and blurred.any():
        near = Lenders(solution.motion, finish.even_reach)
        even = EvenSharpness(near, blurred, finish.even / 100)
    return Drawing(solution.chain.resized(lines), frame.rule == "leave", lenders, pixels, even)


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


@dataclass(frozen=True)
class Render:
    """One render: the file it reads, from frame ``first`` on, and what it draws."""

    path: Path
    scan: Scan
    drawing: Drawing
    first: int
    encoding: Encoding = field(default_factory=Encoding)
    progress: Progress = silent
    damaged: list[int] = field(default_factory=list)

    @property
    def last(self) -> int:
        return self.first + len(self.drawing.chain) - 1

    @cached_property
    def painter(self) -> Painter:
        return Painter(space_of(self.scan.probe), self.drawing.pixels, self.first)

    def draw(self, picture: Picture, held: Held, planes: tuple[Plane, ...]) -> None:
        """Fill the planes of one output frame; ``held`` are pictures about it that may lend."""
        at = picture.index - self.first
        drawing, painter = self.drawing, self.painter
        sampler = sampler_of(drawing.chain[at : at + 1])
        if drawing.lenders is None:
            painter.paint(picture, sampler, planes, bare=drawing.bare)
        else:
            lend = self._lend(at, drawing.lenders, drawing.lenders.of(at), held)
            warp_with_lenders(picture, sampler, lend, planes, painter)
        if drawing.even is not None and drawing.even.blurred[at]:
            even = drawing.even
            sharper = self._lend(at, even.lenders, even.of(at), held)
            lend_detail(planes, sharper, painter, even.amount)
        painter.finish(picture, sampler, planes)

    def one(self, frame: int) -> tuple[Picture, tuple[Plane, ...]]:
        """One frame of the file, and the planes that are drawn of it. Raises KeenError for one that
        is not among those of the chain."""
        if not self.first <= frame <= self.last:
            raise KeenError(f"frame {frame} is none of {self.first} to {self.last}.")
        with closing(self.pictures(frame)) as pictures:
            picture, held = next(pictures)
        output = self.drawing.chain.view.output
        planes = tuple(
            np.empty((-(-output.height // down), -(-output.width // across)), plane.dtype)
            for plane, (across, down) in zip(
                picture.planes, ((1, 1), picture.chroma, picture.chroma), strict=True
            )
        )
        self.draw(picture, held, planes)
        return picture, planes

    def pictures(self, start: int) -> Generator[tuple[Picture, Held], None, None]:
        """Pictures from frame ``start`` on, each with those that are held about it, by their index.

        No more pictures are held than lie within the reach.
        """
        drawing = self.drawing
        who = (drawing.lenders, drawing.even.lenders if drawing.even else None)
        reach = max((max(one.offsets) for one in who if one is not None), default=0)
        held: dict[int, Picture] = {}
        now = start
        read = frames(self.path, self.scan, max(self.first, start - reach), self.last)
        with ahead(read) as decoded:
            for picture in decoded:
                if picture.corrupt:
                    self.damaged.append(picture.index)
                held[picture.index] = picture
                at = picture.index
                while now <= self.last and (now + reach <= at or at == self.last):
                    yield held[now], held
                    now += 1
                    held.pop(now - reach - 1, None)

    def _lend(
        self, frame: int, lenders: Lenders, others: Iterator[int], held: Held
    ) -> Iterator[Lender]:
        """Those of ``others`` that are held, and where they would be seen in ``frame``; both are
        counted from the start of the range."""
        for other in others:
            if self.first + other in held:
                lent = lenders.lent(self.drawing.chain, frame, other)
                yield held[self.first + other], sampler_of(lent)

    def write(
        self, target: Path, pictures: Iterator[tuple[Picture, Held]],
        start: int, stop: int, sound_from: Path | None = None,
    ) -> str:  # fmt: skip
        """Draw frames ``start`` to ``stop`` into a file; returns what to say of the sound."""
        output = self.drawing.chain.view.output
        with Mp4Writer(
            target, self.scan, output.width, output.height,
            working_format(self.scan.probe.pixel_format), self.encoding, start, stop,
            sound_from=sound_from, pixel_aspect=output.pixel_aspect,
        ) as writer:  # fmt: skip

            def drawn() -> Iterator[tuple[Picture, Blank]]:
                for picture, held in islice(pictures, stop - start + 1):
                    blank = writer.blank()
                    self.draw(picture, held, blank.planes)
                    yield picture, blank

            with ahead(drawn()) as done:
                for picture, blank in done:
                    writer.write(blank, picture.pts)
                    self.progress(picture.index - self.first + 1, len(self.drawing.chain))
            writer.finish()
        return writer.sound_note


def render(
    path: Path,
    scan: Scan,
    drawing: Drawing,
    first: int,
    target: Path,
    *,
    encoding: Encoding | None = None,
    room: Path | None = None,
    progress: Progress = silent,
    handed: Handed = missing,
) -> Rendered:
    """Draw the chain's frames, starting at ``first`` of the file, into an MP4 with its sound.

    With ``room``, a folder, the pictures are kept there in segments until all are drawn, and a
    render that was broken off goes on from the last whole one. Which of them are drawn here is
    ``handed`` out, if others draw, too.
    """
    chain = drawing.chain
    job = Render(path, scan, drawing, first, encoding or Encoding(), progress)
    check_range(scan, first, job.last)
    if room is None:
        with closing(job.pictures(first)) as pictures:
            sound = job.write(target, pictures, first, job.last, path)
    else:
        segments = plan(room, scan, job.first, job.last)
        _draw(job, handed(segments, progress))
        progress(len(chain), len(chain))
        sound = join(segments, target, job.scan, sound_from=job.path)
    output = chain.view.output
    return Rendered(output.width, output.height, sound, len(chain), tuple(job.damaged))


def help_render(
    path: Path, scan: Scan, drawing: Drawing, first: int, room: Path, encoding: Encoding,
    progress: Progress, handed: Handed,
) -> None:  # fmt: skip
    """Draw those segments of somebody else's :func:`render` that are ``handed`` out."""
    job = Render(path, scan, drawing, first, encoding, progress)
    _draw(job, handed(plan(room, scan, job.first, job.last), progress))


def _draw(job: Render, handed: Iterator[tuple[Segment, Path]]) -> None:
    """Draw segments; those that follow each other of pictures that are decoded in one go."""
    with ExitStack() as opened:
        follows, pictures = -1, job.pictures(job.first)
        for segment, where in handed:
            if segment.first != follows:
                opened.close()
                pictures = opened.enter_context(closing(job.pictures(segment.first)))
            job.write(where, pictures, segment.first, segment.last)
            follows = segment.last + 1
