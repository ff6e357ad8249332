"""The part of the view that is reshaped by hand, as settings ask for it."""

from __future__ import annotations

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.reshape import (
    Reshape,
    Swell,
    is_convex,
    mildest_pinch,
    square_up_homographies,
)
from ...types import Complex, Real
from ..station import Scene
from .settings import CORNERS, SIDES, FrameSettings


def reshape_of_scene(settings: FrameSettings, scene: Scene) -> tuple[Reshape | None, list[str]]:
    """What is reshaped, None where nothing is, and what had to give way, in words."""
    if not settings.on:
        return None, []
    notes: list[str] = []
    homography = _homography(settings, scene, notes)
    pulls = np.stack([scene.values(f"frame.pull_{side}") for side in SIDES], axis=-1) / 100
    swell = _swell(settings, scene, notes)
    if homography is None and swell is None and not pulls.any():
        return None, notes
    return Reshape(scene.canvas, homography, pulls if pulls.any() else None, swell), notes


def _homography(settings: FrameSettings, scene: Scene, notes: list[str]) -> Real | None:
    """Square up, then the turn."""
    homography = square_up_homographies(_quads(scene, notes)) if settings.square_up else None
    turn = np.radians(scene.values("frame.turn"))
    if turn.any():
        c, s, o = np.cos(turn), np.sin(turn), np.zeros_like(turn)
        back = np.stack([c, s, o, -s, c, o, o, o, o + 1], axis=-1).reshape(-1, 3, 3)
        homography = back if homography is None else homography @ back
    return homography


def _quads(scene: Scene, notes: list[str]) -> Complex:
    """``(n, 4)`` the corners of square up, none of them crossing."""
    corners = [
        _place(scene.values(f"frame.{c}_x"), scene.values(f"frame.{c}_y"), scene.canvas)
        for c in CORNERS
    ]
    quads = np.stack(corners, axis=-1)
    crossed = np.array([not is_convex(quad) for quad in quads])
    if not crossed.any():
        return quads
    # Between keys corners may cross for a while: the last that did not hold on.
    good = np.maximum.accumulate(np.where(crossed, -1, np.arange(len(quads))))
    first = int(np.argmin(crossed))
    frame = int(scene.motion.timeline.frames[np.argmax(crossed)])
    notes.append(
        f"The corners of square up cross at frame {frame}; the corners before are kept there."
    )
    return np.asarray(quads[np.where(good < 0, first, good)])


def _swell(settings: FrameSettings, scene: Scene, notes: list[str]) -> Swell | None:
    strength = scene.values("frame.swell")
    if (strength == 1.0).all():
        return None
    rim = settings.swell_rim / 100
    least = mildest_pinch(rim)
    if strength.min() < least:
        notes.append(
            f"A swell of {strength.min():g} would fold the picture; {least:.2f} is the least "
            "with this rim. A softer rim lets it go further."
        )
    radius = scene.values("frame.swell_radius") / 100 * scene.canvas.height
    return Swell(
        _place(scene.values("frame.swell_x"), scene.values("frame.swell_y"), scene.canvas),
        np.maximum(radius, 1.0),
        np.maximum(strength, least),
        rim,
        settings.swell_twin,
    )


def _place(across: Real, down: Real, canvas: Canvas) -> Complex:
    """Percent of the picture's width and height to scene points."""
    hu, hv = canvas.width * canvas.pixel_aspect / 2, canvas.height / 2
    return np.asarray(hu * (across / 50 - 1) + 1j * hv * (down / 50 - 1))
