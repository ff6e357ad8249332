"""Sampling planar pictures through a warp, plane by plane, without leaving YUV.

Bicubic (Keys, *Cubic convolution interpolation for digital image processing*, IEEE TASSP 1981, as
OpenCV has it), positions to 1/32 pixel.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import cv2
import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.chain import WarpChain
from ..geometry.live_area import LiveArea
from ..geometry.stage import Smoothness
from ..media.decode import Picture, Plane
from ..types import AnyArray, Real

Matrix = NDArray[np.float64]

SAME: Matrix = np.eye(3)
GRID = 8  # output pixels between places at which a chain that bends is worked out
BAND = 128  # rows of a plane whose places are known at once: few, so that caches hold them
START = -GRID / 2 - 0.5  # the first of them: in the middle of a block of pixels before the picture

# Below this many output pixels a source pixel, bicubic would skip source pixels and shimmer.
SHRINK_LIMIT = 0.75


def chroma_matrix(chroma: tuple[int, int], site: tuple[float, float]) -> Matrix:
    """``(3, 3)`` from chroma pixels to luma pixels.

    ``site`` is where in luma pixels the first chroma sample sits: ``(0, 0.5)`` for the usual
    4:2:0 (left-sited; ITU-T H.264 annex E, chroma sample location 0).
    """
    across, down = chroma
    return np.array([[across, 0.0, site[0]], [0.0, down, site[1]], [0.0, 0.0, 1.0]])


def spread(
    values: AnyArray, width: int, height: int, to_output: Matrix = SAME
) -> NDArray[np.float32]:
    """``(height, width, …)`` what is known at nodes, ``(rows, columns, …)``, at each pixel of a
    plane: linear between. ``to_output`` takes the plane's pixels to output pixels; it scales and
    shifts only."""
    known: AnyArray = np.asarray(values, np.float32)
    crop, factors = [], []
    for axis, size in ((0, height), (1, width)):
        k = 1 - axis  # x comes first in the matrix
        scale, shift = float(to_output[k, k]), float(to_output[k, 2])
        # Enlarged so far, nodes lie in the middle of blocks; so many pixels are before the first.
        before = (shift - START + GRID / 2) / scale - 0.5
        whole = int(np.floor(before))
        ahead = (before - whole) * scale / GRID  # nodes by which that is not whole
        if ahead > 1e-6:
            rest = np.delete(known, 0, axis), np.take(known, [-1], axis)
            known = (1 - ahead) * known + ahead * np.concatenate(rest, axis)
        factors.append(GRID / scale)
        crop.append(slice(whole, whole + size))
    down, across = factors
    large = cv2.resize(known, None, fx=across, fy=down, interpolation=cv2.INTER_LINEAR)
    return np.asarray(large[crop[0], crop[1]], np.float32)


@dataclass(frozen=True)
class Places:
    """``source`` ``(rows, columns, 2)``: the source pixel of every :data:`GRID`-th output pixel,
    from :data:`START` on."""

    source: NDArray[np.float32]

    def spread(self, values: AnyArray, width: int, height: int) -> NDArray[np.float32]:
        """``(height, width, …)`` what is known at the places, ``(rows, columns, …)``, at each pixel
        of the output picture."""
        return spread(values, width, height)


def nodes_over(width: int, height: int) -> Real:
    """``(rows, columns, 2)`` the output pixels at which a bending chain is worked out."""
    columns, rows = (int(np.ceil(n / GRID)) + 2 for n in (width, height))
    x, y = np.meshgrid(GRID * np.arange(columns) + START, GRID * np.arange(rows) + START)
    return np.stack([x, y], axis=-1)


@dataclass(frozen=True)
class Sampler:
    """Where one frame's output pixels come from.

    ``matrix`` ``(3, 3)``, output luma pixel to source luma pixel: all there is, unless ``grid``
    ``(rows, columns, 2)`` gives the source pixel of every :data:`GRID`-th output pixel, from
    :data:`START` on; the matrix is then its likeness. ``live`` is where the source is a picture,
    None for all over.
    """

    matrix: Matrix
    grid: NDArray[np.float32] | None = None
    live: LiveArea | None = None

    @property
    def is_affine(self) -> bool:
        """Whether the matrix has no perspective."""
        return self.grid is None and bool((self.matrix[2] == [0.0, 0.0, 1.0]).all())

    def places(self, width: int, height: int) -> Places:
        """Where the pixels of an output picture come from."""
        if self.grid is not None:
            return Places(self.grid)
        nodes = nodes_over(width, height)
        flat = nodes @ self.matrix[:, :2].T + self.matrix[:, 2]
        return Places((flat[..., :2] / flat[..., 2:]).astype(np.float32))

    def moved(self, by: Matrix) -> Sampler:
        """The sampler of output pixels moved by a small affine map ``(3, 3)`` first."""
        if self.grid is None:
            return replace(self, matrix=self.matrix @ by)
        to_grid = np.diag([1 / GRID, 1 / GRID, 1.0])
        to_grid[:2, 2] = -START / GRID
        m = to_grid @ by @ np.linalg.inv(to_grid)
        rows, columns = self.grid.shape[:2]
        grid = cv2.warpAffine(
            self.grid, m[:2], (columns, rows),
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE,
        )  # fmt: skip
        return replace(self, matrix=self.matrix @ by, grid=np.asarray(grid, np.float32))

    def positions(
        self, to_output: Matrix, to_source: Matrix, width: int, rows: range
    ) -> NDArray[np.float32]:
        """``(rows, width, 2)`` source positions, x and y, of the pixels of some of a plane's rows.

        ``to_output`` takes the plane's pixels to output luma pixels, ``to_source`` source luma
        pixels to the source plane's; both scale and shift only.
        """
        assert self.grid is not None
        lines = to_output[1, 1] * np.array([rows[0], rows[-1]]) + to_output[1, 2]
        near = np.floor((lines - START) / GRID).astype(int)
        first = max(near[0] - 1, 0)  # what is between nodes needs those on both sides
        known = self.grid[first : near[1] + 3]
        scaled = known * np.diag(to_source)[:2].astype(np.float32)
        to_nodes = to_output.copy()
        to_nodes[1, 2] = lines[0] - first * GRID
        return spread(scaled + to_source[:2, 2].astype(np.float32), width, len(rows), to_nodes)


def sampler_of(chain: WarpChain) -> Sampler:
    """The sampler of a chain of one frame."""
    matrix = chain.matrices()[0]
    if chain.smoothness <= Smoothness.AFFINE:
        matrix[2] = 0.0, 0.0, 1.0  # which it is but for rounding
    if chain.smoothness <= Smoothness.PROJECTIVE:
        return Sampler(matrix, live=chain.live)
    output = chain.view.output
    nodes = nodes_over(output.width, output.height)
    seen = chain.sampled(nodes.reshape(-1, 2))[0].reshape(nodes.shape)
    return Sampler(matrix, seen.astype(np.float32), chain.live)


def warp_planes(
    picture: Picture,
    sampler: Sampler,
    out: tuple[Plane, ...],
    *,
    bare: bool,
    full_range: bool = False,
) -> None:
    """Fill ``out`` (luma and two chroma planes of the output, uint8 or uint16) through ``sampler``.

    With ``bare`` whatever no source pixel covers turns black; without it the border is repeated, so
    that interpolation at the very edge has something to stand on. ``full_range`` tells what black
    is. The output's chroma siting is the usual one of its format; the source's is
    :attr:`Picture.site`.

    >>> luma, chroma = np.full((48, 64), 90, np.uint8), np.full((24, 32), 128, np.uint8)
    >>> picture = Picture(0, 0, (luma, chroma, chroma), (2, 2), (0.0, 0.5), "yuv420p")
    >>> out = tuple(np.zeros_like(plane) for plane in picture.planes)
    >>> ten_to_the_right = Sampler(np.array([[1.0, 0, -10], [0, 1, 0], [0, 0, 1]]))
    >>> warp_planes(picture, ten_to_the_right, out, bare=True)
    >>> out[0][20, 4].item(), out[0][20, 30].item()
    (16, 90)
    """
    depth = 255 if out[0].dtype == np.uint8 else 1023
    black = 0.0 if full_range else depth * 16 / 255
    grey = (depth + 1) / 2
    source_chroma = chroma_matrix(picture.chroma, picture.site)
    output_chroma = chroma_matrix(picture.chroma, picture.natural_site)
    from_luma = np.asarray(np.linalg.inv(source_chroma), np.float64)
    for source, target, to_output, to_source, empty in zip(
        picture.planes, out, (SAME, output_chroma, output_chroma), (SAME, from_luma, from_luma),
        (black, grey, grey), strict=True,
    ):  # fmt: skip
        warp_plane(source, target, sampler, to_output, to_source, bare=bare, empty=empty)


def warp_mask(picture: Picture, sampler: Sampler, width: int, height: int) -> NDArray[np.uint8]:
    """``(height, width)`` 255 where an output pixel comes from where the source is a picture,
    else 0."""
    rows, columns = picture.planes[0].shape
    live = sampler.live or LiveArea.whole(Canvas(columns, rows))
    full = live.mask(columns, rows)
    mask = np.empty((height, width), np.uint8)
    warp_plane(full, mask, sampler, bare=True)
    return np.asarray(cv2.threshold(mask, 253, 255, cv2.THRESH_BINARY)[1], np.uint8)


def scaled_down(source: AnyArray, shrink: float) -> tuple[AnyArray, Matrix]:
    """A plane at ``shrink`` of its size (area averages), to be sampled instead of it; and the
    ``(3, 3)`` from its pixels to those."""
    w, h = round(source.shape[1] * shrink), round(source.shape[0] * shrink)
    fx, fy = source.shape[1] / w, source.shape[0] / h
    small = cv2.resize(source, (w, h), interpolation=cv2.INTER_AREA)
    return small, np.array([[1 / fx, 0, 0.5 / fx - 0.5], [0, 1 / fy, 0.5 / fy - 0.5], [0, 0, 1.0]])


def warp_plane(
    source: AnyArray, target: AnyArray, sampler: Sampler, to_output: Matrix = SAME,
    to_source: Matrix = SAME, *, bare: bool, empty: float = 0.0,
) -> None:  # fmt: skip
    """Fill ``target`` ``(height, width)`` from ``source``, of the same type.

    ``to_output`` ``(3, 3)`` takes the target's pixels to output luma pixels, ``to_source`` source
    luma pixels to those of ``source``. With ``bare`` whatever is not covered is ``empty``, without
    it the border is repeated. Cubic interpolation (Keys, *Cubic convolution interpolation for
    digital image processing*, ASSP 1981, as OpenCV has it).

    >>> ramp = np.tile(np.arange(40, dtype=np.uint8), (30, 1))
    >>> shown = np.zeros_like(ramp)
    >>> warp_plane(ramp, shown, Sampler(np.array([[1.0, 0, 5], [0, 1, 0], [0, 0, 1]])), bare=True)
    >>> shown[10, 10].item(), shown[10, 38].item()
    (15, 0)
    """
    height, width = target.shape
    m = to_source @ sampler.matrix @ to_output
    shrink = 1.0 / float(np.sqrt(abs(np.linalg.det(m[:2, :2]))))
    if shrink < SHRINK_LIMIT:
        source, to_small = scaled_down(source, shrink)
        m, to_source = to_small @ m, to_small @ to_source
    border = cv2.BORDER_CONSTANT if bare else cv2.BORDER_REPLICATE
    if sampler.grid is not None:
        for top in range(0, height, BAND):
            rows = range(top, min(top + BAND, height))
            cv2.remap(
                source, sampler.positions(to_output, to_source, width, rows), None,
                cv2.INTER_CUBIC, dst=target[top : top + BAND], borderMode=border,
                borderValue=(empty,),
            )  # fmt: skip
        return
    warp = cv2.warpAffine if sampler.is_affine else cv2.warpPerspective
    warp(
        source,
        m[:2] if sampler.is_affine else m,
        (width, height),
        dst=target,
        flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
        borderMode=border,
        borderValue=(empty,),
    )
