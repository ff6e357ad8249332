"""Where a view looks, frame by frame: along great circles from key to key, by the short way.

Keys of yaw and of pitch in the same two frames tell directions: between them the view turns about
one axis, which is the least that it can turn by, and its horizon leans as its roll says all along.
Where that would take it over a pole, where left and right change places, and where yaw or pitch has
keys of its own, they change each by itself.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np

from ...geometry.keyframes import Key, cubic, keyed
from ...geometry.looks import great_circle, look_matrix, look_rays
from ...types import Indices, Rays, Real
from .settings import ViewSettings

ANGLES = ("yaw", "pitch", "roll")
ROUND = ("yaw", "roll")  # angles that come round to where they began
STEEP = np.radians(75.0)  # up or down, beyond which a way that began below would go over a pole
EASED = 1.5  # times its mean is the fastest pace of a way that begins and ends at rest
EASE = 0.1  # of a way's time, at either end, that it takes to get going at the least


def view_values(
    settings: ViewSettings, keys: Mapping[str, Sequence[Key]], frames: Indices, rate: float
) -> dict[str, Real]:
    """``(n,)`` of each keyed setting at ``frames``, of which there are ``rate`` a second.

    Yaw and roll are not cut at the seam: they go on beyond 180 degrees.

    >>> keys = {"yaw": [Key(0, 170.0, False), Key(10, -170.0, False)]}
    >>> view_values(ViewSettings(), keys, np.array([0, 5, 10]), 25.0)["yaw"].round(6).tolist()
    [170.0, 180.0, 190.0]
    """

    def ease(time: Real, far: Real, count: Real) -> Real:
        return _eased(time, np.abs(far) * rate / count, settings.fastest)

    own = {name: _ordered(keys.get(name, ()), name in ROUND) for name in ANGLES}
    found = {name: keyed(own[name], frames, getattr(settings, name), ease) for name in ANGLES}
    found["angle"] = keyed(keys.get("angle", ()), frames, settings.angle)
    pitches = {(one.frame, other.frame): (one, other) for one, other in pairwise(own["pitch"])}
    for ends in pairwise(own["yaw"]):
        span = ends[0].frame, ends[1].frame
        if span not in pitches:
            continue
        yaw, pitch = (np.radians([key.value for key in pair]) for pair in (ends, pitches[span]))
        rays = look_rays(yaw, pitch)
        far = float(np.arccos(np.clip(rays[0] @ rays[1], -1, 1)))
        if far < 1e-9 or far > np.pi - 1e-3 or _over_pole(rays):
            continue
        inside = (frames >= span[0]) & (frames <= span[1])
        degrees = float(np.degrees(far))
        turn = [Key(span[0], 0.0, ends[0].smooth), Key(span[1], degrees)]
        share = keyed(turn, frames[inside], 0.0, ease) / degrees
        way = great_circle(rays[0], rays[1], share)
        # Straight up or down a yaw means nothing; which turn of the circle it is, the keys say.
        near = yaw[0] + share * (yaw[1] - yaw[0])
        level = np.hypot(way[:, 0], way[:, 2]) > 1e-6
        turned = np.where(level, np.arctan2(way[:, 0], way[:, 2]), near)
        turned += 2 * np.pi * np.round((near - turned) / (2 * np.pi))
        found["yaw"][inside] = np.degrees(turned)
        found["pitch"][inside] = np.degrees(np.arcsin(np.clip(-way[:, 1], -1, 1)))
    return found


def looks_of(values: Mapping[str, Real]) -> Real:
    """``(n, 3, 3)`` from rays of the flat camera to those of the steadied sphere."""
    turned = (np.radians(values[name]) for name in ("yaw", "pitch", "roll"))
    return np.stack([look_matrix(*angles) for angles in zip(*turned, strict=True)])


def _ordered(keys: Sequence[Key], around: bool) -> list[Key]:
    """Keys by their frames; those of an angle that comes round each within half a turn of the one
    before."""
    ordered = sorted(keys, key=lambda key: key.frame)
    if not around or not ordered:
        return ordered
    values = np.unwrap([key.value for key in ordered], period=360.0)
    return [Key(k.frame, float(v), k.smooth) for k, v in zip(ordered, values, strict=True)]


def _eased(time: Real, mean: Real, fastest: float) -> Real:
    """Shares of ways at shares of their ``time``, from rest to rest: by a cubic; or, where that
    would be faster than the ``fastest``, degrees a second as the ``mean``, by getting going sooner
    and going on evenly.

    >>> _eased(np.array([0.0, 0.25, 0.5, 1.0]), np.full(4, 10.0), 60.0).tolist()
    [0.0, 0.15625, 0.5, 1.0]
    >>> even = _eased(np.linspace(0, 1, 101), np.full(101, 10.0), 12.5)
    >>> np.diff(even).max().round(6).item()  # of 0.01
    0.0125
    """
    ramp = np.clip(1 - mean / fastest, EASE, 0.5)
    early = np.minimum(time, 1 - time)
    gone = np.where(early < ramp, early**2 / (2 * ramp), early - ramp / 2) / (1 - ramp)
    evenly = np.where(time <= 0.5, gone, 1 - gone)
    return np.where(EASED * mean <= fastest, cubic(time), evenly)


def _over_pole(ends: Rays) -> bool:
    """Whether the way between two rays climbs steeply, and higher than both."""
    way = np.abs(
        np.arcsin(np.clip(great_circle(ends[0], ends[1], np.linspace(0, 1, 65))[:, 1], -1, 1))
    )
    return bool(way.max() > max(STEEP, way[0] + 1e-6, way[-1] + 1e-6))
