"""A lens found by the clip's own motion: see :mod:`....motion.angle_of_view`."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.distortion import Distortion
from ...motion.camera_motion import AngleOfView
from .optics import found_by, to_settings


def lens_by_motion(angle: AngleOfView, canvas: Canvas) -> dict[str, Any] | None:
    """The settings of the lens that an angle of view and its coefficients tell, of pictures of size
    ``canvas``; None where they tell of none that bends.

    >>> from keen_horizon.core.motion.camera_motion import AngleOfView
    >>> lens_by_motion(AngleOfView(60.0, 0.2), Canvas(1280, 720)) is None
    True
    >>> found = lens_by_motion(AngleOfView(60.0, 0.2, (-0.1,)), Canvas(1280, 720))
    >>> found["model"], found["k1"], round(found["focal"], 3)
    ('brown', -0.1, 0.895)
    """
    if not angle.told or not angle.k:
        return None
    side = np.tan(np.radians(angle.across) / 2)
    bent = side * (1.0 + sum(k * side ** (2 * i) for i, k in enumerate(angle.k, 1)))
    focal = canvas.half[0] / bent / (canvas.width * canvas.pixel_aspect)
    return found_by("motion", None, **to_settings(Distortion("brown", angle.k), float(focal)))


def words_of(angle: AngleOfView) -> str:
    """What the clip's motion tells of its lens, in a sentence or two."""
    if angle.told and not angle.k:
        return f"{angle.words} As far as that shows, its lens bends nothing."
    return angle.words
