"""The angle of view, found from how a turning camera moves its picture.

When a camera turns, what is far from the middle moves more than the middle does, by as much as the
angle of view is wide. Turns and the camera's focal length are therefore fitted together to where
tracks went (bundle adjustment without points: Triggs, McLauchlan, Hartley, Fitzgibbon, *Bundle
adjustment, a modern synthesis*, 1999; for turning cameras Hartley, *Self-calibration of stationary
cameras*, IJCV 1997), with the time between rows, and coefficients of distortion where the evidence
carries them.

A hand that turns a camera also moves it. What that does to the dominant depth, a small *slide* of
the picture (shift and scale), is fitted with each turn and priced by how large slides of this clip
are (variance components, by expectation and maximisation: Dempster, Laird, Rubin, JRSS B 1977):
otherwise every slide would count as a turn of which nothing is seen to the side.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.distortion import Distortion
from ..geometry.motion import cumulative_pose
from ..geometry.pinhole import Pinhole
from ..geometry.projection import LensProjection, Projection
from ..geometry.rotation import Rotations, turns_from
from ..geometry.similarity import Similarities
from ..tracking.correspondences import Correspondences, correspondences
from ..tracking.tracks import Tracks
from ..types import Complex, Indices, Rays, Real
from .camera_motion import SURE, AngleOfView, CameraMotion
from .robust_fit import FADE_END, fade

GAPS = (2, 4, 8, 16)  # frames between the two of a pair; the first that tells enough is taken
PAIRS = 90  # of them, at most, that are looked at
TRACKS = 160  # of a pair, at most
ENOUGH = 40  # pairs for a gap to be taken
FEWEST = 6  # pairs, and tracks of a pair, below which nothing is told
SURVIVE = 0.4  # of the tracks of neighbouring frames, that a gap must leave
TURN_ENOUGH = 0.007  # of the half-diagonal, that the picture's middle must move for a pair to tell
STARTS = (25.0, 40.0, 60.0, 85.0, 115.0)  # degrees across that a fit begins from
WIDTHS = (4.0, 2.0, 1.4, 1.0, 1.0, 1.0, 1.0, 1.0)  # of the fade, a round each
FEWEST_BLOCKS = 4
MOST_CHANGE = np.array([0.3, 0.5, 0.1, 0.1])  # of each parameter of the camera, a round
LEVEL = 1e-6  # added to the normal equations: what nothing tells stays as it was
SLIDE = 0.1  # of what the picture's middle moves by, that slides are taken for at first
TOGETHER = 15  # frames whose errors may hang together
CAUTION = 2.0  # times the error that a clip's own pairs show: clips of walking cameras stray so far
AGREE = 0.45  # share of tracks below which a fisheye, say, is taken for what it is not
TOLD = 0.05  # relative standard error of the focal length up to which it is told
# Of slides against turns: by how much of that, rms, turns and slides that go together misled in
# seventeen recordings by cameras that were carried about.
SUSPECT = 0.45
SURE_BEND = 2.5  # standard errors of a coefficient of distortion from which on it is believed
SMALL = 1e-4  # step of a derivative, of each parameter's unit
COEFFICIENTS = 2  # of distortion, at most, that are fitted
STRAIGHT = 2  # parameters of a camera whose lens does not bend
NARROWEST, WIDEST = 8.0, 150.0  # degrees


def angle_of_view(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> AngleOfView:
    """The angle of view of the camera whose ``motion`` this is, or why it cannot be told.

    ``motion`` is the fit of similarities to ``tracks`` of pictures of size ``canvas``, as they were
    recorded. Degrees across. The optical centre is taken to be in the picture's middle; rows that
    are read one after the other are allowed for.

    >>> from .pairwise import pairwise_motion
    >>> x, y = np.meshgrid(np.arange(20.0, 600, 40), np.arange(20.0, 460, 40))
    >>> at = np.stack([x.ravel(), y.ravel()], axis=-1)
    >>> still = Tracks.from_places(np.stack([at] * 20), np.arange(20) / 30)
    >>> canvas = Canvas(640, 480)
    >>> angle_of_view(still, canvas, pairwise_motion(still, canvas, "similarity")).words
    'The angle of view cannot be told from this clip: the camera hardly turns.'
    """
    found = _pairs(tracks, canvas, motion)
    if found is None:
        return AngleOfView(why="the camera hardly turns")
    pairs, frames, between, flow = found
    few = np.unique(np.linspace(0, len(frames) - 1, PAIRS // 4).astype(int))
    begun = (_Fit.begun(pairs[few], canvas, between[few], flow[few], degrees) for degrees in STARTS)
    best = min((fit.settled(WIDTHS) for fit in begun), key=lambda fit: fit.cost)
    fit = _Fit.begun(pairs, canvas, between, flow, best.degrees).settled(WIDTHS)
    errors = fit.errors(frames)
    bent = fit
    for _ in range(COEFFICIENTS):
        bent = bent.bent().settled(WIDTHS[3:])
        own = bent.errors(frames)
        if abs(bent.camera[-1]) > SURE_BEND * own[-1]:
            fit, errors = bent, own
    errors[0] = np.hypot(errors[0], SUSPECT * fit.sliding)
    error = float(np.degrees(np.sin(np.radians(fit.degrees)) * errors[0]))
    likely = AngleOfView(fit.degrees, error, _coefficients(fit.camera))
    if fit.agreed < AGREE:
        return replace(likely, why="most of it does not move as before a camera that turns")
    if errors[0] > TOLD or not NARROWEST < fit.degrees < WIDEST:
        return replace(likely, why="its turns are too small, or too much mixed with its travel")
    return likely


def _pairs(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion
) -> tuple[Correspondences, Indices, Similarities, Complex] | None:
    """Pairs of frames between which the picture moved far, their later frames, the similarities
    that take the earlier picture to the later one, and how fast the picture moves at both."""
    n = len(motion)
    sure = motion.evidence.confidence > SURE
    sure[0] = sure[motion.timeline.cuts] = False
    doubts = np.cumsum(~sure)
    shifts = motion.steps.log()[:, -2:] @ np.array([1, 1j])
    ahead = np.append(shifts[1:], 0)
    ends = np.append(sure[1:], False)
    velocity = np.where(sure & ends, (shifts + ahead) / 2, np.where(sure, shifts, ahead))
    flow = np.stack([velocity, np.where(sure & ends, ahead - shifts, 0)], axis=-1)
    pose = cumulative_pose(motion.steps)
    assert isinstance(pose, Similarities)
    best = None
    for gap in GAPS:
        later = np.arange(gap, n)
        later = later[doubts[later] == doubts[later - gap]]
        between = pose[later].inverse().after(pose[later - gap])
        far = np.abs(between.b)
        chosen = np.sort(np.argsort(-far)[:PAIRS])
        chosen = chosen[far[chosen] > TURN_ENOUGH * canvas.radius]
        if len(chosen) < FEWEST:
            continue
        frames = later[chosen]
        pairs = correspondences(tracks, canvas, frames, motion.evidence.left_out, gap=gap)
        many = SURVIVE * np.maximum(motion.evidence.tracks[frames], FEWEST)
        known = np.nonzero(pairs.valid.sum(axis=1) >= many)[0]
        if len(known) < FEWEST or (best is not None and len(known) <= len(best[1])):
            continue
        frames = frames[known]
        both = np.stack([flow[frames - gap], flow[frames]], axis=1)
        thinned = pairs[known, :: -(-pairs.valid.shape[1] // TRACKS)]
        best = thinned, frames, between[chosen[known]], both
        if len(known) >= ENOUGH:
            break
    return best


def _coefficients(camera: Real) -> tuple[float, ...]:
    """Of distortion, as far as they are fitted."""
    return tuple(camera[STRAIGHT:].tolist())


def _run(flow: Complex, later: Real) -> Complex:
    """``(p, m)`` how far a picture of velocity and acceleration ``flow`` ``(p, 2)`` has moved, so
    many frames later."""
    return np.asarray(later * (flow[:, :1] + 0.5 * later * flow[:, 1:]))


@dataclass(frozen=True)
class _Fit:
    """Turns and slides of each pair, and the camera that all share.

    ``moves`` ``(p, 6)``: roll, radians; what the turn does to the picture's middle, right and down,
    scene units; the slide, right and down and its growth at the half-diagonal, scene units.
    ``camera``: logarithm of the focal length, time from the first row to the last in frames, and
    k1 and k2 where they are fitted. ``flow`` ``(p, 2, 2)`` is how the picture's middle moves at
    either picture: its velocity and acceleration, by frames. ``price`` ``(3,)`` the variance of
    slides.
    """

    pairs: Correspondences
    canvas: Canvas
    flow: Complex
    moves: Real
    camera: Real
    price: Real
    cost: float = np.inf
    slopes: Real | None = None  # (p, k) of the cost, by pair, in the camera's parameters
    bends: Real | None = None  # (k, k) its second derivative
    noise: float = 0.0
    agreed: float = 0.0  # share of the tracks that move so

    @classmethod
    def begun(
        cls, pairs: Correspondences, canvas: Canvas, between: Similarities, flow: Complex,
        degrees: float,
    ) -> _Fit:  # fmt: skip
        """A camera of so many degrees across that turns, and does not slide."""
        focal = float(canvas.half[0] / np.tan(np.radians(degrees) / 2))
        turns = turns_from(between, Pinhole(focal)).log()
        moves = np.concatenate([turns, np.zeros_like(turns)], axis=1)
        price = np.full(3, (SLIDE * float(np.sqrt((np.abs(between.b) ** 2).mean()))) ** 2)
        return cls(pairs, canvas, flow, moves, np.array([np.log(focal), 0.0]), price)

    def bent(self) -> _Fit:
        """The same with one more coefficient of distortion that is to be fitted."""
        return replace(self, camera=np.append(self.camera, 0.0))

    @property
    def degrees(self) -> float:
        """Across the picture as it was recorded."""
        side = self._projection(self.camera).to_rays(np.array([self.canvas.half[0] + 0j]))[0]
        return float(2 * np.degrees(np.arctan2(side[0], side[2])))

    @property
    def sliding(self) -> float:
        """What slides are against turns."""
        turned = float((self.moves[:, 1:3] ** 2).sum(axis=1).mean())
        return float(np.sqrt(self.price[:2].sum() / max(turned, 1e-9)))

    @staticmethod
    def _projection(camera: Real) -> Projection:
        focal, k = float(np.exp(camera[0])), _coefficients(camera)
        if k:
            return LensProjection(Distortion("brown", k), focal)
        return Pinhole(focal)

    def _rays(self, camera: Real) -> Rays:
        """``(p, m, 3)`` of what is seen in the earlier frame."""
        # A row is read earlier or later than its frame's own time, and seen where it was then.
        late = self._late(camera) * self.pairs.before.imag
        return self._projection(camera).to_rays(self.pairs.before - _run(self.flow[:, 0], late))

    def _turned(self, rays: Rays, moves: Real, camera: Real) -> Complex:
        """``(p, m)`` where the turns alone put them."""
        turns = Rotations.none(1, Pinhole(float(np.exp(camera[0])))).exp(moves[:, :3])
        return np.nan_to_num(self._projection(camera).to_plane(turns.to_source(rays)))

    def _slid(self, turned: Complex, camera: Real) -> Complex:
        """``(p, m)`` where each track should be seen in the later frame."""
        late = self._late(camera) * self.pairs.after.imag
        right, down = self.moves[:, 3:5].T
        slide = (right + 1j * down)[:, None]
        return np.asarray(turned * self._growth + slide + _run(self.flow[:, 1], late))

    @property
    def _growth(self) -> Real:
        return 1 + self.moves[:, 5:] / self.canvas.radius

    def _late(self, camera: Real) -> float:
        """Frames by which a row is read later than the one above it, one scene unit on."""
        return float(camera[1] / (2 * self.canvas.half[1]))

    def settled(self, widths: tuple[float, ...]) -> _Fit:
        """The fit after a round for each width of the fade."""
        fit = self
        for width in widths:
            fit = fit._round(width * FADE_END * self.canvas.radius)
        return fit

    def _linearised(self) -> tuple[Complex, Complex]:
        """``(p, m)`` where each track should be seen, and ``(p, m, 6 + k)`` the derivatives."""
        rays = self._rays(self.camera)
        turned = self._turned(rays, self.moves, self.camera)
        moved = self._slid(turned, self.camera)
        columns = []
        for i, unit in enumerate((1 / self.canvas.radius, 1, 1)):
            other = self.moves.copy()
            other[:, i] += SMALL * unit
            change = self._turned(rays, other, self.camera) - turned
            columns.append(self._growth * change / (SMALL * unit))
        one = np.ones_like(turned)
        columns += [one, 1j * one, turned / self.canvas.radius]
        for i in range(len(self.camera)):
            nearby = self.camera.copy()
            nearby[i] += SMALL
            turned = self._turned(self._rays(nearby), self.moves, nearby)
            columns.append((self._slid(turned, nearby) - moved) / SMALL)
        return moved, np.stack(columns, axis=-1)

    def _round(self, width: float) -> _Fit:
        """One step of Gauss and Newton in all parameters; then slides are priced anew."""
        pairs, k = self.pairs, len(self.camera)
        moved, j = self._linearised()
        miss = np.where(pairs.valid, pairs.after - moved, 0)
        weight = pairs.valid * fade(np.abs(miss), width)
        seen = max(float(weight.sum()), 1e-9)
        noise = max(float((weight * np.abs(miss) ** 2).sum()) / (2 * seen), 1e-9)
        both = np.concatenate([j.real, j.imag], axis=1)
        doubled = np.concatenate([weight, weight], axis=1)[..., None]
        gram = both.swapaxes(1, 2) @ (doubled * both)
        off = np.concatenate([miss.real, miss.imag], axis=1)[..., None]
        right = (both.swapaxes(1, 2) @ (doubled * off))[..., 0]
        slides = np.arange(3, 6)
        gram[:, slides, slides] += noise / self.price
        right[:, 3:6] -= noise / self.price * self.moves[:, 3:]
        own, mixed = gram[:, :6, :6], gram[:, :6, 6:]
        unit = np.broadcast_to(np.eye(6), own.shape)
        solved = np.linalg.solve(
            own + LEVEL * unit, np.concatenate([mixed, right[:, :6, None], unit], axis=2)
        )
        by_camera, alone, inverse = solved[..., :k], solved[..., k], solved[..., k + 1 :]
        bends = (gram[:, 6:, 6:] - mixed.swapaxes(1, 2) @ by_camera).sum(axis=0)
        slopes = right[:, 6:] - (mixed.swapaxes(1, 2) @ alone[..., None])[..., 0]
        change = np.linalg.solve(bends + LEVEL * np.eye(k), slopes.sum(axis=0))
        change = change / max(1.0, np.abs(change / MOST_CHANGE[:k]).max())
        moves = self.moves + alone - by_camera @ change
        spread = noise * inverse[:, slides, slides]
        evidence = seen * np.log(noise) + np.log(self.price / spread).sum()
        var = (moves[:, 3:] ** 2 + spread).mean(axis=0)
        var[:2] = var[:2].mean()
        return replace(
            self,
            moves=moves,
            camera=self.camera + change,
            price=np.maximum(var, 1e-6),
            cost=float(evidence),
            agreed=float(weight.sum() / max(pairs.valid.sum(), 1)),
            slopes=slopes,
            bends=bends,
            noise=noise,
        )

    def errors(self, frames: Indices) -> Real:
        """``(k,)`` standard errors of the camera's parameters: how far blocks of neighbouring pairs
        pull apart (White, *A heteroskedasticity-consistent covariance matrix estimator*,
        Econometrica 1980), at least what the tracks' noise makes. Infinite with too few blocks."""
        assert self.slopes is not None
        assert self.bends is not None
        block = frames // TOGETHER
        pulls = np.stack([self.slopes[block == b].sum(axis=0) for b in np.unique(block)])
        count = len(pulls)
        if count < FEWEST_BLOCKS:
            return np.full(len(self.camera), np.inf)
        inverse = np.linalg.inv(self.bends)
        robust = inverse @ (pulls.T @ pulls) @ inverse * count / (count - 1)
        variance = np.maximum(np.diag(robust), np.diag(inverse) * self.noise)
        return np.asarray(CAUTION * np.sqrt(variance))
