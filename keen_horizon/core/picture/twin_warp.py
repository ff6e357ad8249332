"""Sampling pictures of two fisheyes back to back: through a rotation, once, blended where both see.

As :mod:`.sphere_warp`, of another source: where an output pixel lies in each lens' picture is
worked out at every eighth one and linearly between, which is exact enough everywhere, for neither
has poles or a side that goes on at another.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry.bend import NONE, bent
from ..geometry.projection import Camera, Equirectangular
from ..geometry.twin import Twin, TwinLight
from ..media.decode import Picture, Plane
from ..types import AnyArray, Rays, Real
from .round_pictures import halves_of
from .sphere_warp import CELL, MIDDLE, angle_of_pixel, between_nodes, nodes_of
from .warp import SHRINK_LIMIT, Places, chroma_matrix, nodes_over, scaled_down
from .working_space import WorkingSpace

BLOCK = 256  # output columns that are drawn at once, from only those lenses that they show
LENSES = (0, 1)
MOST_STOPS = 4.0  # that light is raised by


@dataclass(frozen=True)
class TwinSampler:
    """Where the pixels of pictures of an ``output`` camera come from in those of ``twin``."""

    output: Camera
    twin: Twin
    space: WorkingSpace  # by which code values and light belong together

    @cached_property
    def _evened(self) -> EvenLight | None:
        light = self.twin.light
        return None if light is None else EvenLight(self.twin, light, self.space)

    @cached_property
    def _nodes(self) -> Rays:
        return nodes_of(self.output)

    @cached_property
    def enlargement(self) -> float:
        """Output pixels a source pixel takes, in the middle of the output."""
        return 1 / (self.twin.lenses[0].focal * angle_of_pixel(self.output))

    def warp(self, picture: Picture, turn: Real, out: tuple[Plane, ...], bend: Real = NONE) -> None:
        """Fill ``out`` (luma, and two chroma planes if they are wanted; uint8 or uint16) with what
        the output camera sees of a ``picture`` as the file has it; ``turn`` ``(3, 3)`` takes the
        camera's rays to the sphere's, which ``bend`` then bends."""
        if self._evened is not None:
            picture = self._evened.of(picture)
        rays = bent(self._nodes @ turn.T, bend)
        places = [self.twin.to_pixels(rays, which).astype(np.float32) for which in LENSES]
        share = self.twin.share(rays).astype(np.float32)
        for k, (source, target) in enumerate(zip(picture.planes, out, strict=False)):
            step, site = ((1, 1), (0.0, 0.0)) if k == 0 else (picture.chroma, picture.natural_site)
            to_plane: Real = np.eye(3)
            if k:
                to_plane = np.asarray(np.linalg.inv(chroma_matrix(picture.chroma, picture.site)))
            if self.enlargement < SHRINK_LIMIT:
                source, small = scaled_down(source, self.enlargement)
                to_plane = small @ to_plane
            _draw(source, target, _Nodes(places, share, step, site), to_plane)


@dataclass(frozen=True)
class EvenLight:
    """The light of two lenses made alike, as a twin's ``light`` says it differs."""

    twin: Twin
    light: TwinLight
    space: WorkingSpace

    def of(self, picture: Picture) -> Picture:
        """A picture of the file whose lenses' light is raised to be alike."""
        luma, *chroma = (plane.copy() for plane in picture.planes)
        if picture.planes[1] is picture.planes[0]:  # of which luma alone is known
            chroma = []
        across, down = picture.chroma
        for which, (rows, columns) in enumerate(self._halves):
            places, angles = self._nodes[which]
            missing = self.light.missing(which, angles, picture.index)
            stops = np.minimum(missing, MOST_STOPS).astype(np.float32)
            if not stops.any():
                continue
            small = (slice(rows.start // down, -(-rows.stop // down)),
                     slice(columns.start // across, -(-columns.stop // across)))  # fmt: skip
            parts = (luma[rows, columns], *(plane[small] for plane in chroma))
            self.space.raise_light(parts, stops, places, MOST_STOPS)
        blue, red = chroma or (luma, luma)
        return replace(picture, planes=(luma, blue, red))

    @cached_property
    def _halves(self) -> tuple[tuple[slice, slice], ...]:
        return halves_of(self.twin.canvas) or ()

    @cached_property
    def _nodes(self) -> list[tuple[Places, Real]]:
        """Of each lens, nodes of its half of the picture, and radians off its axis there; where its
        picture has ended, as at its end."""
        found = []
        for lens, (rows, columns) in zip(self.twin.lenses, self._halves, strict=True):
            nodes = nodes_over(columns.stop - columns.start, rows.stop - rows.start)
            nodes += np.array([columns.start, rows.start])
            rays = lens.to_rays(nodes)
            angle = np.arccos(np.clip(rays @ lens.turn[2], -1, 1))
            found.append((Places(nodes.astype(np.float32)), np.minimum(angle, lens.reach)))
        return found


@dataclass(frozen=True)
class _Nodes:
    """What is known at the nodes, and which output pixels a plane has: ``step`` apart, the first at
    ``site``."""

    places: list[NDArray[np.float32]]
    share: NDArray[np.float32]
    step: tuple[int, int]
    site: tuple[float, float]

    def spread(self, values: AnyArray, columns: slice, rows: int) -> AnyArray:
        """``(rows, columns, ...)`` at those pixels."""
        site = columns.start * self.step[0] + self.site[0], self.site[1]
        return between_nodes(values, (columns.stop - columns.start, rows), self.step, site)

    def blocks(self, width: int) -> Iterator[tuple[slice, AnyArray]]:
        """Columns that are drawn at once, and the nodes' shares that bear on them."""
        for start in range(0, width, BLOCK):
            columns = slice(start, min(start + BLOCK, width))
            first, last = ((at * self.step[0] + self.site[0] - MIDDLE) / CELL
                           for at in (columns.start, columns.stop))  # fmt: skip
            near = slice(max(0, int(np.floor(first))), int(np.ceil(last)) + 3)
            yield columns, self.share[:, near]


def _draw(source: AnyArray, target: AnyArray, nodes: _Nodes, to_plane: Real) -> None:
    scale = np.array([to_plane[0, 0], to_plane[1, 1]], np.float32)
    shift = np.array([to_plane[0, 2], to_plane[1, 2]], np.float32)
    rows, width = target.shape
    for columns, share in nodes.blocks(width):
        drawn = {}
        for which in LENSES:
            if (share <= 0).all() if which == 0 else (share >= 1).all():
                continue
            at = nodes.spread(nodes.places[which] * scale + shift, columns, rows)
            drawn[which] = cv2.remap(source, at, None, cv2.INTER_CUBIC,
                                     borderMode=cv2.BORDER_REPLICATE)  # fmt: skip
        if len(drawn) == 1:
            target[:, columns] = next(iter(drawn.values()))
            continue
        mine = nodes.spread(nodes.share, columns, rows)
        mixed = drawn[1] + (drawn[0].astype(np.float32) - drawn[1]) * mine
        target[:, columns] = np.rint(mixed)


@dataclass(frozen=True)
class TwinLayout:
    """Pictures of two fisheyes as pictures all around, for whoever only looks at them."""

    twin: Twin
    space: WorkingSpace

    @cached_property
    def _sampler(self) -> TwinSampler:
        whole = self.twin.whole
        return TwinSampler(Camera(whole, Equirectangular.of(whole)), self.twin, self.space)

    def laid_out(self, picture: Picture) -> Picture:
        """The picture, all around; only its luma, three times, if that is all it has."""
        whole = self.twin.whole
        across, down = picture.chroma
        sizes = [(whole.height, whole.width)]
        if picture.planes[1] is not picture.planes[0]:
            sizes += [(-(-whole.height // down), -(-whole.width // across))] * 2
        planes = tuple(np.empty(size, picture.planes[0].dtype) for size in sizes)
        self._sampler.warp(picture, np.eye(3), planes)
        luma, blue, red = planes if len(planes) == 3 else planes * 3
        return replace(picture, planes=(luma, blue, red), site=picture.natural_site)
