"""Sampling planar pictures through a warp, plane by plane, without leaving YUV.

Bicubic (Keys, *Cubic convolution interpolation for digital image processing*, IEEE TASSP 1981, as
OpenCV has it), positions to 1/32 pixel.
"""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from ..media.decode import Picture, Plane

Matrix = NDArray[np.float64]

# Below this many output pixels a source pixel, bicubic would skip source pixels and shimmer.
SHRINK_LIMIT = 0.75


def chroma_matrix(chroma: tuple[int, int], site: tuple[float, float]) -> Matrix:
    """``(3, 3)`` from chroma pixels to luma pixels.

    ``site`` is where in luma pixels the first chroma sample sits: ``(0, 0.5)`` for the usual
    4:2:0 (left-sited; ITU-T H.264 annex E, chroma sample location 0).
    """
    across, down = chroma
    return np.array([[across, 0.0, site[0]], [0.0, down, site[1]], [0.0, 0.0, 1.0]])


def warp_planes(
    picture: Picture,
    matrix: Matrix,
    out: tuple[Plane, ...],
    *,
    bare: bool,
    full_range: bool = False,
) -> None:
    """Fill ``out`` (luma and two chroma planes of the output) through ``matrix``.

    ``matrix`` ``(3, 3)`` is the backward map, output luma pixel to source luma pixel. With
    ``bare`` whatever no source pixel covers turns black; without it the border is repeated, so
    that interpolation at the very edge has something to stand on. The output's chroma siting is
    the usual one of its format; the source's is :attr:`Picture.site`.
    """
    depth = 255 if out[0].dtype == np.uint8 else 1023
    black = 0.0 if full_range else depth * 16 / 255
    grey = (depth + 1) / 2
    source_chroma = chroma_matrix(picture.chroma, picture.site)
    output_chroma = chroma_matrix(picture.chroma, picture.natural_site)
    colour = np.linalg.inv(source_chroma) @ matrix @ output_chroma
    for source, target, m, empty in zip(
        picture.planes, out, (matrix, colour, colour), (black, grey, grey), strict=True
    ):
        _warp(source, target, m, bare, empty)


def _warp(source: Plane, target: Plane, m: Matrix, bare: bool, empty: float) -> None:
    height, width = target.shape
    shrink = 1.0 / float(np.sqrt(abs(np.linalg.det(m[:2, :2]))))
    if shrink < SHRINK_LIMIT:
        # Scale the source down first (area averages), then sample that.
        w, h = round(source.shape[1] * shrink), round(source.shape[0] * shrink)
        fx, fy = source.shape[1] / w, source.shape[0] / h
        source = cv2.resize(source, (w, h), interpolation=cv2.INTER_AREA)
        to_small = np.array(
            [[1 / fx, 0, 0.5 / fx - 0.5], [0, 1 / fy, 0.5 / fy - 0.5], [0, 0, 1.0]]
        )
        m = to_small @ m
    cv2.warpAffine(
        source,
        m[:2],
        (width, height),
        dst=target,
        flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP,
        borderMode=cv2.BORDER_CONSTANT if bare else cv2.BORDER_REPLICATE,
        borderValue=(empty,),
    )
