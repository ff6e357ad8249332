"""The part of the view that is reshaped by hand, as a treatment asks for it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas, Complex
from ..geometry.reshape import Shape, Swell, is_convex, mildest_pinch, square_up_homographies
from ..treatment import CORNERS, SIDES, Treatment

Real = NDArray[np.float64]


def reshape_from_settings(
    treatment: Treatment, canvas: Canvas, frames: NDArray[np.intp]
) -> tuple[Shape | None, list[str]]:
    """The shape at ``frames`` of the recording, None where nothing is reshaped, and what had to
    give way, in words."""
    if not treatment.frame.on:
        return None, []

    def values(name: str) -> Real:
        return treatment.values(f"frame.{name}", frames)

    notes: list[str] = []
    turn = np.radians(values("turn"))
    pulls = np.stack([values(f"pull_{side}") for side in SIDES], axis=-1) / 100
    homography, swell = None, None
    if treatment.frame.square_up:
        quads = np.stack(
            [_place(values(f"{c}_x"), values(f"{c}_y"), canvas) for c in CORNERS], axis=-1
        )
        crossed = np.array([not is_convex(quad) for quad in quads])
        if crossed.any():
            # Between keys corners may cross for a while: the last that did not hold on.
            good = np.maximum.accumulate(np.where(crossed, -1, np.arange(len(quads))))
            first = int(np.argmin(crossed))
            quads = quads[np.where(good < 0, first, good)]
            notes.append(
                f"The corners of square up cross at frame {int(frames[np.argmax(crossed)])}; "
                "the corners before are kept there."
            )
        homography = square_up_homographies(quads)
    if turn.any():
        c, s, o = np.cos(turn), np.sin(turn), np.zeros_like(turn)
        back = np.stack([c, s, o, -s, c, o, o, o, o + 1], axis=-1).reshape(-1, 3, 3)
        homography = back if homography is None else homography @ back
    strength = values("swell")
    if (strength != 1.0).any():
        rim = treatment.frame.swell_rim / 100
        least = mildest_pinch(rim)
        if strength.min() < least:
            notes.append(
                f"A swell of {strength.min():g} would fold the picture; {least:.2f} is the least "
                "with this rim. A softer rim lets it go further."
            )
        swell = Swell(
            _place(values("swell_x"), values("swell_y"), canvas),
            np.maximum(values("swell_radius") / 100 * canvas.height, 1.0),
            np.maximum(strength, least), rim, treatment.frame.swell_twin,
        )  # fmt: skip
    if homography is None and swell is None and not pulls.any():
        return None, notes
    return Shape(canvas, homography, pulls if pulls.any() else None, swell), notes


def _place(across: Real, down: Real, canvas: Canvas) -> Complex:
    """Percent of the picture's width and height to scene points."""
    hu, hv = canvas.width * canvas.pixel_aspect / 2, canvas.height / 2
    return np.asarray(hu * (across / 50 - 1) + 1j * hv * (down / 50 - 1))
