"""Sampling each colour at its own place, without converting the picture.

Most pictures have as much to tell of colour as there are chroma samples. Of that size are red,
green and blue, each sampled once, straight from the source, through a map of its own; chroma comes
of the three. Luma is sampled where green is, at full size, and changes by as much as the sum of the
colours has. What is finer than chroma is luma's alone, nobody knows of which colour, and stays with
green; where chroma is as large as luma, nothing is finer.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.decode import Picture, Plane
from .warp import Sampler, chroma_matrix, warp_mask, warp_plane
from .working_space import WorkingSpace, at_chroma_size

Samplers = tuple[Sampler, Sampler, Sampler]  # of red, green, blue


def warp_colours(
    picture: Picture, samplers: Samplers, out: tuple[Plane, ...], space: WorkingSpace, *, bare: bool
) -> None:
    """Fill ``out`` as :func:`.warp_planes` does, each colour through its own sampler. What is bare
    is so for green."""
    warp_plane(picture.planes[0], out[0], samplers[1], bare=False)
    luma, colours = colours_in_codes(picture, space)
    shape = out[1].shape
    red, green, blue = (
        _sampled(picture, plane, sampler, shape)
        for plane, sampler in zip(colours, samplers, strict=True)
    )
    own = _sampled(picture, luma, samplers[1], shape)
    kr, kb = space.shares
    mixed = cv2.addWeighted(red, kr, blue, kb, 0)
    mixed = cv2.scaleAdd(green, 1 - kr - kb, mixed)
    for plane, colour, share in ((out[1], blue, kb), (out[2], red, kr)):
        unit = space.chroma_span / space.luma_span / (2 * (1 - share))
        space.round_into(plane, cv2.addWeighted(colour, unit, mixed, -unit, space.grey))
    gained = _large(cv2.subtract(mixed, own), picture, out[0])
    space.round_into(out[0], cv2.add(gained, out[0], dtype=cv2.CV_32F))
    if bare:
        _empty(picture, samplers[1], out, space)


def parted_samplers(sampler: Sampler, source: NDArray[np.float32], parted: np.ndarray) -> Samplers:
    """Samplers of red, green and blue: ``sampler``, and its places ``source`` ``(rows, columns,
    2)`` moved by ``parted`` ``(rows, columns, 2, 2)`` px for red and blue."""
    red, blue = (
        Sampler(sampler.matrix, np.asarray(source + parted[..., k, :], np.float32)) for k in (0, 1)
    )
    return red, sampler, blue


def colours_in_codes(picture: Picture, space: WorkingSpace) -> tuple[np.ndarray, list[np.ndarray]]:
    """Luma, and red, green and blue in its codes, at chroma's size; luma is averaged about chroma's
    samples."""
    whole, u, v = picture.planes
    luma = at_chroma_size(whole, picture.chroma, picture.site, u.shape).astype(np.float32)
    kr, kb = space.shares
    red, blue = (
        cv2.scaleAdd(plane.astype(np.float32) - np.float32(space.grey), unit, luma)
        for plane, unit in (
            (part, 2 * (1 - share) * space.luma_span / space.chroma_span)
            for part, share in ((v, kr), (u, kb))
        )
    )
    kg = 1 - kr - kb
    green = cv2.addWeighted(luma, 1 / kg, red, -kr / kg, 0)
    return luma, [red, cv2.scaleAdd(blue, -kb / kg, green), blue]


def _sampled(
    picture: Picture, plane: np.ndarray, sampler: Sampler, shape: tuple[int, ...]
) -> np.ndarray:
    target = np.empty(shape, np.float32)
    to_source = np.asarray(np.linalg.inv(chroma_matrix(picture.chroma, picture.site)), np.float64)
    to_output = chroma_matrix(picture.chroma, picture.natural_site)
    warp_plane(plane, target, sampler, to_output, to_source, bare=False)
    return target


def _large(small: np.ndarray, picture: Picture, like: Plane) -> np.ndarray:
    """What luma gains, at its size."""
    if small.shape == like.shape:
        return small
    to_chroma = np.linalg.inv(chroma_matrix(picture.chroma, picture.natural_site))
    return np.asarray(
        cv2.warpAffine(
            small, to_chroma[:2], like.shape[::-1],
            flags=cv2.INTER_LINEAR | cv2.WARP_INVERSE_MAP, borderMode=cv2.BORDER_REPLICATE,
        )
    )  # fmt: skip


def _empty(picture: Picture, sampler: Sampler, out: tuple[Plane, ...], space: WorkingSpace) -> None:
    """Black where nothing covers the output."""
    height, width = out[0].shape
    covered = warp_mask(picture, sampler, width, height)
    if covered.all():
        return
    for plane, empty in zip(out, (space.black, space.grey, space.grey), strict=True):
        mask = cv2.resize(covered, plane.shape[::-1], interpolation=cv2.INTER_NEAREST)
        plane[mask == 0] = empty
