"""Keyframed values: a number that changes over the clip, set at a few frames."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Key:
    """``value`` at ``frame``; until the next key ``smooth`` (without a kink) or straight."""

    frame: int
    value: float
    smooth: bool = True


def keyed(keys: Sequence[Key], frames: NDArray[np.intp], otherwise: float) -> NDArray[np.float64]:
    """``(n,)`` the value at each of ``frames``: that of the nearest key before the first and after
    the last, ``otherwise`` without any key.

    Between keys a cubic that is level at both, so nothing overshoots; or a straight line.

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
    share = np.clip((frames - at[left]) / np.maximum(at[left + 1] - at[left], 1e-9), 0.0, 1.0)
    share = np.where(smooth[left], share * share * (3 - 2 * share), share)
    return np.asarray(values[left] + share * (values[left + 1] - values[left]))
