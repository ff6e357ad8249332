"""How a stitched sphere bends from frame to frame, beyond the turn of the camera.

Where a sphere was put together of several lenses' pictures, whose moments of exposure differ, it
bends as the camera shakes (Kopf, *360° video stabilization*, SIGGRAPH Asia 2016, lets each frame
bend for that reason). If two lenses looked ahead and behind, one number says it all: by how much
later the one behind was exposed, for how fast the camera turned is known. What is left then, or all
if it is not so, bends by the smoothest field that is no turn (:mod:`..geometry.bend`), fitted to
what turns leave of all marks. Both are told of two halves of the marks, each by itself, so that
what both tell is known to be there. Of smooth fields only what comes and goes within a second
counts: slow bends are parallax, or were always there.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from ..geometry.bend import COUNT, bend_of, bend_of_halves, fields_at, half_of, rms_of_bends
from ..geometry.canvas import Canvas
from ..geometry.projection import Equirectangular
from ..geometry.rotation_vectors import vectors_of
from ..stored import stored
from ..tracking.correspondences import HALVES, correspondences
from ..tracking.tracks import Tracks
from ..types import Flags, Indices, Rays, Real
from .camera_motion import Timeline
from .ray_weights import FINEST, cross, products, weights_of

BATCH = 32  # pairs worked on at once
ROUNDS = 3
ENOUGH = 300  # marks of a pair
LIKELY = np.radians(0.3)  # that a frame bends by against the one before
SLOW = 0.16  # seconds, standard deviation: slower than that is kept
POLE = 0.2  # sine of the angle from the travel within which marks tell little across it
LOW = 0.4  # of the way down, below which things are near, or move with the camera
LATE_ROUNDS = 3
LATE_ASTRAY = 0.05  # of a delay, that turning between frames leads it astray by
LATE_SURE = 4.0  # times its standard error has to be a lens' delay that counts
BLOCKS = 12  # of pairs of frames, that are left out in turn
LEAST = np.radians(0.04)  # rms; less cannot be told from things that move by themselves


@stored
@dataclass(frozen=True)
class StitchWobble:
    """``bends`` ``(n, 3, 3, 3)`` of frames (see :mod:`..geometry.bend`); ``size`` and ``doubt``,
    radians rms over the sphere, of what there was; ``late`` and ``late_doubt``, seconds by which
    the half behind was exposed later than the half ahead, 0 where that is not so."""

    bends: Real
    size: float
    doubt: float
    late: float = 0.0
    late_doubt: float = 0.0


def stitch_wobble(
    turns: Real, travel: Rays, timeline: Timeline, tracks: Tracks, canvas: Canvas, aside: Flags
) -> StitchWobble:
    """The bends of frames of a stitched sphere that turned and travelled as :class:`.SphereMotion`
    has it, by its ``tracks`` but for the sightings that are set ``aside``; none where halves of the
    marks do not tell the same."""
    n = len(turns)
    pace = _pace(turns, timeline)

    def seen() -> Iterator[_Left]:
        return _left(turns, travel, timeline.cuts, tracks, canvas, aside)

    late, late_doubt = _late(seen, pace)
    halves = 0.5 * late * pace
    steps = np.zeros((HALVES, n, COUNT))
    for part in seen():
        fields = fields_at(part.at)  # (p, m, 10, 3)
        rest = part.left
        if late:
            rest = rest - late * part.of_late(pace)
        for half in range(HALVES):
            steps[half, part.frames] = _steps(part, fields, rest, half)
    steps[:, timeline.cuts] = 0.0
    found = np.zeros_like(steps)
    for start, stop in timeline.segments:
        if stop - start < 4:
            continue
        way = np.cumsum(steps[:, start:stop], axis=1)
        slow = SLOW / float(np.median(np.diff(timeline.times[start:stop])))
        found[:, start:stop] = way - scipy.ndimage.gaussian_filter1d(
            way, slow, axis=1, mode="nearest"
        )
    both = (found[0] * found[1]).mean(axis=0)  # (10,) what is there: chance does not agree
    noise = ((found[0] - found[1]) ** 2).mean(axis=0) / 4
    sure = np.where(both > 0, both / np.maximum(both + noise, 1e-18), 0.0)
    size, doubt = rms_of_bends(np.maximum(both, 0.0)), rms_of_bends(noise)
    bends = bend_of(sure * found.mean(axis=0))
    if size < max(LEAST, 2 * doubt):
        bends[:] = 0.0
    if not late:
        return StitchWobble(bends, size, doubt)
    of_halves = _rms_of_turns(halves)
    told = float(np.hypot(of_halves, size if bends.any() else 0.0))
    doubt = float(np.hypot(of_halves * late_doubt / abs(late), doubt))
    return StitchWobble(bends + bend_of_halves(halves), told, doubt, late, late_doubt)


def _pace(turns: Real, timeline: Timeline) -> Real:
    """``(n, 3)`` how fast the camera turned in each frame, rotation vectors of a second; to fourth
    order, for shake is quick against frames."""
    pace = np.zeros((len(turns), 3))
    for start, stop in timeline.segments:
        steps = vectors_of(turns[start + 1 : stop]) * timeline.rate
        if len(steps) < 2:
            continue
        a, b, c, d = (np.pad(steps, ((2, 2), (0, 0)), "edge")[k : k + stop - start]
                      for k in range(4))  # fmt: skip
        pace[start:stop] = (7 * (b + c) - a - d) / 12
    return pace


def _rms_of_turns(vectors: Real) -> float:
    """Radians rms that rays of the whole sphere are moved by turns by ``vectors`` ``(n, 3)``."""
    return float(np.sqrt(2 / 3 * (vectors**2).sum(axis=1).mean()))


@dataclass(frozen=True)
class _Left:
    """What turns leave of marks in pairs that end with ``frames`` ``(p,)``: ``left`` ``(p, m, 3)``
    at unit rays ``at``; only across the ``travel`` ``(p, 3)``, where there is any. ``valid`` are
    they for both halves of the marks, by ``half``."""

    frames: Indices
    at: Rays
    left: Rays
    travel: Rays
    valid: tuple[Flags, ...]

    @cached_property
    def _circle(self) -> Rays:
        """``(p, m, 3)`` across the circles of the travel, as long as the sine of the angle from
        it."""
        return cross(self.at, self.travel[:, None])

    @cached_property
    def _sine(self) -> Real:
        return np.asarray(np.sqrt((self._circle**2).sum(axis=-1)))

    @cached_property
    def normal(self) -> Rays:
        """``(p, m, 3)`` across the circles of the travel; nothing where there is none."""
        return self._circle / np.maximum(self._sine, 1e-9)[..., None]

    @cached_property
    def moved(self) -> Flags:
        """``(p, 1)`` whether there is any travel."""
        return np.asarray(self.travel != 0).any(axis=1).reshape(-1, 1)

    @cached_property
    def trust(self) -> Real:
        """``(p, m)`` what marks tell across the travel, near whose poles it is little."""
        near = np.minimum(self._sine / POLE, 1.0) ** 2
        return np.asarray(np.where(self.moved, near, 1.0) * (self.at[..., 1] < LOW))

    def of_late(self, pace: Real) -> Rays:
        """``(p, m, 3)`` what turns leave where the half behind is exposed a second later."""
        quicker = pace[self.frames] - pace[self.frames - 1]
        turned = cross(np.broadcast_to(quicker[:, None], self.at.shape), self.at)
        return np.asarray(0.5 * half_of(self.at)[..., None] * turned)


def _left(
    turns: Real, travel: Rays, cuts: Indices, tracks: Tracks, canvas: Canvas, aside: Flags
) -> Iterator[_Left]:
    """What turns leave of all pairs, some at a time; nothing over cuts."""
    sphere, n = Equirectangular.of(canvas), len(turns)
    for start in range(1, n, BATCH):
        part = np.arange(start, min(start + BATCH, n))
        pairs = correspondences(tracks, canvas, part, aside)
        pairs = pairs[:, :: max(1, pairs.valid.shape[1] // ENOUGH)]
        before, after = sphere.to_rays(pairs.before), sphere.to_rays(pairs.after)
        at = before @ turns[part].swapaxes(1, 2)
        within = ~np.isin(part, cuts)[:, None]
        halves = tuple(pairs.of_half(half) & within for half in range(HALVES))
        yield _Left(part, at, after - at, travel[part], halves)


def _late(seen: Callable[[], Iterator[_Left]], pace: Real) -> tuple[float, float]:
    """Seconds by which the half behind was exposed later, and their standard error; 0 where it is
    not told, or too little to be seen."""
    late = doubt = 0.0
    for _ in range(LATE_ROUNDS):
        # (pairs, halves of the marks) what delays explain of what is left, and of themselves
        product, square = np.concatenate([_late_sums(part, pace, late) for part in seen()], axis=1)
        late = _share(product, square)
        halves = [_share(product[:, half], square[:, half]) for half in range(HALVES)]
        blocks = np.array_split(np.arange(len(product)), min(BLOCKS, len(product)))
        without = [_share(np.delete(product, block, 0), np.delete(square, block, 0))
                   for block in blocks]  # fmt: skip
        spread = np.sqrt((len(without) - 1) * np.var(without))
        doubt = float(max(spread, abs(halves[0] - halves[1]) / 2))
        if abs(late) < LATE_SURE * doubt or _rms_of_turns(0.5 * late * pace) < LEAST:
            return 0.0, 0.0
    return late, float(np.hypot(doubt, LATE_ASTRAY * late))


def _late_sums(part: _Left, pace: Real, late: float) -> Real:
    """``(2, p, halves)``; what is further off than ``late`` has it counts less."""
    # Travel is no matter here, though what it moves looks alike: the camera does not travel as its
    # turns quicken.
    slope = part.of_late(pace)
    off = np.sqrt(((part.left - late * slope) ** 2).sum(axis=-1))
    above = part.at[..., 1] < LOW
    weights = [weights_of(off, half & above) for half in part.valid]
    products = (slope * part.left).sum(axis=-1), (slope**2).sum(axis=-1)
    return np.stack([[(w * one).sum(axis=1) for w in weights] for one in products]).swapaxes(1, 2)


def _share(product: Real, square: Real) -> float:
    return float(product.sum() / max(float(square.sum()), 1e-18))


def _steps(part: _Left, fields: Real, left: Rays, half: int) -> Real:
    """``(p, 10)`` by how much pairs bend, of what is ``left`` of one half of the marks, where
    ``fields`` ``(p, m, 10, 3)`` move them."""
    valid, moved, trust = part.valid[half], part.moved, part.trust
    across = (left * part.normal).sum(axis=-1)
    slopes = (fields @ part.normal[..., None])[..., 0]
    still = np.flatnonzero(~moved[:, 0])  # both directions of what is left tell of the bend there
    whole, all_left = _one_below_the_other(fields[still], left[still])
    numbers = np.zeros((len(left), COUNT))
    for _ in range(ROUNDS):
        off = np.abs(across - (slopes @ numbers[..., None])[..., 0])
        if len(still):
            rest = (all_left - whole @ numbers[still, :, None]).reshape(left[still].shape)
            off[still] = np.linalg.norm(rest, axis=-1)
        weights = trust * weights_of(off, valid)
        one = products(weights, slopes, slopes)
        told = products(weights, slopes, across[..., None])
        if len(still):
            twice = np.repeat(weights[still], 3, axis=1)
            one[still] = products(twice, whole, whole)
            told[still] = products(twice, whole, all_left)
        typical = (weights * off**2).sum(axis=1) / np.maximum(weights.sum(axis=1), 1e-12)
        hold = np.maximum(typical, FINEST**2) / LIKELY**2 + 1e-9
        square = one + hold[:, None, None] * np.eye(COUNT)
        numbers = np.linalg.solve(square, told)[..., 0]
    return numbers


def _one_below_the_other(fields: Real, left: Rays) -> tuple[Real, Real]:
    """Fields ``(p, 3m, 10)`` and movements ``(p, 3m, 1)``, an axis of a mark a row."""
    p, m = left.shape[:2]
    return fields.swapaxes(2, 3).reshape(p, 3 * m, COUNT), left.reshape(p, 3 * m, 1)
