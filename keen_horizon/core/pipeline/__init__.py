"""Measure, solve, render: the whole job as plain functions with a progress callback.

Read in the order of the work: ``measure_tracks`` follows features through the pixels,
``estimate_motion`` makes the camera's motion out of them, ``solve_clip`` steadies its path,
``render_clip`` draws what comes of it; ``reports`` tells of it, ``cost_curve`` of its price.
"""

from .cost_curve import cost_curve
from .estimate_motion import Estimates, motion_for
from .measure_tracks import Progress, check_range, follow, measure, silent
from .render_clip import Rendered, render
from .reports import correction_report, measure_report
from .solve_clip import Solution, first_treatment, solve

__all__ = [
    "Estimates",
    "Progress",
    "Rendered",
    "Solution",
    "check_range",
    "correction_report",
    "cost_curve",
    "first_treatment",
    "follow",
    "measure",
    "measure_report",
    "motion_for",
    "render",
    "silent",
    "solve",
]
