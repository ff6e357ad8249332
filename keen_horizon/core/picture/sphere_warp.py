"""Sampling a picture of all around: through a rotation, once, without a seam.

Where an output pixel looks is worked out at every eighth one, and linearly between: as a place in
the source, or where that would be wrong (about its poles, and where its left side meets its right)
as a ray. Pictures are drawn plane by plane in YUV, as flat ones are; their left and right go on in
each other.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry.bend import NONE, bent
from ..geometry.canvas import Canvas
from ..geometry.projection import Camera
from ..media.decode import Picture, Plane
from ..types import AnyArray, Flags, Indices, Rays, Real
from .warp import SAME, SHRINK_LIMIT, chroma_matrix, scaled_down

CELL = 8  # output pixels between places at which the way is worked out
MIDDLE = (CELL - 1) / 2  # of a cell: where they are, so that enlarging them is what spreads them
STEEP = float(np.cos(np.radians(75.0)))  # of the latitude from which on a cell bends too much
FAR = np.pi / 2  # radians of longitude between corners of a cell, from which on the seam is in it
AT_ONCE = 65536  # pixels that are worked out at a time: few, so that caches hold them
AROUND = 4  # columns that a picture is continued by on either side
Positions = NDArray[np.float32]


@dataclass(frozen=True)
class SphereSampler:
    """Where the pixels of pictures of an ``output`` camera come from, in equirectangular ones of
    size ``source``. A film asks it for one rotation after another."""

    output: Camera
    source: Canvas

    @cached_property
    def _nodes(self) -> Rays:
        return nodes_of(self.output)

    def turned(self, turn: Real, bend: Real = NONE) -> TurnedSampler:
        """The same for one picture; ``turn`` ``(3, 3)`` takes rays of the output to those of the
        source, which ``bend`` then bends (:mod:`..geometry.bend`)."""
        return TurnedSampler(self, turn, bend)

    def positions(self, turn: Real) -> Positions:
        """``(height, width, 2)`` source pixels of each output pixel, counted in a picture that is
        continued by :data:`AROUND` columns on either side, and within its own."""
        return self.turned(turn).luma()

    def places(self, longitude: AnyArray, latitude: AnyArray) -> Positions:
        """``(..., 2)`` source pixels of directions, radians."""
        middle = (self.source.width - 1) / 2 + AROUND
        x = longitude * (self.source.width / (2 * np.pi)) + middle
        y = latitude * (self.source.height / np.pi) + (self.source.height - 1) / 2
        return np.stack([x, y], axis=-1).astype(np.float32)

    @cached_property
    def enlargement(self) -> float:
        """Output pixels a source pixel takes where it takes most: in the middle of the output."""
        return 2 * np.pi / self.source.width / angle_of_pixel(self.output)


@dataclass(frozen=True)
class TurnedSampler:
    """A :class:`SphereSampler` turned for one picture."""

    sampler: SphereSampler
    turn: Real
    bend: Real

    @cached_property
    def _rays(self) -> Rays:
        return bent(self.sampler._nodes @ self.turn.T, self.bend)

    @cached_property
    def _angles(self) -> tuple[Real, Real]:
        """Longitudes of the nodes, and how far they are from the axis of the poles."""
        rays = self._rays
        return np.arctan2(rays[..., 0], rays[..., 2]), np.hypot(rays[..., 0], rays[..., 2])

    @cached_property
    def _places(self) -> Positions:
        """Where the nodes come from."""
        longitude, level = self._angles
        return self.sampler.places(longitude, np.arctan2(self._rays[..., 1], level))

    @cached_property
    def _bends(self) -> Flags:
        """In which cells between nodes the way bends too much for it to be told by the nodes."""
        longitude, level = (_corners(values) for values in self._angles)
        return np.asarray((np.ptp(longitude, axis=0) > FAR) | (level.min(axis=0) < STEEP))

    def luma(self) -> Positions:
        """``(height, width, 2)``: see :meth:`SphereSampler.positions`."""
        return self.plane((1, 1), (0.0, 0.0))

    def plane(self, step: tuple[int, int], site: tuple[float, float]) -> Positions:
        """The same of a plane's pixels, ``step`` luma pixels apart, each ``site`` right of and
        below the first luma pixel that it belongs to."""
        canvas = self.sampler.output.canvas
        rows, columns = self._places.shape[:2]
        across, down = CELL // step[0], CELL // step[1]
        # All pixels of all cells, those beyond the picture too.
        size, begin = (columns * across, rows * down), (site[0] - CELL, site[1] - CELL)
        if step == (1, 1):
            at: Positions = cv2.resize(self._places, size, interpolation=cv2.INTER_LINEAR)
        else:
            at = between_nodes(self._places, size, step, begin)
        self._told_by_rays(at, step, begin)
        height, width = -(-canvas.height // step[1]), -(-canvas.width // step[0])
        return at[down : down + height, across : across + width]

    def _told_by_rays(
        self, at: Positions, step: tuple[int, int], site: tuple[float, float]
    ) -> None:
        """Put right the positions, as ``at`` has them, of pixels in cells that bend: rays, unlike
        longitudes, are smooth there, too."""
        rows, columns = np.nonzero(self._bends)
        (x, right), (y, below) = (_in_cell(step[axis], site[axis]) for axis in (0, 1))
        weights = np.stack([
            np.outer(1 - below, 1 - right), np.outer(1 - below, right),
            np.outer(below, 1 - right), np.outer(below, right),
        ]).reshape(4, -1).astype(np.float32)  # fmt: skip
        rays = self._rays.astype(np.float32).transpose(2, 0, 1)
        for start in range(0, len(rows), AT_ONCE // weights.shape[1]):
            cells = slice(start, start + AT_ONCE // weights.shape[1])
            r, c = rows[cells], columns[cells]
            corners = rays[:, [r, r, r + 1, r + 1], [c, c + 1, c, c + 1]]
            across, down, ahead = np.tensordot(corners.transpose(0, 2, 1), weights, 1)
            places = self.sampler.places(
                np.arctan2(across, ahead), np.arctan2(down, np.hypot(across, ahead))
            )
            lines, places_in = y + len(y) * r[:, None], x + len(x) * c[:, None]
            at[lines[:, :, None], places_in[:, None]] = places.reshape(-1, len(y), len(x), 2)


def nodes_of(output: Camera) -> Rays:
    """``(rows, columns, 3)`` unit rays: where the middle of every cell of a camera's pictures
    looks, and of one cell more on each side."""
    canvas = output.canvas
    return _looks(output, *(np.arange(-1.0, -(-n // CELL) + 1) * CELL + MIDDLE
                            for n in (canvas.width, canvas.height)))  # fmt: skip


def angle_of_pixel(output: Camera) -> float:
    """Radians that a pixel in the middle of a camera's pictures sees across."""
    middle = np.array(output.canvas.centre)
    a, b = _looks(output, middle[0] + np.array([-0.5, 0.5]), middle[1:])[0]
    return float(np.linalg.norm(b - a))


def _looks(output: Camera, x: Real, y: Real) -> Rays:
    rays = output.to_rays(np.stack(np.meshgrid(x, y), axis=-1))
    return np.asarray(rays / np.linalg.norm(rays, axis=-1, keepdims=True))


def between_nodes(
    values: AnyArray, size: tuple[int, int], step: tuple[int, int], site: tuple[float, float]
) -> AnyArray:
    """What is known at nodes, linearly between them, at the pixels of a plane of ``size`` (width
    and height), ``step`` output pixels apart, the first at ``site``."""
    # Halves and eighths of a pixel are among the steps that OpenCV interpolates by.
    from_node = np.array([
        [step[0] / CELL, 0, 1 + (site[0] - MIDDLE) / CELL],
        [0, step[1] / CELL, 1 + (site[1] - MIDDLE) / CELL],
    ])  # fmt: skip
    return np.asarray(cv2.warpAffine(
        values, from_node, size, flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP,
        borderMode=cv2.BORDER_REPLICATE,
    ))  # fmt: skip


def _in_cell(step: int, site: float) -> tuple[Indices, Real]:
    """Which pixels, ``step`` apart from ``site`` on, lie in the first cell between nodes, and what
    share of the way from one node to the next. In each cell there are as many more."""
    node = MIDDLE - CELL
    pixels = int(np.ceil((node - site) / step)) + np.arange(CELL // step)
    return pixels, (pixels * step + site - node) / CELL


def _corners(values: AnyArray) -> AnyArray:
    """``(4, rows, columns)`` of cells between nodes."""
    return np.stack([values[:-1, :-1], values[:-1, 1:], values[1:, :-1], values[1:, 1:]])


def warp_sphere(
    picture: Picture, sampler: SphereSampler, turn: Real, out: tuple[Plane, ...], bend: Real = NONE
) -> None:
    """Fill ``out`` (luma and two chroma planes, uint8 or uint16) with an equirectangular
    ``picture`` as the sampler's camera sees it, turned by ``turn`` and bent by ``bend`` (see
    :meth:`SphereSampler.turned`).

    >>> from ..geometry.projection import Equirectangular
    >>> luma = np.tile(np.arange(64, dtype=np.uint8), (32, 1))
    >>> chroma = np.full((16, 32), 128, np.uint8)
    >>> picture = Picture(0, 0, (luma, chroma, chroma), (2, 2), (0.0, 0.5), "yuv420p")
    >>> out = tuple(np.zeros_like(plane) for plane in picture.planes)
    >>> around = Camera(Canvas(64, 32), Equirectangular.of(Canvas(64, 32)))
    >>> quarter = np.array([[0.0, 0, 1], [0, 1, 0], [-1, 0, 0]])
    >>> warp_sphere(picture, SphereSampler(around, Canvas(64, 32)), quarter, out)
    >>> out[0][16, [0, 32, 50]].tolist()
    [16, 48, 2]
    """
    turned = sampler.turned(turn, bend)
    luma, *chroma = (_Source(plane, sampler.enlargement) for plane in picture.planes)
    luma.draw(luma.places(turned.luma(), SAME), out[0])
    from_luma = np.asarray(np.linalg.inv(chroma_matrix(picture.chroma, picture.site)), float)
    seated = turned.plane(picture.chroma, picture.natural_site)
    places = chroma[0].places(seated, from_luma)
    for source, target in zip(chroma, out[1:], strict=True):
        source.draw(places, target)


def sampled(plane: AnyArray, places: Positions) -> AnyArray:
    """What a plane shows at :meth:`SphereSampler.positions`; linear between pixels."""
    return np.asarray(
        cv2.remap(
            _continued(plane), places, None, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
        )
    )


def _continued(plane: AnyArray) -> AnyArray:
    """A plane with what lies around its seam, on either side."""
    return np.asarray(cv2.copyMakeBorder(plane, 0, 0, AROUND, AROUND, cv2.BORDER_WRAP))


class _Source:
    """A plane of the source, continued around, and smaller where it is shown so much smaller that
    sampling would skip pixels."""

    def __init__(self, plane: AnyArray, enlargement: float) -> None:
        self._small: Real | None = None
        if enlargement < SHRINK_LIMIT:
            plane, self._small = scaled_down(plane, enlargement)
        self._around = _continued(plane)

    def places(self, at: Positions, to_plane: Real) -> Positions:
        """Where in it positions of luma pixels are that :meth:`SphereSampler.positions` gave;
        ``to_plane`` ``(3, 3)`` scales and shifts them to this plane's own size."""
        whole = to_plane if self._small is None else self._small @ to_plane
        if (whole == SAME).all():
            return at
        found = np.empty_like(at)
        for axis, before in ((0, AROUND), (1, 0)):
            scale, shift = whole[axis, axis], whole[axis, 2]
            np.multiply(at[..., axis], np.float32(scale), out=found[..., axis])
            found[..., axis] += np.float32(shift + before - scale * before)
        return found

    def draw(self, places: Positions, target: AnyArray) -> None:
        rows, columns = target.shape
        cv2.remap(
            self._around, places[:rows, :columns], None, cv2.INTER_CUBIC,
            dst=target, borderMode=cv2.BORDER_REPLICATE,
        )  # fmt: skip
