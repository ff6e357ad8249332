"""Rolling shutter: how the camera moved while the rows were read, and tracks freed of it.

How long the rows take is found by :mod:`.readout`. For the
path in continuous time see Patron-Perez, Lovegrove, Sibley, *A spline-based trajectory
representation for sensor fusion and rolling shutter cameras*, IJCV 2015; for motion in bands of
rows Grundmann, Kwatra, Castro, Essa, *Calibration-free rolling shutter removal*, ICCP 2012.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import scipy

from ..geometry.canvas import Canvas
from ..geometry.rolling_shutter import RollingShutterWarp
from ..geometry.similarity import Similarities
from ..tracking.correspondences import Correspondences, correspondences
from ..tracking.tracks import Tracks, places_of
from ..types import Complex, Indices, Real
from .camera_motion import CameraMotion
from .pairwise import BATCH
from .refit import refit
from .robust_fit import FADE_END, fade

STEPS = 9  # of the rows' path, from the first row to the last
BANDS = 12  # of rows, for vibration faster than frames
SLOW_ENOUGH = 0.3  # of the frame rate: faster motion is not seen rightly from frame to frame
STRONG_ROUNDS = 2  # marks that vibrate are believed only once most of it is gone
BELIEVED = 5.0  # times the fade a fit ends with, within which a mark tells of its band
SMOOTH = 0.3  # price of a band's difference from its neighbours' mean, in marks
PULL = 0.05  # price of a band's motion at all, in marks: what is not known stays 0


def _similarities(motion: CameraMotion) -> Similarities:
    """The steps as far as they are believed: rows are put right before other models are fitted."""
    steps = motion.trusted
    assert isinstance(steps, Similarities)
    return steps


def _ahead(path: Complex, frames: float) -> Complex:
    """``(n,)`` how much further a path is some share of a frame later (or earlier, below 0)."""
    return filtered(path, lambda f: np.asarray(np.exp(2j * np.pi * f * frames) - 1), frames)


def filtered(path: Complex, gain: Callable[[Real], Complex], drift: float) -> Complex:
    """Paths ``(n,)`` or ``(n, m)`` through a gain (of the frequency, cycles a frame) as far as
    motion is slow against the frame rate (:data:`SLOW_ENOUGH`); an even slope gives ``drift`` times
    it."""
    n = len(path)
    if n < 8:
        return np.zeros(path.shape, complex)
    flat = path.reshape(n, -1)
    pad = min(n - 1, 60)
    longer = np.concatenate(
        [2 * flat[0] - flat[pad:0:-1], flat, 2 * flat[-1] - flat[-2 : -pad - 2 : -1]]
    )
    slope = (longer[-1] - longer[0]) / (len(longer) - 1)
    straight = longer[0] + slope * np.arange(len(longer))[:, None]
    frequency = np.fft.fftfreq(len(longer))
    passes = 1.0 / (1.0 + (np.abs(frequency) / SLOW_ENOUGH) ** 16)
    spectrum = np.fft.fft(longer - straight, axis=0)
    turned = np.fft.ifft((gain(np.asarray(frequency, float)) * passes)[:, None] * spectrum, axis=0)
    return np.asarray(turned[pad : pad + n] + drift * slope).reshape(path.shape)


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
        pairs = correspondences(tracks, canvas, part, motion.evidence.left_out)
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
    found = scipy.linalg.solveh_banded(matrix, both, check_finite=False)
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
        points = places_of(seen)
        moved = rows[t : t + 1].to_output(canvas.to_scene(points)[None])[0]
        at = canvas.to_pixels(moved)
        seen["x"], seen["y"] = at[:, 0], at[:, 1]
    return replace(tracks, records=records)
