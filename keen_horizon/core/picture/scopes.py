"""Scopes: how the light of one picture is spread, by its columns and by its radius.

What they are given is a small picture in code values of eight bits, as it is shown.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..types import Indices, Real
from .radial import RadialField
from .working_space import SRGB, working_space

LEVELS = 128  # steps from black to white
COLUMNS = 128  # across a waveform
RINGS = 32  # of a radius profile, from the middle to a corner
LUMA = np.array([0.2126, 0.7152, 0.0722])  # of red, green, blue (BT.709)

Glass = tuple[float, float, float]
ROUND: Glass = (0.0, 0.0, 1.0)
SHOWN = working_space({"transfer": SRGB}, 8, 1080)
Picture = NDArray[np.uint8]  # (height, width, 3) red, green, blue
Waveform = NDArray[np.uint8]  # (LEVELS, COLUMNS), white on top


@dataclass(frozen=True)
class Scopes:
    """``luma`` is a waveform; ``parade`` one of each colour; ``profile`` ``(RINGS,)`` the mean luma
    from the middle to the corners, percent from black to white, NaN where a ring has no pixel;
    ``lost`` ``(RINGS,)`` by how many stops its light is less than that of the middle, about the
    glass's own."""

    luma: Waveform
    parade: tuple[Waveform, Waveform, Waveform]
    profile: Real
    lost: Real


def scopes_of(
    picture: Picture, band: tuple[float, float] = (0.0, 1.0), glass: Glass = ROUND
) -> Scopes:
    """Scopes of a picture; waveforms of the rows in ``band`` alone, shares of its height. ``glass``
    is its middle, shares of the picture from its own, and its roundness.

    >>> grey = np.full((90, 160, 3), 255, np.uint8)
    >>> told = scopes_of(grey)
    >>> told.luma[0].min(), told.luma[1:].max(), told.profile.round().tolist()[0]
    (np.uint8(255), np.uint8(0), 100.0)
    """
    luma = np.rint(picture @ LUMA).astype(np.uint8)
    height = len(luma)
    first, last = (round(share * height) for share in np.sort(np.clip(band, 0, 1)).tolist())
    rows = slice(min(first, height - 1), max(last, first + 1))
    red, green, blue = (waveform(picture[rows, :, k]) for k in range(3))
    waves = waveform(luma[rows]), (red, green, blue)
    return Scopes(*waves, radius_profile(luma), light_lost(luma, glass))


def waveform(plane: NDArray[np.uint8]) -> Waveform:
    """How often each level occurs in each column of a plane ``(h, w)``: 255 where it fills a tenth
    of a column or more; faint ones are lifted, so that they are seen."""
    height, width = plane.shape
    column = np.broadcast_to(np.arange(width) * COLUMNS // width, plane.shape)
    level = LEVELS - 1 - (plane.astype(np.intp) * LEVELS >> 8)
    counts = np.bincount((level * COLUMNS + column).ravel(), minlength=LEVELS * COLUMNS)
    each = height * width / COLUMNS
    share = np.clip(counts.reshape(LEVELS, COLUMNS) / (0.1 * each), 0, 1)
    return np.asarray(np.rint(255 * np.sqrt(share)), np.uint8)


def radius_profile(luma: NDArray[np.uint8]) -> Real:
    """``(RINGS,)`` mean of a plane by rings about its middle, percent of white."""
    ring, count = _rings(*luma.shape)
    total = np.bincount(ring, luma.ravel() / 2.55, minlength=RINGS)
    with np.errstate(invalid="ignore"):
        return np.asarray(total / count)


def light_lost(luma: NDArray[np.uint8], glass: Glass = ROUND) -> Real:
    """``(RINGS,)`` stops by which the mean light of a ring is less than that of the innermost; NaN
    where a ring has no pixel, or no light. Pictures are as browsers show them (IEC 61966-2-1)."""
    ring, count = _rings(*luma.shape, glass)
    total = np.bincount(ring, SHOWN.light(np.arange(256) / 255)[luma].ravel(), minlength=RINGS)
    known = (count > 0) & (total > 0)
    light = np.log2(np.where(known, total, 1.0) / np.maximum(count, 1))
    light[~known] = np.nan
    inner = light[np.isfinite(light)][:1]
    return np.asarray(inner.sum() - light)


@lru_cache(maxsize=8)
def _rings(height: int, width: int, glass: Glass = ROUND) -> tuple[Indices, Indices]:
    """The ring of each pixel, and how many each has."""
    field = RadialField(Canvas(width, height), glass[:2], glass[2])
    y, x = np.mgrid[0:height, 0:width]
    radius = np.sqrt(field.squared(np.stack([x, y], axis=-1).reshape(-1, 2)))
    ring = np.minimum((radius * RINGS).astype(np.intp), RINGS - 1)
    return ring, np.bincount(ring, minlength=RINGS)
