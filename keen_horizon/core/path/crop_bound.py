"""Calm as a bound: how much of the picture may be spent on steadiness."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from ..types import Real

WIDEST_TUBE = 0.30  # share of the picture's half size that calm 100 may shift it by


def crop_bound(calm: float | Real, ceiling: float | Real) -> Real:
    """Size of the crop that must stay covered, 0..1, for a calm and a zoom ceiling.

    Calm opens a tube around the original path, within which the steadied path may run: at calm
    ``c`` the picture may be shifted by ``0.3 (c/100)^1.5`` of its half size. The power spends
    little at first, because the fast shake is small and disturbs most. A ceiling that allows
    less wins.

    >>> float(crop_bound(100, 2.0)), round(float(crop_bound(100, 1.1)), 4)
    (0.7, 0.9091)
    """
    wanted = 1.0 - WIDEST_TUBE * (np.asarray(calm) / 100.0) ** 1.5
    return np.asarray(np.maximum(wanted, 1.0 / np.asarray(ceiling)))


def calm_for(crop: float) -> float:
    """The calm that spends as much as a ``crop``: the other way round.

    >>> round(calm_for(float(crop_bound(40, 2.0))), 6)
    40.0
    """
    return float(100.0 * (max(1.0 - crop, 0.0) / WIDEST_TUBE) ** (1 / 1.5))


def crop_and_freedom(
    calms: Mapping[str, float], ceiling: float | Real, ease: float | Real = 0.0
) -> tuple[Real, dict[str, float]]:
    """The crop that must stay covered, and what share of it each component may use, 0..1.

    ``calms`` by component. The calmest component opens the tube; the others get as much of it as
    their own calm would. ``ease`` percent of the calm is given up, in all frames or ``(n,)``.
    """
    highest = float(np.max(ceiling))
    tubes = {name: float(crop_bound(calm, highest)) for name, calm in calms.items()}
    room = max(1.0 - min(tubes.values()), 1e-9)
    freedom = {name: (1.0 - own) / room for name, own in tubes.items()}
    most = max(calms.values())
    return crop_bound(most * (1.0 - np.asarray(ease) / 100.0), ceiling), freedom
