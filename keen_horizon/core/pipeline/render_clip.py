"""Drawing a solved clip into a film: warped, its pixels changed."""

from __future__ import annotations

from collections.abc import Generator, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import numpy as np

from ..errors import KeenError
from ..geometry.canvas import Canvas
from ..geometry.chain import WarpChain
from ..media.ahead import pictures_ahead
from ..media.decode import Picture, Plane, frames
from ..media.encode import Encoding
from ..media.probe import Scan
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
from .film import Film, Rendered
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


@dataclass(frozen=True, kw_only=True)
class FlatFilm(Film[tuple[Picture, Held]]):
    """A flat clip's film, as ``drawing`` has it."""

    drawing: Drawing

    @property
    def canvas(self) -> Canvas:
        return self.drawing.chain.view.output

    @cached_property
    def painter(self) -> Painter:
        return Painter(space_of(self.scan.probe), self.drawing.pixels, self.first)

    def draw(self, seen: tuple[Picture, Held], planes: tuple[Plane, ...]) -> Picture:
        """See :meth:`Film.draw`: of a picture, and those held about it that may lend."""
        picture, held = seen
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
        return picture

    def one(self, frame: int) -> tuple[Picture, tuple[Plane, ...]]:
        """One frame of the file, and the planes that are drawn of it. Raises KeenError for one that
        is not among those of the chain."""
        if not self.first <= frame <= self.last:
            raise KeenError(f"frame {frame} is none of {self.first} to {self.last}.")
        with closing(self.pictures(frame)) as pictures:
            picture, held = next(pictures)
        output = self.canvas
        planes = tuple(
            np.empty((-(-output.height // down), -(-output.width // across)), plane.dtype)
            for plane, (across, down) in zip(
                picture.planes, ((1, 1), picture.chroma, picture.chroma), strict=True
            )
        )
        self.draw((picture, held), planes)
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
        with pictures_ahead(read, self.scan.probe.canvas) as decoded:
            for picture in decoded:
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


def flat_film(
    path: Path, scan: Scan, drawing: Drawing, first: int, *, encoding: Encoding | None = None
) -> FlatFilm:
    """The film of the chain's frames, which start at ``first`` of the file."""
    return FlatFilm(
        path=path, scan=scan, drawing=drawing, first=first, last=first + len(drawing.chain) - 1,
        encoding=encoding or Encoding(),
    )  # fmt: skip


def render(
    path: Path, scan: Scan, drawing: Drawing, first: int, target: Path, *,
    encoding: Encoding | None = None, progress: Progress = silent, room: Path | None = None,
) -> Rendered:  # fmt: skip
    """Draw :func:`flat_film` into a file, see :meth:`.Film.render`."""
    film = flat_film(path, scan, drawing, first, encoding=encoding)
    return film.render(target, progress, room=room)
