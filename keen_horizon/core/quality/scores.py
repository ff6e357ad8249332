"""Scores of steadiness and cost, each with its definition.

Stability score and distortion value after Liu, Yuan, Tan, Sun, *Bundled camera paths for video
stabilization*, SIGGRAPH 2013, section 6.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.motion import Motion, cumulative_pose
from ..geometry.similarity import Similarities, nearest_similarity
from ..types import AnyArray, Complex, Real

ORDER = 3  # of the filter that tells slow from fast
SHAKE_ABOVE = 1.0  # Hz; slower motion counts as the intended move
SHAKE_MEASURE = (
    "RMS distance that the background, seen at 25 places of the picture, strays from its path "
    "smoothed at 1 Hz, by the marks near each place"
)
WOBBLE_MEASURE = (
    "RMS distance that 25 places of the background stray, faster than 1 Hz, from where the "
    "picture's shift, roll and scale would have them"
)
Segments = list[tuple[int, int]]


CLEAR, RESOLVED = 0.02, 0.35  # of a value, that it is sure to, for no word of it, and to be said


def doubt(value: float, exact: float) -> float:
    """How much more a value may be that is mixed with what nothing is exact to.

    >>> round(doubt(3.0, 4.0), 6)
    2.0
    """
    return float(np.hypot(value, exact)) - value


def rms(values: AnyArray) -> float:
    """Of all of them, real or complex."""
    return float(np.sqrt((np.abs(values) ** 2).mean()))


def is_resolved(value: float, sure: float) -> bool:
    """Whether a value that may be ``sure`` more can be told from nothing."""
    return sure <= RESOLVED * value


def in_pixels(value: float, sure: float) -> str:
    """``5.62 px``; ``0.71 ± 0.03 px`` of what may be 0.03 px more; ``under 0.2 px`` of what can
    hardly be told from nothing."""
    if not is_resolved(value, sure):
        return f"under {value + sure:.2g} px"
    if sure <= CLEAR * value:
        return f"{value:.2f} px"
    return f"{value:.2f} ± {max(sure, 0.01):.2f} px"


def nine_places(canvas: Canvas) -> Complex:
    """``(9,)`` where the picture is looked at, scene units."""
    hu, hv = canvas.half
    u, v = np.meshgrid([-0.6 * hu, 0.0, 0.6 * hu], [-0.6 * hv, 0.0, 0.6 * hv])
    return np.asarray((u + 1j * v).ravel())


def places_over(canvas: Canvas) -> Complex:
    """``(25,)`` where the background is looked at, over all of the picture, scene units."""
    share = np.linspace(-0.8, 0.8, 5)
    u, v = np.meshgrid(share * canvas.half[0], share * canvas.half[1])
    return np.asarray((u + 1j * v).ravel())


def place_steps(steps: Motion, canvas: Canvas, corrections: Sequence[Motion] = ()) -> Complex:
    """``(n, 9)`` how far each of :func:`nine_places` moves from frame ``t - 1`` to ``t``.

    ``steps[t]`` moves source frame ``t - 1`` to ``t``. With ``corrections`` (output to source, the
    output's side first) it is the treated picture whose motion that is, in output units. The first
    frame has none.
    """
    places = nine_places(canvas)
    points = np.broadcast_to(places, (len(steps), len(places)))
    before = np.maximum(np.arange(len(steps)) - 1, 0)
    for correction in corrections:
        points = correction[before].apply(points)
    points = steps.apply(points)
    for correction in reversed(corrections):
        points = correction.undo(points)
    moved = points - places
    moved[:1] = 0
    return np.asarray(moved)


def step_similarities(moved: Complex, canvas: Canvas) -> Similarities:
    """The similarities nearest to what nine places did: see :func:`place_steps`."""
    places = nine_places(canvas)
    return nearest_similarity(places, places + moved)


def fast_part(paths: Complex, times: Real, above: float = SHAKE_ABOVE) -> Complex:
    """What of ``(n, m)`` paths moves faster than ``above`` Hz; zero phase, uniform resampling.

    ``times`` ``(n,)`` seconds, ascending; the result has the paths' unit. A Butterworth high pass
    run forth and back, that is, with the square of its gain (Butterworth, *On the theory of filter
    amplifiers*, Wireless Engineer 1930). A stretch too short to tell slow from fast counts as
    straight motion plus shake.

    >>> t = np.arange(300) / 30
    >>> path = (50 * t + 3 * np.sin(2 * np.pi * 5 * t))[:, None] + 0j  # a pan with a tremor
    >>> fast = fast_part(path, t, above=1.0)
    >>> float(np.sqrt(2 * np.mean(np.abs(fast[30:-30]) ** 2)).round(1))
    3.0
    """
    n = len(times)
    if n < 3:
        return np.zeros_like(paths)
    rate = (n - 1) / max(times[-1] - times[0], 1e-6)
    even = np.linspace(times[0], times[-1], n)
    straight = np.allclose(even, times, atol=0.25 / rate)
    if not straight:
        paths = np.stack([np.interp(even, times, p) for p in paths.T], axis=-1)
    if n < rate / above or rate <= 2.2 * above:
        t = np.linspace(-1, 1, n)
        slope = (t[:, None] * paths).sum(axis=0) / (t * t).sum()
        return np.asarray(paths - paths.mean(axis=0) - t[:, None] * slope)
    # Turned about its ends and freed of its slope, so that it neither begins nor ends abruptly.
    padding = int(min(n - 1, round(1.5 * rate / above)))
    before = 2 * paths[0] - paths[padding:0:-1]
    after = 2 * paths[-1] - paths[-2 : -padding - 2 : -1]
    longer = np.concatenate([before, paths, after])
    longer -= np.linspace(longer[0], longer[-1], len(longer))
    frequency = np.abs(np.fft.fftfreq(len(longer), 1.0 / rate))
    with np.errstate(divide="ignore"):
        gain = 1.0 / (1.0 + (above / frequency) ** (2 * ORDER))
    return np.asarray(np.fft.ifft(gain[:, None] * np.fft.fft(longer, axis=0), axis=0))[
        padding : padding + n
    ]


def shake(moved: Complex, times: Real, segments: Segments) -> float:
    """Shake, in the units of ``moved`` ``(n, 9)`` as from :func:`place_steps`: see
    :data:`SHAKE_MEASURE`. Stretches between cuts apart."""
    return rms(fast_paths(moved, times, segments))


def fast_paths(moved: Complex, times: Real, segments: Segments) -> Complex:
    """``(n, m)`` what is faster than 1 Hz of the paths whose steps are ``moved``."""
    fast = np.zeros(moved.shape, complex)
    for start, stop in segments:
        own = moved[start:stop].copy()
        own[:1] = 0
        fast[start:stop] = fast_part(np.cumsum(own, axis=0), times[start:stop])
    return fast


def without_similarity(moved: Complex, places: Complex) -> Complex:
    """Displacements ``(n, m)`` less the similarity that fits each row best (least squares)."""
    z = places - places.mean()
    rest = moved - moved.mean(axis=1, keepdims=True)
    turn = (rest * z.conj()).sum(axis=1) / (np.abs(z) ** 2).sum()
    return np.asarray(rest - turn[:, None] * z)


def stability_score(steps: Similarities, segments: Segments) -> float:
    """Share of the path's energy that lies in slow motion, 0..1, 1 is steadiest.

    Of the Fourier energy of the accumulated shift and roll (without the constant), the share in
    the second to sixth component; the smaller of the two; the longest stretch between cuts.
    """
    start, stop = max(segments, key=lambda s: s[1] - s[0])
    pose = cumulative_pose(steps[start:stop])
    if stop - start < 14:
        return 1.0
    shares = []
    for path in (pose.b, np.unwrap(np.angle(pose.a)) + 0j):
        energy = np.abs(np.fft.fft(path - path.mean())) ** 2
        energy = energy[1 : len(path) // 2] + energy[: -(len(path) // 2) : -1]
        whole = energy.sum()
        # What does not move (a twentieth of a pixel, or of a milliradian) cannot be unsteady.
        still = np.abs(path - path.mean()).max() < (0.05 if path is pose.b else 5e-5)
        shares.append(1.0 if still else float(energy[:5].sum() / whole))
    return min(shares)


def distortion_value(matrices: Real) -> float:
    """Least ratio of the two singular values of ``(n, 2, 2)`` linear parts; 1 is undistorted.

    A real 2 x 2 matrix takes ``z`` to ``a z + b conj(z)``; its singular values are
    ``|a| + |b|`` and ``||a| - |b||``.
    """
    m = matrices
    turned = np.hypot(m[:, 0, 0] + m[:, 1, 1], m[:, 1, 0] - m[:, 0, 1])
    mirrored = np.hypot(m[:, 0, 0] - m[:, 1, 1], m[:, 1, 0] + m[:, 0, 1])
    return float((np.abs(turned - mirrored) / (turned + mirrored)).min())
