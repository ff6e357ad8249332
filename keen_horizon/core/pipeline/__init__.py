"""Measure, solve, render: the whole job as plain functions with a progress callback.

Read in the order of the work: ``measure_tracks`` follows features through the pixels,
``estimate_motion`` makes the camera's motion out of them, ``decide_model`` chooses by which model,
``solve_clip`` steadies its path, ``render_clip`` draws what comes of it (``exact_view`` a single
frame), ``measure_again`` looks at that; ``find_glass`` tells what the lens does to light and
colours; ``reports`` tells of it all, ``cost_curve`` of its price, ``first_treatment`` of where to
begin.
"""

from ..progress import Progress, silent
from .compare_edges import edges_report
from .cost_curve import cost_curve
from .decide_model import motion_for
from .estimate_motion import Estimates
from .exact_loop import exact_loop
from .exact_view import ExactView, exact_view
from .find_glass import (
    GlassFit,
    fall_off_of_frame,
    fall_off_of_photograph,
    find_glass,
    find_lateral,
)
from .first_treatment import first_treatment
from .measure_again import MeasuredAgain, measured_again
from .measure_tracks import check_range, follow, measure
from .render_clip import render
from .reports import correction_report, glass_report, measure_report
from .solve_clip import Solution, solve

__all__ = [
    "Estimates",
    "ExactView",
    "GlassFit",
    "MeasuredAgain",
    "Progress",
    "Solution",
    "check_range",
    "correction_report",
    "cost_curve",
    "edges_report",
    "exact_loop",
    "exact_view",
    "fall_off_of_frame",
    "fall_off_of_photograph",
    "find_glass",
    "find_lateral",
    "first_treatment",
    "follow",
    "glass_report",
    "measure",
    "measure_report",
    "measured_again",
    "motion_for",
    "render",
    "silent",
    "solve",
]
