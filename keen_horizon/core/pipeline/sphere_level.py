"""Which way is down over a sphere: by uprights, by the horizon as it was drawn, or by both."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np

from ..geometry.canvas import Canvas
from ..motion.horizon_marks import drawn_vertical
from ..motion.sphere_turns import SphereMotion
from ..motion.uprights import DOWN, Edges, Vertical, vertical
from ..stations.motion import MotionSettings
from ..types import Real

PIECE = 8.0  # seconds of a clip that have a vertical by uprights of their own


@dataclass(frozen=True)
class Stretch:
    """Frames ``start`` to ``stop`` without a cut, of which it is asked which way is down."""

    motion: SphereMotion
    canvas: Canvas
    start: int
    stop: int
    settings: MotionSettings

    def downs(self, edges: Sequence[tuple[int, Edges]]) -> tuple[Real | None, Vertical]:
        """``(n, 3)`` in the axes of its first frame, None if that cannot be told; and what is told
        worst of it. Told in places, and evenly between them, so that what turns miss does not add
        up."""
        level = self.settings.level
        by_uprights = [] if level == "horizon" else self._by_uprights(edges)
        by_horizon = [] if level == "uprights" else self._by_horizon()
        told = [one for _, one in (*by_uprights, *by_horizon)]
        if not told:
            words = "No horizon is drawn yet. Draw a line along it, in one frame or in several."
            return None, Vertical(None, np.inf, 0, words)
        by_uprights = [(at, one) for at, one in by_uprights if one.down is not None]
        by_horizon = [(at, one) for at, one in by_horizon if one.down is not None]
        known = sorted(
            [*by_uprights, *(_weighed(at, one, by_uprights) for at, one in by_horizon)],
            key=lambda one: one[0],
        )
        if not known:
            return None, max(told, key=lambda one: one.doubt)
        at = np.array([k for k, _ in known])
        ways = np.array([one.down for _, one in known])
        frames = np.arange(self.stop - self.start, dtype=float)
        downs = np.stack([np.interp(frames, at, axis) for axis in ways.T], axis=-1)
        worst = max((one for _, one in known), key=lambda one: one.doubt)
        if by_horizon:
            worst = replace(worst, words=_drawn_words(by_horizon, by_uprights, worst))
        return downs / np.linalg.norm(downs, axis=1, keepdims=True), worst

    @property
    def poses(self) -> Real:
        return self.motion.poses[self.start : self.stop]

    def _by_uprights(self, edges: Sequence[tuple[int, Edges]]) -> list[tuple[float, Vertical]]:
        """The vertical of each piece of it, at its middle frame."""
        times = self.motion.timeline.times[self.start : self.stop]
        count = max(1, int((times[-1] - times[0]) // PIECE))
        bounds = np.linspace(0, len(times), count + 1).astype(int)
        found = []
        for low, high in pairwise(bounds.tolist()):
            own = self.poses[low:high, 1].mean(axis=0) * (-1 if self.settings.upside_down else 1)
            inside = [one.turned(self.poses[at].T) for at, one in edges if low <= at < high]
            found.append(((low + high - 1) / 2, vertical(inside, own / np.linalg.norm(own))))
        return found

    def _by_horizon(self) -> list[tuple[float, Vertical]]:
        """The vertical of each frame that a horizon was drawn in."""
        first = self.motion.timeline.first + self.start
        up = -1.0 if self.settings.upside_down else 1.0
        found = []
        for at in sorted({mark.frame - first for mark in self.settings.horizon}):
            if not 0 <= at < self.stop - self.start:
                continue
            marks = [mark for mark in self.settings.horizon if mark.frame - first == at]
            one = drawn_vertical(marks, self.canvas, up * DOWN)
            turned = None if one.down is None else self.poses[at].T @ one.down
            found.append((float(at), replace(one, down=turned)))
        return found


def _weighed(
    at: float, drawn: Vertical, by_uprights: Sequence[tuple[float, Vertical]]
) -> tuple[float, Vertical]:
    """A drawn vertical, and what uprights tell nearest to it, each as sure as it is."""
    if not by_uprights or drawn.down is None:
        return at, drawn
    other = min(by_uprights, key=lambda one: abs(one[0] - at))[1]
    shares = 1 / drawn.doubt**2, 1 / max(other.doubt, 1e-4) ** 2
    down = shares[0] * drawn.down + shares[1] * np.asarray(other.down)
    # Two that disagree by more than they say are both less sure than they say.
    apart = np.arccos(np.clip(np.dot(drawn.down, np.asarray(other.down)), -1, 1))
    expected = np.hypot(drawn.doubt, other.doubt)
    doubt = float(max(1.0, apart / max(expected, 1e-6)) / np.sqrt(sum(shares)))
    return at, replace(drawn, down=down / np.linalg.norm(down), doubt=doubt, edges=other.edges)


def _drawn_words(
    drawn: Sequence[tuple[float, Vertical]], uprights: Sequence[tuple[float, Vertical]],
    worst: Vertical,
) -> str:  # fmt: skip
    """What a drawn horizon tells, and by how much uprights tell otherwise."""
    frames = f"{len(drawn)} frame{'s' if len(drawn) > 1 else ''}"
    sure = 2 * np.degrees(worst.doubt)
    said = f"The horizon drawn in {frames} tells which way is down, to about {sure:.2f}°."
    if uprights:
        off = [
            np.degrees(np.arccos(np.clip(np.dot(one.down, near.down), -1, 1)))  # type: ignore[arg-type]
            for at, one in drawn
            for near in [min(uprights, key=lambda other: abs(other[0] - at))[1]]
        ]
        said += f" Uprights tell otherwise by {max(off):.1f}° at the most."
    return said
