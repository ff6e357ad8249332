"""Keyframed values: a number that changes over the clip, set at a few frames."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..types import Real

# Shares of the way between two keys at shares of its time; how far it is, and how many frames.
Ease = Callable[[Real, Real, Real], Real]


@dataclass(frozen=True)
class Key:
    """``value`` at ``frame``; until the next key ``smooth`` (without a kink) or straight."""

    frame: int
    value: float
    smooth: bool = True


def cubic(time: Real, far: Real | float = 0.0, count: Real | float = 1) -> Real:
    """Level at both keys, so that nothing overshoots; however ``far``, in ``count`` frames."""
    return np.asarray(time * time * (3 - 2 * time))


def keyed(
    keys: Sequence[Key], frames: NDArray[np.intp], otherwise: float, ease: Ease = cubic
) -> NDArray[np.float64]:
    """``(n,)`` the value at each of ``frames``: that of the nearest key before the first and after
    the last, ``otherwise`` without any key.

    Between keys by ``ease``, or in a straight line.

    >>> keyed([Key(0, 1.0), Key(10, 2.0)], np.array([-5, 0, 5, 10, 99]), 0.0).tolist()
    [1.0, 1.0, 1.5, 2.0, 2.0]
    """
    if not keys:
        return np.full(len(frames), float(otherwise))
    keys = sorted(keys, key=lambda key: key.frame)
    at = np.array([key.frame for key in keys], float)
    values = np.array([key.value for key in keys], float)
    if len(keys) == 1:
        return np.full(len(frames), values[0])
    smooth = np.array([key.smooth for key in keys])
    left = np.clip(np.searchsorted(at, frames, side="right") - 1, 0, len(keys) - 2)
    count, far = np.maximum(np.diff(at), 1e-9)[left], np.diff(values)[left]
    time = np.clip((frames - at[left]) / count, 0.0, 1.0)
    share = np.where(smooth[left], ease(time, far, count), time)
    return np.asarray(values[left] + share * far)
