"""Scores of steadiness and cost, each with its definition.

Stability score and distortion value after Liu, Yuan, Tan, Sun, *Bundled camera paths for video
stabilization*, SIGGRAPH 2013, section 6.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities, cumulative_pose

ORDER = 3  # of the filter that tells slow from fast
SHAKE_ABOVE = 1.0  # Hz; slower motion counts as the intended move
SHAKE_MEASURE = (
    "RMS distance that nine points of the picture stray from their path smoothed at 1 Hz, "
    "by the motion measured"
)


def in_pixels(value: float, sure: float) -> str:
    """``5.62 px``, or ``under 0.2 px`` where it is known to ``sure`` px only."""
    return f"{value:.2f} px" if value >= sure else f"under {sure:.2g} px"


def output_steps(steps: Similarities, steady: Similarities) -> Similarities:
    """Motion of the steadied picture from frame to frame.

    ``steps[t]`` moves source frame ``t - 1`` to ``t``; ``steady[t]`` maps output to source.
    """
    before = Similarities(
        np.concatenate([steady.a[:1], steady.a[:-1]]), np.concatenate([steady.b[:1], steady.b[:-1]])
    )
    moved = steady.inverse().after(steps).after(before)
    a, b = moved.a.copy(), moved.b.copy()
    a[0], b[0] = 1.0, 0.0
    return Similarities(a, b)


def point_paths(steps: Similarities, canvas: Canvas) -> NDArray[np.complex128]:
    """``(n, 9)`` how nine fixed places of the picture drift: running sums of their steps."""
    hu, hv = canvas.half
    u, v = np.meshgrid([-0.6 * hu, 0.0, 0.6 * hu], [-0.6 * hv, 0.0, 0.6 * hv])
    places = (u + 1j * v).ravel()
    return np.asarray(np.cumsum(steps.apply(places) - places, axis=0))


def fast_part(
    paths: NDArray[np.complex128], times: NDArray[np.float64], above: float = SHAKE_ABOVE
) -> NDArray[np.complex128]:
    """What of ``(n, m)`` paths moves faster than ``above`` Hz; zero phase, uniform resampling.

    A Butterworth high pass run forth and back, that is, with the square of its gain (Butterworth,
    *On the theory of filter amplifiers*, Wireless Engineer 1930). A stretch too short to tell slow
    from fast counts as straight motion plus shake.
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


def shake(
    steps: Similarities,
    times: NDArray[np.float64],
    segments: list[tuple[int, int]],
    canvas: Canvas,
) -> float:
    """Shake in source pixels (rows): see :data:`SHAKE_MEASURE`. Stretches between cuts apart."""
    total, count = 0.0, 0
    for start, stop in segments:
        paths = point_paths(steps[start:stop].rebased, canvas)
        fast = fast_part(paths, times[start:stop])
        total += float((np.abs(fast) ** 2).sum())
        count += fast.size
    return float(np.sqrt(total / max(count, 1)))


def stability_score(steps: Similarities, segments: list[tuple[int, int]]) -> float:
    """Share of the path's energy that lies in slow motion, 0..1, 1 is steadiest.

    Of the Fourier energy of the accumulated shift and roll (without the constant), the share in
    the second to sixth component; the smaller of the two; the longest stretch between cuts.
    """
    start, stop = max(segments, key=lambda s: s[1] - s[0])
    pose = cumulative_pose(steps[start:stop].rebased)
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


def distortion_value(matrices: NDArray[np.float64]) -> float:
    """Least ratio of the two singular values of ``(n, 2, 2)`` linear parts; 1 is undistorted.

    A real 2 x 2 matrix takes ``z`` to ``a z + b conj(z)``; its singular values are
    ``|a| + |b|`` and ``||a| - |b||``.
    """
    m = matrices
    turned = np.hypot(m[:, 0, 0] + m[:, 1, 1], m[:, 1, 0] - m[:, 0, 1])
    mirrored = np.hypot(m[:, 0, 0] - m[:, 1, 1], m[:, 1, 0] + m[:, 0, 1])
    return float((np.abs(turned - mirrored) / (turned + mirrored)).min())
