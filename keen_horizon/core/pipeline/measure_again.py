"""The finished picture measured again, from its own pixels: what is left of the shake without any
word from the solve that made it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ..geometry.view import View
from ..media.probe import scan
from ..motion.background_flow import background_flow
from ..motion.pairwise import pairwise_motion
from ..path.background_shake import background_shake
from ..quality.scores import in_pixels
from .measure_tracks import Progress, measure, silent


@dataclass(frozen=True)
class MeasuredAgain:
    """Rms ``px`` of shake in a finished file, ``sure`` as :class:`.BackgroundShake`; source px
    times the zoom, as reports have it."""

    px: float
    sure: float

    @property
    def words(self) -> str:
        """``0.31 ± 0.06 px``."""
        return in_pixels(self.px, self.sure)


def measured_again(
    path: Path, view: View, room: Path, progress: Progress = silent
) -> MeasuredAgain:
    """Measure the file at ``path``, which shows ``view``; ``room`` is a folder for the tracks.

    Edges of the output that no source pixel covers stand still in it and would count as background,
    so this is for outputs without any to speak of.
    """
    found = scan(path)
    tracks = measure(path, found, 0, found.probe.frame_count - 1, room, progress)
    canvas = found.probe.canvas
    motion = pairwise_motion(tracks, canvas, "similarity")
    shake = background_shake(background_flow(tracks, canvas, motion), motion.timeline)
    # Output pixels to source pixels, before the zoom.
    scale = view.scale * canvas.height / view.output.height
    return MeasuredAgain(shake.px / scale, shake.sure / scale)
