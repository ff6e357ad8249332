"""How a camera that looks everywhere turned and travelled, out of tracks of directions.

Between two frames a far thing moves by the camera's turn alone: the rotation that carries the
earlier directions to the later ones (Wahba, *A least squares estimate of satellite attitude*, SIAM
Review 1965; by singular values: Markley 1988). Near things move by travel too, towards or from the
direction of travel, along great circles through it: across those circles, travel moves nothing, so
what is left across them tells of the turn alone, however deep the scene is. Which of the two is
needed, the residuals along and across the circles say.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..geometry.motion import cumulative_pose
from ..geometry.pinhole import Pinhole
from ..geometry.projection import Equirectangular
from ..geometry.rotation import Rotations, turn_slopes
from ..geometry.rotation_vectors import turns_by, vectors_of
from ..stored import stored
from ..tracking.blur import blurred_frames
from ..tracking.correspondences import correspondences
from ..tracking.cuts import find_cuts
from ..tracking.tracks import Tracks, places_of
from ..types import Flags, Indices, Rays, Real
from .camera_motion import Evidence, Timeline
from .ray_weights import FINEST, SPAN, cross, products, typical_size, weights_of
from .stitch_wobble import StitchWobble, stitch_wobble

BATCH = 64  # pairs worked on at once
TRIES = 96  # turns that a pair of marks each speaks for, of which the best is where a fit begins
NEAR = np.radians(0.6)  # from a try, within which a mark speaks for it
ROUNDS, LAST = 12, 3  # of weighing marks anew and fitting, at most; with some of them, then all
STEP = 1e-5  # radians from one round to the next, below which a fit has settled
ENOUGH = 200  # marks that bring a fit near
TRAVELS = 1.35  # times as large are residuals along the circles as across, where there is travel
FIRST = 2  # rounds of a first look
FEW = 8  # marks below which a pair tells nothing
SECTORS = 8  # of the sphere, around, in which marks may err together
SURE = np.radians(0.15)  # doubt of a turn at which it is half believed
GAPS = (6, 24)  # frames between those that are compared besides neighbours
AVERAGES = 3  # rounds
ASTRAY = 3.0  # times what tracks are usually off by, beyond which one goes its own way
NADIR = 35.0  # degrees from straight down of the cone that the stick and its holder fill
PER_PAIR = 2  # marks that a try stands on


@stored
@dataclass(frozen=True)
class SphereMotion:
    """Motion of ``n`` frames of a picture all around.

    ``turns`` ``(n, 3, 3)`` take rays of the frame before to rays of each (x right, y down, z
    forward; none at 0 and at cuts); ``travel`` ``(n, 3)`` unit rays the camera travelled along, in
    the frame's own axes, zero where it cannot be told from turning; ``doubt`` ``(n,)`` radians, the
    standard error of a turn about its worst axis; ``wobble`` how frames bend beyond that.
    """

    turns: Real
    travel: Rays
    doubt: Real
    timeline: Timeline
    evidence: Evidence
    wobble: StitchWobble | None = None

    def __len__(self) -> int:
        return len(self.turns)

    @cached_property
    def poses(self) -> Real:
        """``(n, 3, 3)`` from rays of the first frame of its stretch to those of each."""
        parts = [poses_of(self.turns[start:stop]) for start, stop in self.timeline.segments]
        return np.concatenate(parts)


def poses_of(turns: Real) -> Real:
    """``(n, 3, 3)`` from rays of the first frame to those of each, out of turns ``(n, 3, 3)`` from
    frame to frame; the first counts as none."""
    return cumulative_pose(Rotations(turns, Pinhole(1.0))).inverse().turns


def sphere_motion(tracks: Tracks, canvas: Canvas, nadir: float = NADIR) -> SphereMotion:
    """Fit every pair of neighbouring frames of equirectangular pictures of size ``canvas``. What is
    within ``nadir`` degrees of straight down takes no part, nor does what goes its own way.

    >>> rng = np.random.default_rng(1)
    >>> rays = rng.normal(size=(60, 3)); rays[:, 1] -= 1
    >>> turn = turns_by(np.array([0.01, -0.03, 0.02]))
    >>> sphere = Equirectangular.of(Canvas(2048, 1024))
    >>> places = np.stack([Canvas(2048, 1024).to_pixels(sphere.to_plane(r))
    ...                    for r in (rays, rays @ turn.T)])
    >>> found = sphere_motion(Tracks.from_places(places, np.arange(2) / 30), Canvas(2048, 1024))
    >>> vectors_of(found.turns[1]).round(4).tolist()
    [0.01, -0.03, 0.02]
    """
    n = len(tracks)
    turns, travel = np.tile(np.eye(3), (n, 1, 1)), np.zeros((n, 3))
    doubt, residual, count = np.zeros(n), np.zeros(n), np.zeros(n, np.int64)
    steering = np.zeros(len(tracks.records), bool)
    sphere = Equirectangular.of(canvas)
    below = _below(tracks, canvas, nadir)
    first, astray = _first_look(tracks, canvas, below)
    aside = below | astray
    for start in range(1, n, BATCH):
        part = np.arange(start, min(start + BATCH, n))
        pairs = correspondences(tracks, canvas, part, aside)
        before, after = sphere.to_rays(pairs.before), sphere.to_rays(pairs.after)
        fit = _fits(before, after, pairs.valid, first[part])
        turns[part], travel[part], doubt[part] = fit.turns, fit.travel, fit.doubt
        residual[part], count[part] = fit.residual, fit.steer.sum(axis=1)
        steering[pairs.record[pairs.valid]] = fit.steer[pairs.valid]
    cuts = find_cuts(tracks)
    still = np.concatenate([[0], cuts]).astype(np.intp)
    turns[still], travel[still], doubt[still] = np.eye(3), 0.0, 0.0
    confidence = np.where(count >= FEW, 1 / (1 + (doubt / SURE) ** 2), 0.0)
    confidence[still] = 1.0
    segments = Timeline(tracks.times, cuts).segments
    timeline = Timeline(
        tracks.times, cuts, tracks.first, blurred_frames(tracks.sharpness, segments)
    )
    evidence = Evidence(count, confidence, residual * sphere.unit, steering, aside)
    settled = _settled(turns, doubt, timeline, tracks, canvas, aside)
    # Marks of one thing err together: what pairs and longer stretches disagree by says how much.
    off = np.linalg.norm(vectors_of(settled @ turns.swapaxes(1, 2)), axis=1)
    apart = float(np.sqrt((off**2).sum() / max(3 * (doubt**2).sum(), 1e-18)))
    wobble = stitch_wobble(settled, travel, timeline, tracks, canvas, aside)
    return SphereMotion(settled, travel, doubt * max(1.0, apart), timeline, evidence, wobble)


def left_by_turns(before: Rays, after: Rays, valid: Flags) -> Real:
    """``(p,)`` radians rms that a turn and a direction of travel leave of the movements of marks
    ``(p, m, 3)``, most of them, in each of ``p`` pairs of pictures."""
    return _fits(before, after, valid, _first_turns(before, after, valid)).residual


def turns_between(before: Rays, after: Rays) -> Real | None:
    """``(3, 3)`` the turn that carries rays ``(m, 3)`` of a picture to those of another, whatever
    the camera travelled and what went its own way; None where too few tell."""
    if len(before) < FEW:
        return None
    one, other, valid = before[None], after[None], np.ones((1, len(before)), bool)
    return np.asarray(_fits(one, other, valid, _first_turns(one, other, valid)).turns[0])


def _first_look(tracks: Tracks, canvas: Canvas, aside: Flags) -> tuple[Real, Flags]:
    """Turns ``(n, 3, 3)``, about; and ``(records,)`` sightings of what goes its own way again and
    again, by however little at a time, so that no single pair shows it: a deck that the camera
    stands on, somebody's shoulder, waves close by. Told by what plain turns leave of tracks'
    movements, over all of their pairs."""
    found = np.tile(np.eye(3), (len(tracks), 1, 1))
    sphere = Equirectangular.of(canvas)
    ids = tracks.records["id"].astype(np.int64)
    left, pairs_of = np.zeros((2, int(ids.max(initial=0)) + 1))
    for start in range(1, len(tracks), BATCH):
        part = np.arange(start, min(start + BATCH, len(tracks)))
        pairs = correspondences(tracks, canvas, part, aside)
        before, after = sphere.to_rays(pairs.before), sphere.to_rays(pairs.after)
        some = np.s_[:, :: max(1, before.shape[1] // ENOUGH)]
        turns = _first_turns(before[some], after[some], pairs.valid[some])
        for _ in range(FIRST):
            turns = _wahba(before, after, weights_of(_missed(turns, before, after), pairs.valid))
        found[part] = turns
        off = _missed(turns, before, after)[pairs.valid] ** 2
        mine = ids[pairs.record[pairs.valid]]
        left += np.bincount(mine, off, len(left))
        pairs_of += np.bincount(mine, minlength=len(left))
    seen = pairs_of > 0
    if not seen.any():
        return found, np.zeros(len(ids), bool)
    typical = np.sqrt(left / np.maximum(pairs_of, 1))
    usual = np.median(np.repeat(typical[seen], pairs_of[seen].astype(int)))
    return found, np.asarray((typical > ASTRAY * max(usual, FINEST))[ids])


def _settled(
    turns: Real, doubt: Real, timeline: Timeline, tracks: Tracks, canvas: Canvas, below: Flags
) -> Real:
    """Turns that also agree with what marks tell over longer stretches, so that what single pairs
    miss does not add up (rotation averaging: Hartley, Trumpf, Dai, Li, IJCV 2013)."""
    sphere, out = Equirectangular.of(canvas), turns.copy()
    for start, stop in timeline.segments:
        poses = poses_of(turns[start:stop])
        known = [(np.arange(1, stop - start), 1, turns[start + 1 : stop], doubt[start + 1 : stop])]
        for gap in GAPS:
            later = np.arange(gap, stop - start, gap // 2)
            for part in np.array_split(later, max(1, -(-len(later) // BATCH))):
                if not len(part):
                    continue
                pairs = correspondences(tracks, canvas, start + part, below, gap=gap)
                between = poses[part] @ poses[part - gap].swapaxes(1, 2)
                before, after = sphere.to_rays(pairs.before), sphere.to_rays(pairs.after)
                fit = _fits(before, after, pairs.valid, between)
                told = fit.steer.sum(axis=1) >= FEW
                known.append((part[told], gap, fit.turns[told], fit.doubt[told]))
        poses = _averaged(poses, known)
        out[start + 1 : stop] = poses[1:] @ poses[:-1].swapaxes(1, 2)
    return out


def _averaged(poses: Real, known: list[tuple[Indices, int, Real, Real]]) -> Real:
    """Poses ``(n, 3, 3)`` that agree best with turns that are known: each of ``frames``, from so
    many frames before, and what they are sure to."""
    later = np.concatenate([frames for frames, _, _, _ in known])
    earlier = np.concatenate([frames - gap for frames, gap, _, _ in known])
    told = np.concatenate([turns for _, _, turns, _ in known])
    sure = np.concatenate([doubt for _, _, _, doubt in known])
    n = len(poses)
    if n < GAPS[0] + 1:
        return poses
    anchor = scipy.sparse.csr_array((np.ones(3), (np.arange(3), np.arange(3))), (3 * n, 3 * n))
    for _ in range(AVERAGES):
        between = poses[later] @ poses[earlier].swapaxes(1, 2)
        miss = vectors_of(between @ told.swapaxes(1, 2))
        far = np.linalg.norm(miss, axis=1) / np.maximum(sure, FINEST)
        scale = SPAN * max(1.0, 1.4826 * float(np.median(far)))
        weight = np.repeat(1 / np.maximum(sure, FINEST) ** 2 / (1 + (far / scale) ** 2), 3)
        slope = turn_slopes(between, earlier, later, n)
        weighted = scipy.sparse.diags_array(weight) @ slope
        square = slope.T @ weighted + weight.max() * anchor
        small = (
            -scipy.sparse.linalg.splu(square.tocsc()).solve(weighted.T @ miss.ravel()).reshape(n, 3)
        )
        poses = turns_by(small) @ poses
    return poses


def _below(tracks: Tracks, canvas: Canvas, nadir: float) -> Flags:
    """``(records,)`` which sightings lie in the cone below the camera."""
    latitude = (places_of(tracks.records)[:, 1] + 0.5) / canvas.height * 180 - 90
    return np.asarray(latitude > 90 - nadir)


@dataclass(frozen=True)
class _Fits:
    turns: Real  # (p, 3, 3)
    travel: Rays  # (p, 3)
    doubt: Real  # (p,) radians
    residual: Real  # (p,) radians, of the marks that steer
    steer: Flags  # (p, m)


def _fits(before: Rays, after: Rays, valid: Flags, start: Real) -> _Fits:
    """Turns and travel of ``p`` pairs from rays ``(p, m, 3)``, near turns ``start``."""
    # Some marks, evenly, bring a fit near; all of them finish it.
    some = np.s_[:, :: max(1, before.shape[1] // ENOUGH)]
    stages = ((before[some], after[some], valid[some], ROUNDS), (before, after, valid, LAST))
    turns, none = _until_settled(_without_travel, (start, np.zeros((len(start), 3))), stages)
    both, travel = _until_settled(_with_travel, (turns, none), stages)
    at = _turned(both, before)
    along, across = _residuals(at, after - at, travel)
    moved = typical_size(along, valid) > TRAVELS * typical_size(across, valid)
    # Without travel, both directions of what is left tell of the turn.
    plain = _missed(turns, before, after)
    chosen = np.where(moved[:, None, None], both, turns)
    off = np.where(moved[:, None], np.abs(across), plain)
    weights = weights_of(off, valid)
    steer = valid & (weights > 0.25)
    share = weights / np.maximum(weights.sum(axis=1, keepdims=True), 1e-12)
    residual = np.sqrt((share * off**2).sum(axis=1))
    doubt = _doubt(before, after, chosen, travel, moved, weights, residual)
    return _Fits(chosen, np.where(moved[:, None], travel, 0.0), doubt, residual, steer)


def _until_settled(
    improve: Callable[[Real, Rays, Rays, Rays, Flags], tuple[Real, Rays]],
    found: tuple[Real, Rays],
    stages: Sequence[tuple[Rays, Rays, Flags, int]],
) -> tuple[Real, Rays]:
    """Turns and travel, improved in rounds until they hardly change: so many rounds at the most,
    first by some marks, then by others."""
    for before, after, valid, rounds in stages:
        for _ in range(rounds):
            last, found = found, improve(*found, before, after, valid)
            if _step(last[0], found[0]) < STEP:
                break
    return found


def _turned(turns: Real, rays: Rays) -> Rays:
    return np.asarray(rays @ turns.swapaxes(1, 2))


def _missed(turns: Real, before: Rays, after: Rays) -> Real:
    """``(p, m)`` radians that turns miss marks by."""
    left = after - _turned(turns, before)
    return np.asarray(np.sqrt((left**2).sum(axis=-1)))


def _step(one: Real, other: Real) -> float:
    """Radians from turns to others, at the most."""
    apart = ((one - other) ** 2).sum(axis=(-2, -1)).max(initial=0.0)
    return float(np.sqrt(apart / 2))


def _wahba(before: Rays, after: Rays, weights: Real) -> Real:
    """``(p, 3, 3)`` the rotations that carry ``before`` to ``after`` best."""
    b = products(weights, after, before)
    u, _, vt = np.linalg.svd(b + 1e-12 * np.eye(3))
    u[:, :, 2] *= np.sign(np.linalg.det(u) * np.linalg.det(vt))[:, None]
    return np.asarray(u @ vt)


def _first_turns(before: Rays, after: Rays, valid: Flags) -> Real:
    """Where the fits begin: of the turns that two marks each speak for, the one that most others
    are near to (Fischler, Bolles, *Random sample consensus*, CACM 1981)."""
    rng = np.random.default_rng(0)
    found = np.tile(np.eye(3), (len(before), 1, 1))
    for p, ok in enumerate(valid):
        marks = np.flatnonzero(ok)
        if len(marks) < FEW:
            continue
        pick = marks[rng.integers(0, len(marks), (TRIES, PER_PAIR))]
        tries = _wahba(before[p, pick], after[p, pick], np.ones((TRIES, PER_PAIR)))
        tries[0] = np.eye(3)
        # What a try misses a mark by, as a chord, from the products of their numbers.
        both = (after[p, marks, :, None] * before[p, marks, None]).reshape(-1, 9)
        off = np.sqrt(np.maximum(2 - 2 * (tries.reshape(-1, 9) @ both.T), 0.0))
        found[p] = tries[np.minimum(off, NEAR).sum(axis=1).argmin()]
    return found


def _residuals(at: Rays, left: Rays, travel: Rays) -> tuple[Real, Real]:
    """``(p, m)`` radians that ``left`` ``(p, m, 3)`` of marks ``at`` unit rays is along and across
    the great circles of the ``travel`` ``(p, 3)``; nothing where there is none."""
    way = travel[..., None]
    cosine, sine = _from_travel(at, way)
    along = ((left @ way)[..., 0] - (left * at).sum(axis=-1) * cosine) / sine
    return along, _across(cross(at, left), way, sine)


def _from_travel(at: Rays, way: Real) -> tuple[Real, Real]:
    """``(p, m)`` cosine and sine of the angles between marks and the travel ``(p, 3, 1)``."""
    cosine = (at @ way)[..., 0]
    return cosine, np.sqrt(np.maximum(1 - cosine**2, 1e-18))


def _across(normals: Rays, way: Real, sine: Real) -> Real:
    """``(p, m)`` radians across the travel's circles, of the normals that marks, and what is left
    of their movements, span."""
    return np.asarray(-(normals @ way)[..., 0] / sine)


def _slope(at: Rays, way: Real, cosine: Real, sine: Real) -> Rays:
    """``(p, m, 3)`` of what is left across the travel's circles, by a small turn."""
    return np.asarray((cosine[..., None] * at - way.swapaxes(1, 2)) / sine[..., None])


def _without_travel(
    turns: Real, travel: Rays, before: Rays, after: Rays, valid: Flags
) -> tuple[Real, Rays]:
    """One round: the turns that leave least; of travel nothing is said."""
    return _wahba(before, after, weights_of(_missed(turns, before, after), valid)), travel


def _with_travel(
    turns: Real, travel: Rays, before: Rays, after: Rays, valid: Flags
) -> tuple[Real, Rays]:
    """One round: the direction that what the turns leave is along, then the turns that leave least
    across it."""
    at = _turned(turns, before)
    left = after - at
    normals = cross(at, left)  # of the circles that marks were moved along
    if travel.any():
        _, sine = _from_travel(at, travel[..., None])
        weights = weights_of(_across(normals, travel[..., None], sine), valid)
    else:
        weights = valid / (1 + (left**2).sum(axis=-1) / NEAR**2)
    _, vectors = np.linalg.eigh(products(weights, normals, normals))
    travel = vectors[:, :, 0]  # least across all of the circles' normals
    # What is ahead comes apart: marks move away from where the camera travels to.
    mean = products(weights, left, np.ones((*left.shape[:2], 1)))[..., 0]
    travel = -np.where((mean * travel).sum(axis=1) < 0, -1.0, 1.0)[:, None] * travel
    way = travel[..., None]
    cosine, sine = _from_travel(at, way)
    across = _across(normals, way, sine)
    # Near the travel's own poles a normal is not known.
    weights = weights_of(across, valid) * np.minimum(sine / 0.2, 1.0) ** 2
    slope = _slope(at, way, cosine, sine)
    square = products(weights, slope, slope) + 1e-9 * np.eye(3)
    small = np.linalg.solve(square, products(weights, slope, across[..., None]))[..., 0]
    size = np.linalg.norm(small, axis=1, keepdims=True)
    small = small * np.minimum(1.0, NEAR / np.maximum(size, 1e-12))
    return np.asarray(turns_by(small) @ turns), travel


def _doubt(
    before: Rays, after: Rays, turns: Real, travel: Rays, moved: Flags, weights: Real,
    residual: Real,
) -> Real:  # fmt: skip
    """``(p,)`` standard error of a turn about the axis that is told worst, radians: of marks that
    err each by itself; and no less than of marks that err together with those around them (Liang,
    Zeger, *Longitudinal data analysis using generalized linear models*, Biometrika 1986)."""
    at = _turned(turns, before)
    left, way = after - at, travel[..., None]
    normals = cross(at, left)
    cosine, sine = _from_travel(at, way)
    # Across one direction, or in both that are across a ray.
    slope = _slope(at, way, cosine, sine)
    one = products(weights, slope, slope)
    both = weights.sum(axis=1)[:, None, None] * np.eye(3) - products(weights, at, at)
    told = np.where(moved[:, None, None], one, both)
    least = np.maximum(np.linalg.eigvalsh(told)[:, 0], 1e-6)
    alone = np.maximum(residual, FINEST) / np.sqrt(least)
    pull = np.where(moved[:, None, None], slope * _across(normals, way, sine)[..., None], normals)
    sectors = np.eye(SECTORS)[_sector(at)].swapaxes(1, 2)  # (p, sectors, m)
    sums = sectors @ (weights[..., None] * pull)
    # Few that err together seem to err less, for the fit goes along with them.
    count = ((sectors @ weights[..., None])[..., 0] > 0).sum(axis=1)
    fewer = count / np.maximum(count - 3, 1)
    inverse = np.linalg.inv(told + 1e-6 * np.eye(3))
    together = inverse @ (sums.swapaxes(1, 2) @ sums) @ inverse
    return np.asarray(np.maximum(alone, np.sqrt(fewer * np.linalg.eigvalsh(together)[:, 2])))


def _sector(rays: Rays) -> Indices:
    """``(p, m)`` in which part of the sphere rays are, around."""
    around = np.arctan2(rays[..., 0], rays[..., 2]) / (2 * np.pi) + 0.5
    return np.asarray(np.minimum((around * SECTORS).astype(int), SECTORS - 1))
