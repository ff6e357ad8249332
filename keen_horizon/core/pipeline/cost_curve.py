"""The cost curve: shake left against picture kept, for one clip, aim, model and edge rule.

Every point is a whole solve at another calm, so that what the curve says is what would be
delivered. A curve grows point by point: :func:`next_calm` says where to solve next, coarse first.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import pairwise

from ..geometry.canvas import Canvas
from ..motion.camera_motion import CameraMotion
from ..stations.frame.station import ALL_KEPT
from ..stations.motion import MOTION
from ..treatment import Treatment, digest
from .solve_clip import solve

COARSE = (0, 100, 50, 25, 75, 12, 37, 62, 87)  # calms, in the order they are solved
GOALS = (97.0, 92.0, 80.0)  # percent of the picture that the starts are to keep
KNEE_KEPT = 85.0  # percent of the picture, that a first treatment keeps at least
NEAR = 0.5  # percent within which a goal counts as met


@dataclass(frozen=True, order=True)
class CostPoint:
    """What a calm buys and costs: shake left in px, and ``sure`` how much more it may be; picture
    kept in percent; zoom."""

    calm: float
    picture_kept: float
    shake_after: float
    zoom: float
    sure: float = 0.0


Curve = list[CostPoint]  # by rising calm


def at_calm(treatment: Treatment, calm: float) -> Treatment:
    """The same treatment, switched on, with another calm."""
    return treatment.changed(MOTION, calm=float(calm), on=True)


def curve_digest(treatment: Treatment, *known: object) -> str:
    """What a curve depends on: everything that a solution does, but the calm."""
    return digest(at_calm(treatment, 0), "map", *known)


def next_calm(curve: Curve) -> int | None:
    """Where to solve next, or None if the curve is complete."""
    known = {point.calm for point in curve}
    for calm in COARSE:
        if calm not in known:
            return calm
    return next(
        (c for goal in (*GOALS, KNEE_KEPT) if (c := _closer(curve, goal)) is not None), None
    )


def _closer(curve: Curve, goal: float) -> int | None:
    """A calm that should keep nearer to ``goal`` than any on the curve, if one is needed."""
    for less, more in pairwise(curve):
        if less.picture_kept >= goal > more.picture_kept:
            if min(less.picture_kept - goal, goal - more.picture_kept) <= NEAR:
                return None
            low, high = int(less.calm) + 1, int(more.calm) - 1
            if low > high:
                return None
            share = (less.picture_kept - goal) / (less.picture_kept - more.picture_kept)
            guess = round(less.calm + share * (more.calm - less.calm))
            return min(max(guess, low), high)
    return None


def knee(curve: Curve) -> CostPoint:
    """Where more calm buys less than it costs: where what is left of the shake and what is given up
    of the picture, both in percent, are least together; of what keeps enough of the picture.

    >>> dear = [CostPoint(20, 95, 4, 1.02), CostPoint(40, 88, 0.4, 1.06), CostPoint(60, 70, 0, 1.2)]
    >>> knee(dear).calm
    40
    """
    kept = [point for point in curve if point.picture_kept >= KNEE_KEPT] or curve[:1]
    most = max(max(point.shake_after for point in curve), 1e-9)
    return min(kept, key=lambda p: 100.0 * p.shake_after / most - p.picture_kept)


def starts(curve: Curve) -> Curve:
    """The knee, and a point of the curve for each goal: the nearest to keeping that much. None
    costs nearly what another does.

    A clip that never costs as much gets its calmest point instead; one that costs nothing, none.
    """
    if min(point.picture_kept for point in curve) >= ALL_KEPT:
        return []
    found = [knee(curve)]
    for goal in GOALS:
        reached = [p for p in curve if p.picture_kept <= goal + NEAR]
        point = min(reached or curve[-1:], key=lambda p: abs(p.picture_kept - goal))
        if min(abs(point.picture_kept - p.picture_kept) for p in found) > NEAR:
            found.append(point)
    return sorted(found)


def growing(
    motion: CameraMotion, canvas: Canvas, treatment: Treatment, curve: Curve
) -> Iterator[Curve]:
    """What ``curve`` grows to, a solve and a point at a time, until it is complete."""
    while (calm := next_calm(curve)) is not None:
        report = solve(motion, canvas, at_calm(treatment, calm)).report
        point = CostPoint(
            calm, report["picture_kept"], report["shake_after"], report["zoom"],
            report["shake_after_sure"],
        )  # fmt: skip
        curve = sorted([*curve, point])
        yield curve


def cost_curve(motion: CameraMotion, canvas: Canvas, treatment: Treatment) -> Curve:
    """The whole curve at once."""
    *_, curve = growing(motion, canvas, treatment, [])
    return curve
