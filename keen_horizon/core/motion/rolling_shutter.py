"""Rolling shutter: how long the rows take to be read, and how the camera moved meanwhile.

A mark on row ``y`` is seen at the frame's time plus ``s y`` (``y`` from -1/2 to 1/2, ``s`` the
readout time), so what a mark seems to move from frame to frame depends on its row wherever the
camera speeds up or slows down. That is linear in ``s`` and is what the estimate stands on. For the
path in continuous time see Patron-Perez, Lovegrove, Sibley, *A spline-based trajectory
representation for sensor fusion and rolling shutter cameras*, IJCV 2015; for motion in bands of
rows Grundmann, Kwatra, Castro, Essa, *Calibration-free rolling shutter removal*, ICCP 2012.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.linalg import solveh_banded

from ..geometry.canvas import Canvas
from ..geometry.rolling_shutter import RollingShutterWarp
from ..geometry.similarity import Similarities
from ..tracking.correspondences import Correspondences, correspondences
from ..tracking.tracks import Tracks
from ..types import Complex, Flags, Indices, Real
from .camera_motion import CameraMotion
from .pairwise import BATCH
from .refit import refit
from .robust_fit import FADE_END, fade

STEPS = 9  # of the rows' path, from the first row to the last
BANDS = 12  # of rows, for vibration faster than frames
SLOW_ENOUGH = 0.3  # of the frame rate: faster motion is not seen rightly from frame to frame
ASKED = 900  # frames that an estimate looks at, at most
BLOCK = 15  # frames whose errors may hang together
LIKELY = 2.0  # standard errors that tell a skew from none
LEAST = 1.0  # ms: less is no skew
UNSURE = 6.0  # ms of uncertainty beyond which nothing is said
ROUNDS = 4
WIDTHS = np.array([16.0, 8.0, 5.0, 5.0])  # of the fade, in those that a fit ends with
STRONG_ROUNDS = 2  # marks that vibrate are believed only once most of it is gone
BELIEVED = 5.0  # times the fade a fit ends with, within which a mark tells of its band
SMOOTH = 0.3  # price of a band's difference from its neighbours' mean, in marks
PULL = 0.05  # price of a band's motion at all, in marks: what is not known stays 0


@dataclass(frozen=True)
class Readout:
    """An estimate: ``ms`` from the first row to the last, known to ``sure`` ms (two standard
    errors); ``words`` say what it means."""

    ms: float
    sure: float
    words: str

    @property
    def found(self) -> bool:
        """Whether there is a skew to correct."""
        return self.ms > 0


def estimate_readout(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> Readout:
    """The readout time, ms from the first row to the last, from the tracks that steer ``motion``.

    A picture whose rows are read while it moves by ``d`` a frame is skewed by ``d`` times the share
    of a frame that the readout takes; accelerated motion shows that between frames. The fits of
    frame pairs are blind to what of the skew looks like a similarity, so that is taken out on both
    sides (Frisch, Waugh, *Partial time regressions*, Econometrica 1933). Only motion slow against
    the frame rate counts: faster vibration is not seen rightly from frame to frame. Where nothing
    is found the estimate is 0 and its words say why.

    >>> from keen_horizon.core.motion.pairwise import pairwise_motion
    >>> at = np.tile(np.array([[100.0, 90], [500, 80], [120, 400], [520, 390]]), (40, 1, 1))
    >>> tracks, canvas = Tracks.from_places(at, np.arange(40) / 30), Canvas(640, 480)
    >>> estimate_readout(tracks, canvas, pairwise_motion(tracks, canvas, "similarity")).found
    False
    """
    start = max(0, (len(motion) - ASKED) // 2)
    frames = np.arange(max(1, start), min(len(motion), start + ASKED))
    gap = float(np.median(np.diff(motion.timeline.times))) if len(motion) > 1 else 0.0
    nothing = "The camera hardly speeds up or slows down here; a livelier clip would tell."
    if len(frames) < 3 * BLOCK or gap <= 0:
        return Readout(0.0, np.inf, nothing)
    share = 0.0
    sure = np.inf
    now = motion
    for _ in range(ROUNDS):
        rows = row_motion(now, canvas, share * gap) if share else None
        over, under = _evidence(tracks, canvas, now, rows, frames)
        if under.sum() <= 0:
            return Readout(0.0, np.inf, nothing)
        more = float(over.sum() / under.sum())
        blocks = np.arange(len(frames)) // BLOCK
        rest = np.bincount(blocks, over - more * under)
        sure = LIKELY * float(np.sqrt((rest**2).sum()) / under.sum())
        share = float(np.clip(share + more, 0.0, 1.2))
    ms, sure = 1000 * gap * share, 1000 * gap * sure
    if sure > UNSURE:
        return Readout(0.0, sure, nothing)
    if ms < max(LEAST, sure):
        return Readout(0.0, sure, f"No skew: the rows are read within {max(LEAST, sure):.1f} ms.")
    return Readout(ms, sure, f"{ms:.1f} ms, give or take {sure:.1f}.")


def _evidence(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, rows: RollingShutterWarp | None,
    frames: Indices,
) -> tuple[Real, Real]:  # fmt: skip
    """Per pair, the two sums whose ratio is the readout time in frames that is still missing."""
    speed_a, speed_b = _speeds(motion)
    over, under = np.zeros(len(frames)), np.zeros(len(frames))
    for first in range(0, len(frames), BATCH):
        part = frames[first : first + BATCH]
        pairs = correspondences(tracks, canvas, part, motion.evidence.excluded)
        p, q = pairs.before, pairs.after
        if rows is not None:
            p = rows[part - 1].to_output(p)
            q = rows[part].to_output(q)
        weight = _believed(q, p, pairs.valid, canvas)
        height = 2 * canvas.half[1]
        at_q = speed_a[part, None] * q + speed_b[part, None]
        at_p = speed_a[part - 1, None] * p + speed_b[part - 1, None]
        row_q, row_p = pairs.after.imag, pairs.before.imag
        if motion.lens is not None:
            row_q = motion.lens[part].rows(pairs.after)
            row_p = motion.lens[part - 1].rows(pairs.before)
        skew = row_q / height * at_q - row_p / height * at_p
        left = _without_similarity(q - p, p, weight)
        would = _without_similarity(skew, p, weight)
        over[first : first + len(part)] = (weight * (would.conj() * left).real).sum(axis=1)
        under[first : first + len(part)] = (weight * np.abs(would) ** 2).sum(axis=1)
    return over, under


def _believed(q: Complex, p: Complex, valid: Flags, canvas: Canvas) -> Real:
    """Weights ``(p, m)`` of marks that move about as most do.

    Wider than those of the fit, which would leave out the very rows that show the skew.
    """
    weight = valid.astype(float)
    for width in WIDTHS * np.array(FADE_END * canvas.radius):
        rest = np.abs(_without_similarity(q - p, p, weight))
        weight = valid * fade(rest, width)
    return np.asarray(weight)


def _speeds(motion: CameraMotion) -> tuple[Complex, Complex]:
    """``(n,)`` rate of the camera's motion at each frame, a frame: moves ``z`` by ``a z + b``.

    By the derivative's exact response up to :data:`SLOW_ENOUGH`, nothing above.
    """
    steps = _similarities(motion)
    a, b = np.zeros(len(motion), complex), np.zeros(len(motion), complex)
    for start, stop in motion.segments:
        part = steps[start:stop].rebased()
        a[start:stop] = _rate(np.cumsum(np.log(part.a)))
        b[start:stop] = _rate(np.cumsum(part.b))
    return a, b


def _similarities(motion: CameraMotion) -> Similarities:
    """The steps as far as they are believed: rows are put right before other models are fitted."""
    steps = motion.trusted
    assert isinstance(steps, Similarities)
    return steps


def _rate(path: Complex) -> Complex:
    """``(n,)`` derivative of a path, a frame."""
    return _filtered(path, lambda frequency: np.asarray(2j * np.pi * frequency), 1.0)


def _ahead(path: Complex, frames: float) -> Complex:
    """``(n,)`` how much further a path is some share of a frame later (or earlier, below 0)."""
    return _filtered(path, lambda f: np.asarray(np.exp(2j * np.pi * f * frames) - 1), frames)


def _filtered(path: Complex, gain: Callable[[NDArray[Any]], NDArray[Any]], drift: float) -> Complex:
    """A path through a gain, up to :data:`SLOW_ENOUGH`; an even slope gives ``drift`` times it."""
    n = len(path)
    if n < 8:
        return np.zeros(n, complex)
    pad = min(n - 1, 60)
    longer = np.concatenate(
        [2 * path[0] - path[pad:0:-1], path, 2 * path[-1] - path[-2 : -pad - 2 : -1]]
    )
    slope = (longer[-1] - longer[0]) / (len(longer) - 1)
    straight = longer[0] + slope * np.arange(len(longer))
    frequency = np.fft.fftfreq(len(longer))
    passes = 1.0 / (1.0 + (np.abs(frequency) / SLOW_ENOUGH) ** 16)
    turned = np.fft.ifft(gain(frequency) * passes * np.fft.fft(longer - straight))
    return np.asarray(turned[pad : pad + n] + drift * slope)


def _without_similarity(d: Complex, z: Complex, weight: Real) -> Complex:
    """Displacements ``(p, m)`` less the similarity that fits each row best."""
    total = np.maximum(weight.sum(axis=1, keepdims=True), 1e-9)
    z = z - (weight * z).sum(axis=1, keepdims=True) / total
    d = d - (weight * d).sum(axis=1, keepdims=True) / total
    power = np.maximum((weight * np.abs(z) ** 2).sum(axis=1, keepdims=True), 1e-9)
    return np.asarray(d - z * (weight * z.conj() * d).sum(axis=1, keepdims=True) / power)


def row_motion(motion: CameraMotion, canvas: Canvas, readout: float) -> RollingShutterWarp:
    """How the camera moved while the rows of each frame were read in ``readout`` seconds.

    The frame's own time is that of its middle row; the path runs smoothly through all frames, and
    frames lie evenly apart. As a stage of the chain: points at the frame's own time to where their
    row recorded them, scene units.

    >>> from keen_horizon.core.motion.camera_motion import Evidence, Timeline
    >>> steps = Similarities(np.ones(9, complex), np.r_[0, np.full(8, 6 + 0j)])  # 6 px a frame
    >>> motion = CameraMotion("shift", steps, Timeline(np.arange(9) / 30, np.zeros(0, np.intp)),
    ...                       Evidence(np.full(9, 50), np.ones(9), np.zeros(9)))
    >>> rows = row_motion(motion, Canvas(640, 480), 1 / 60)  # half a frame from first row to last
    >>> rows.to_source(np.tile([-239.5j, 0j, 239.5j], (9, 1)))[4].real.round(2).tolist()
    [-1.5, 0.0, 1.5]
    """
    n = len(motion)
    steps = _similarities(motion)
    a, b = np.ones((n, STEPS), complex), np.zeros((n, STEPS), complex)
    gap = float(np.median(np.diff(motion.timeline.times))) if n > 1 else 1.0
    for start, stop in motion.segments:
        part = slice(start, stop)
        own = steps[part].rebased()
        turned, shifted = np.cumsum(np.log(own.a)), np.cumsum(own.b)
        for k, when in enumerate(np.linspace(-0.5, 0.5, STEPS) * readout / gap):
            a[part, k] = np.exp(_ahead(turned, when))
            b[part, k] = _ahead(shifted, when)
    return RollingShutterWarp(canvas, a, b, motion.lens)


def unskew_tracks(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, readout: float, *, strong: bool,
    fit: Callable[[Tracks], CameraMotion] | None = None,
) -> tuple[Tracks, CameraMotion]:  # fmt: skip
    """The tracks as if all rows had been read at once, and their motion, its rows with it, for a
    ``readout`` in seconds.

    ``motion`` is that of the tracks as they were seen; ``fit`` fits unskewed ones, if not from
    where ``motion`` is. ``strong`` takes bands of rows into account.
    """
    straight = tracks
    for _ in range(2 + STRONG_ROUNDS * strong):
        motion = _refitted(straight, canvas, motion)
        rows = row_motion(motion, canvas, readout)
        if strong:
            rows = banded(tracks, canvas, motion, rows)
        straight = unskewed(tracks, canvas, rows)
    last = _refitted(straight, canvas, motion) if fit is None else fit(straight)
    return straight, replace(last, lens=motion.lens, rows=rows)


def _refitted(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> CameraMotion:
    steps, evidence = refit(tracks, canvas, motion, motion.steps)
    return replace(motion, steps=steps, evidence=evidence)


def banded(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, rows: RollingShutterWarp
) -> RollingShutterWarp:
    """``rows`` and what bands of rows moved besides: vibration faster than the frame rate.

    ``motion`` is that of the straightened marks. What the steering marks of a band still stray
    from it is the difference of the band's motion in two frames; all of it at once is a least
    squares problem whose matrix is banded, held smooth from band to band and near 0.
    """
    n = len(motion)
    seen, told = np.zeros((n, BANDS)), np.zeros((n, BANDS), complex)
    for first in range(1, n, BATCH):
        part = np.arange(first, min(first + BATCH, n))
        pairs = correspondences(tracks, canvas, part, motion.evidence.excluded)
        weight, rest, band = _strays(pairs, canvas, motion, rows, part)
        cell = (np.arange(len(part))[:, None] * BANDS + band).ravel()
        size = len(part) * BANDS
        seen[part] = np.bincount(cell, weight.ravel(), size).reshape(-1, BANDS)
        sums = [np.bincount(cell, (weight * v).ravel(), size) for v in (rest.real, rest.imag)]
        told[part] = (sums[0] + 1j * sums[1]).reshape(-1, BANDS)
    seen[motion.timeline.cuts], told[motion.timeline.cuts] = 0, 0
    moved = _bands(seen, told)
    nodes = np.linspace(-0.5, 0.5, STEPS)
    middles = (np.arange(BANDS) + 0.5) / BANDS - 0.5
    more = np.stack(
        [np.interp(nodes, middles, m.real) + 1j * np.interp(nodes, middles, m.imag) for m in moved]
    )
    return replace(rows, b=rows.b + more)


def _strays(
    pairs: Correspondences,
    canvas: Canvas,
    motion: CameraMotion,
    rows: RollingShutterWarp,
    frames: Indices,
) -> tuple[Real, Complex, Indices]:
    """Weight, distance from the fit, and band of rows of each mark of some pairs."""
    p = rows[frames - 1].to_output(pairs.before)
    q = rows[frames].to_output(pairs.after)
    rest = q - motion.steps[frames].apply(p)
    # Vibration bends the rows by more than a fit takes for its own.
    weight = pairs.valid * fade(np.abs(rest), BELIEVED * FADE_END * canvas.radius)
    recorded = pairs.after.imag
    if motion.lens is not None:
        recorded = motion.lens[frames].rows(pairs.after)
    row = recorded / (2 * canvas.half[1]) + 0.5
    band = np.clip((row * BANDS).astype(np.intp), 0, BANDS - 1)
    return weight, rest, band


def _bands(seen: Real, told: Complex) -> Complex:
    """``(n, bands)`` motion of bands whose differences from frame to frame are ``told / seen``."""
    n, k = seen.shape
    size = n * k
    usual = float(np.median(seen[seen > 0])) if (seen > 0).any() else 1.0
    matrix = np.zeros((k + 1, size))  # upper bands, as SciPy has them
    matrix[k] = (seen + np.concatenate([seen[1:], np.zeros((1, k))])).ravel() + PULL * usual
    matrix[0, k:] = -seen[1:].ravel()
    # Second differences from band to band.
    price = SMOOTH * usual
    rough = np.diff(np.eye(k), 2, axis=0)
    bend = price * rough.T @ rough
    for off in range(3):
        values = np.zeros((n, k))
        values[:, off:] = np.diagonal(bend, off)
        matrix[k - off] += values.ravel()
    right = told - np.concatenate([told[1:], np.zeros((1, k))])
    both = np.stack([right.real.ravel(), right.imag.ravel()], axis=-1)
    found = solveh_banded(matrix, both, check_finite=False)
    moved = (found[:, 0] + 1j * found[:, 1]).reshape(n, k)
    return np.asarray(moved - moved.mean(axis=1, keepdims=True))


def unskewed(tracks: Tracks, canvas: Canvas, rows: RollingShutterWarp) -> Tracks:
    """The measure as it would have been with all rows read at once."""
    records = np.array(tracks.records)
    for t in range(len(tracks)):
        part = slice(int(tracks.offsets[t]), int(tracks.offsets[t + 1]))
        if part.start == part.stop:
            continue
        seen = records[part]
        points = np.stack([seen["x"], seen["y"]], axis=-1).astype(float)
        moved = rows[t : t + 1].to_output(canvas.to_scene(points)[None])[0]
        at = canvas.to_pixels(moved)
        seen["x"], seen["y"] = at[:, 0], at[:, 1]
    return replace(tracks, records=records)
