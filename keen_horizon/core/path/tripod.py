"""What it would cost to hold a view as from a tripod, whatever the camera did."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.chain import WarpChain
from ..geometry.motion import cumulative_pose
from ..geometry.view import View
from ..motion.camera_motion import CameraMotion
from ..once import once
from .zoom import zoom_needed

CANDIDATES = 24  # frames tried as the one that gives the view
LOOKED_AT = 1500  # frames, at most, that each is tried against
LOST = 8.0  # zoom beyond which the view has as good as left the source


@dataclass(frozen=True)
class TripodCost:
    """``frame`` of the recording gives the view; all others show it whole at ``zoom``."""

    frame: int
    zoom: float

    @property
    def kept(self) -> float:
        """Percent of the picture."""
        return 100.0 / self.zoom**2

    @property
    def words(self) -> str:
        """Why a lock-off does not suit a camera that travels."""
        if self.zoom > LOST:
            cost = "locking it off would leave nothing of the picture"
        else:
            cost = f"locking it off would keep {self.kept:.0f} % of the picture "
            cost += f"(zoom × {self.zoom:.2f})"
        return f"The camera travels: {cost}. Follow suits this clip."

    @property
    def report(self) -> dict[str, Any]:
        """As the report has it."""
        lost = self.zoom > LOST
        return {
            "frame": self.frame,
            "zoom": None if lost else self.zoom,
            "picture_kept": 0.0 if lost else self.kept,
        }


def tripod_cost(motion: CameraMotion, canvas: Canvas, frame: int | None) -> TripodCost:
    """The least zoom of a perfect lock-off, from ``frame`` of the recording or from the frame
    for which it is least. The costliest stretch between cuts counts. Worked out once a motion."""
    return once(motion, ("tripod", canvas, frame), lambda: _tripod_cost(motion, canvas, frame))


def _tripod_cost(motion: CameraMotion, canvas: Canvas, frame: int | None) -> TripodCost:
    first = motion.timeline.first
    worst = TripodCost(first, 1.0)
    for start, stop in motion.segments:
        pose = cumulative_pose(motion.trusted[start:stop])
        n = stop - start
        looked = np.unique(np.linspace(0, n - 1, min(n, LOOKED_AT)).astype(int))
        if frame is not None and start <= frame - first < stop:
            tried = np.array([frame - first - start])
        else:
            tried = np.unique(np.linspace(0, n - 1, min(n, CANDIDATES)).astype(int))
        # Every candidate against every frame that is looked at, as one chain.
        count = len(tried) * len(looked)
        away = pose[np.tile(looked, len(tried))].inverse()
        view = pose[np.repeat(tried, len(looked))]
        chain = WarpChain(canvas, View(canvas), (away.after(view),), count)
        zooms = zoom_needed(chain, canvas.corners).reshape(len(tried), -1).max(axis=1)
        least = int(np.argmin(zooms))
        best = TripodCost(first + start + int(tried[least]), float(zooms[least]))
        if best.zoom >= worst.zoom:
            worst = best
    return worst
