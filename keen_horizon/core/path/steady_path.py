"""The steadied camera path: as still, even and evenly accelerating as the picture allows.

After Grundmann, Kwatra, Essa, *Auto-directed video stabilization with robust L1 optimal camera
paths*, CVPR 2011: the sum of absolute first, second and third differences of the path is least,
subject to every corner of the crop staying inside the source. Where the paper takes the absolute
value of each component, here it is the length of a block, such as the shift (x, y): the same
stretches of rest and even motion, whichever way they run across the picture.

The unknown is the correction ``B_t`` of each frame, a backward map from the steadied plane to the
source plane, told by its tangent vector. With ``F_t`` the camera's step from frame ``t - 1`` to
``t``, the steadied camera's own step compares ``inverse(F_{t+1}) B_{t+1}`` with ``B_t``: local, so
nothing drifts however long the clip is; and linear in tangent vectors. Scale is counted in the
logarithm, where a constant zoom costs nothing and gains nothing; in the scale itself, shrinking it
would shrink every step, and the solver would buy calm with a zoom that nobody asked for.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.live_area import LiveArea
from ..geometry.motion import Motion
from ..motion.camera_motion import CameraMotion
from ..types import Real
from .conic_solver import least_lengths
from .differences import Differences

SCALE_SHARE = 0.25  # of the room that evening out the scale may take
HALF_DIAGONAL = 734.0  # of the picture the weights below were chosen for; others count alike
LEVER = 0.7 * HALF_DIAGONAL  # turns and scales count as what they do at that distance
CORNERS = ((-1, -1), (1, -1), (1, 1), (-1, 1))  # across and down
NEAR = 0.5  # of the way to a side that is cut off: what is nearer to the middle keeps clear
NO_ROOM = 1e-3  # instead of none: an interior-point method needs an interior
REFERENCE_RATE = 30.0  # frames a second at which the weights below count differences


@dataclass(frozen=True)
class Weights:
    """How much stillness, evenness and even acceleration of the path are worth.

    ``tether`` is the price of being off centre (quadratic). It settles what the rest leaves open,
    such as where a camera that stands still looks, and keeps the solver from spending picture on
    calm that nobody would notice.
    """

    still: float
    even: float
    smooth: float
    tether: float


FOLLOW = Weights(still=1.0, even=10.0, smooth=100.0, tether=1e-3)
LOCK_OFF = Weights(still=30.0, even=3.0, smooth=10.0, tether=2e-4)
ANCHOR = 10.0  # price of moving the frame that gives the view: all but forbidden


def lock_off(slack: float) -> Weights:
    """What a lock-off is worth with ``slack`` 0..100: at 0 it stands still, whatever that costs;
    with all of it a slow drift costs little.

    >>> lock_off(0) == LOCK_OFF, round(lock_off(100).still, 3)
    (True, 0.05)
    """
    share = slack / 100.0
    return Weights(
        still=LOCK_OFF.still * (0.05 / LOCK_OFF.still) ** share,
        even=LOCK_OFF.even * (20.0 / LOCK_OFF.even) ** share,
        smooth=LOCK_OFF.smooth * (FOLLOW.smooth / LOCK_OFF.smooth) ** share,
        tether=LOCK_OFF.tether,
    )


@dataclass(frozen=True)
class Bounds:
    """What may be spent.

    ``crop`` 0..1, one or ``(n,)``: every corner of the picture scaled by it stays covered; of what
    is left of the picture where ``area`` cuts some off.
    ``freedom`` shares, 0..1, of what the crop allows, by a component's name; those not named may
    have it all. ``margin`` ``(n,)`` scene units are kept clear of the source's edge. ``rim`` is the
    half width and height shown at zoom 1, None for the picture's; ``area`` where the straight
    picture is one, None for all over.
    """

    crop: float | Real
    freedom: Mapping[str, float] = field(default_factory=dict)
    margin: float | Real = 0.0
    rim: tuple[float, float] | None = None
    area: LiveArea | None = None


def steady_path(
    motion: CameraMotion,
    canvas: Canvas,
    weights: Weights,
    bounds: Bounds,
    anchor: int | None = None,
) -> Motion:
    """Corrections ``(n,)``, of the kind that the motion's steps are, within ``bounds``.

    Entry ``t`` takes the steadied plane to frame ``t``, scene units. The path of the picture
    becomes as still, as even and as evenly accelerated as ``weights`` have it: least sums of the
    lengths of its differences, so that it stands, then moves, without wavering (Grundmann, Kwatra,
    Essa, *Auto-directed video stabilization with robust L1 optimal camera paths*, CVPR 2011). With
    a crop of 1 there is no room and the result moves nothing. ``anchor`` is a frame that should
    stay as it is. Stretches between cuts are solved apart. A component without freedom is left
    exactly as it is. Raises ArithmeticError if the solver fails.

    >>> from keen_horizon.core.motion.camera_motion import Evidence, Timeline
    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> swing = 8 * np.sin(np.arange(60) * 0.8) + 0j  # the picture swings by 8 px
    >>> steps = Similarities(np.ones(60, complex), np.diff(swing, prepend=swing[0]))
    >>> timeline = Timeline(np.arange(60) / 30, np.zeros(0, np.intp))
    >>> evidence = Evidence(np.full(60, 50), np.ones(60), np.zeros(60))
    >>> motion = CameraMotion("similarity", steps, timeline, evidence)
    >>> calm = steady_path(motion, Canvas(1280, 720), FOLLOW, Bounds(crop=0.9))
    >>> shown = swing - calm.b  # where the steadied picture lies
    >>> bool(np.ptp(shown.real) < 0.5)
    True
    """
    n, steps = len(motion), motion.trusted
    crops = np.broadcast_to(np.asarray(bounds.crop, float), n)
    margins = np.broadcast_to(np.asarray(bounds.margin, float), n)
    tangents = np.zeros((n, steps.dimensions))
    rate = motion.timeline.rate
    for start, stop in motion.segments:
        part = slice(start, stop)
        if stop - start < 2 or crops[part].min() >= 1.0 - 1e-9:
            continue
        tethers = np.full(stop - start, weights.tether)
        if anchor is not None and start <= anchor < stop:
            tethers[anchor - start] = ANCHOR
        own = replace(bounds, crop=crops[part], margin=margins[part])
        tangents[part] = _solve(steps[part], canvas, weights, tethers, own, rate)
    return steps.exp(tangents)


def _solve(
    steps: Motion, canvas: Canvas, weights: Weights, tethers: Real, bounds: Bounds, rate: float
) -> Real:
    """Tangent vectors ``(n, d)`` of the corrections of one stretch."""
    unit = canvas.radius / HALF_DIAGONAL
    # All coordinates are counted in px of a picture of the reference size.
    in_px = np.array([LEVER if c in ("size", "roll") else 1 / unit for c in steps.components])
    back = steps[1:].inverse()
    turn = in_px[:, None] * back.transport() / in_px
    offset = back.log() * in_px
    # Differences are counted as at the reference rate.
    tau = REFERENCE_RATE / rate
    orders = (weights.still, weights.even / tau, weights.smooth / tau**2)[: len(offset)]
    differences = Differences(
        np.ascontiguousarray(turn.transpose(1, 2, 0)),
        np.ascontiguousarray(offset.T),
        orders,
        steps.blocks,
    )
    rows, room = coverage_bounds(steps, canvas, bounds)
    q = least_lengths(differences, tethers * tau**2, rows / in_px, room.T) / in_px[:, None]
    for at, component in enumerate(steps.components):
        if bounds.freedom.get(component, 1.0) <= 0:
            q[at] = 0.0
    return q.T


def coverage_bounds(steps: Motion, canvas: Canvas, bounds: Bounds) -> tuple[Real, Real]:
    """The bounds ``rows . tangent <= room``: ``(j, d)``, and ``(j,)`` scene units, or ``(n, j)``
    where the crop or the margin changes.

    Each corner of what is shown stays on its side of the source, ``margin`` clear of its edge. If
    there is a scale it stays within a breath; the crop is wider by as much, so that zoom and scale
    together never take more than asked for. A component whose freedom is not full stays within its
    share of what that leaves it. Corners move as to first order; what that leaves out (0.3 px for a
    roll of 2 degrees) is made good by :func:`.clip_to_zoom`. So is what turns cost in frames with a
    smaller crop than others.

    >>> from keen_horizon.core.geometry.similarity import Shifts
    >>> rows, room = coverage_bounds(Shifts.none(3), Canvas(1281, 721), Bounds(crop=0.9))
    >>> float(room[rows[:, 0] == 1].min().round(1))  # to the right: a tenth of the half width
    64.0
    """
    half, unit = canvas.half, canvas.radius / HALF_DIAGONAL
    lever, no_room = LEVER * unit, NO_ROOM * unit
    crops, margins = np.asarray(bounds.crop), np.asarray(bounds.margin)
    components = steps.components
    breath = SCALE_SHARE * (1.0 - crops) if "size" in components else np.zeros_like(crops)
    shown = tuple(min(h, r) for h, r in zip(half, bounds.rim or half, strict=True))
    outer = np.array([across * shown[0] + 1j * down * shown[1] for across, down in CORNERS])
    sizes = crops / (1.0 - breath) / (1.0 if bounds.area is None else bounds.area.zoom(outer))
    size = float(sizes.max())
    rows: list[Real] = []
    room: list[Real] = []

    def within(component: str, most: Real) -> None:
        """A component stays within ``most`` either way."""
        # Turns and scales are counted by what they do at the lever.
        counts = lever if component in ("size", "roll") else 1.0
        row = np.array([counts if name == component else 0.0 for name in components])
        for side in (1.0, -1.0):
            rows.append(side * row)
            room.append(most)

    if "size" in components:
        within("size", breath * lever * bounds.freedom.get("size", 1.0))
    spare = [np.maximum(h - sizes * s - margins, 0.0) for h, s in zip(half, shown, strict=True)]
    for (across, down), corner in zip(CORNERS, outer, strict=True):
        right, below = steps.jacobian(size * corner[None])[0]
        rows += [across * right, down * below]
        room += spare
        for normal, reach in [] if bounds.area is None else zip(*bounds.area.cuts, strict=True):
            far = float((np.conj(normal) * corner).real)
            if far > NEAR * reach:  # other corners do not come near this side
                rows.append(normal.real * right + normal.imag * below)
                room.append(np.maximum(reach - sizes * far - margins, 0.0))
    most = {
        "roll": (1.0 - sizes) * min(half) / max(half) * lever,
        "across": spare[0],
        "updown": spare[1],
    }
    for component, whole in most.items():
        share = bounds.freedom.get(component, 1.0)
        if component in components and share < 1.0:
            within(component, whole * share)
    return np.array(rows), np.maximum(np.stack(room, axis=-1), no_room)
