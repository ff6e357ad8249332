"""The lens that a treatment asks for."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..treatment import LensSettings, Treatment
from .distortion import USED, Distortion
from .lens import Lens, picture_width, scale_to_cover

Real = NDArray[np.float64]


def recorded_canvas(treatment: Treatment, canvas: Canvas) -> Canvas:
    """The picture's canvas with the squeeze of an anamorphic lens taken into its pixels."""
    lens = treatment.lens
    if not lens.on or lens.squeeze == 1.0:
        return canvas
    return Canvas(canvas.width, canvas.height, canvas.pixel_aspect * lens.squeeze)


def lens_from_settings(
    treatment: Treatment, canvas: Canvas, frames: NDArray[np.intp]
) -> Lens | None:
    """The lens that a treatment sees at ``frames`` of the recording, or None where nothing bends.

    ``canvas`` is that of :func:`recorded_canvas`.
    """
    settings = treatment.lens
    if not settings.on or settings.model == "rectilinear":
        return None
    lens = plain_lens(treatment, canvas)
    width = picture_width(canvas)

    def over_time(name: str) -> float | Real:
        values = treatment.values(f"lens.{name}", frames)
        return values if (values != values[0]).any() else float(values[0])

    across, down = over_time("centre_x"), over_time("centre_y")
    share = over_time("amount")
    share = share / 100.0
    if not isinstance(share, np.ndarray) and share == 0.0:
        return None
    lens = replace(
        lens,
        focal=over_time("focal") * width,
        centre=_complex(across / 100 * width, down / 100 * canvas.height),
        share=share,
    )
    return scale_to_cover(lens, len(frames))


def _complex(across: float | Real, down: float | Real) -> complex | NDArray[np.complex128]:
    both = np.asarray(across) + 1j * np.asarray(down)
    return both if both.ndim else complex(both)


def plain_lens(treatment: Treatment, canvas: Canvas) -> Lens:
    """The lens of a treatment without keys, the whole of it, at scale 1."""
    settings = treatment.lens
    width = picture_width(canvas)
    centre = complex(settings.centre_x / 100 * width, settings.centre_y / 100 * canvas.height)
    return Lens(canvas, distortion_of(settings), settings.focal * width, centre)


def to_settings(
    distortion: Distortion, focal: float, centre: tuple[float, float] = (0.0, 0.0)
) -> dict[str, Any]:
    """A lens that was found, as settings, rounded: the other way from :func:`distortion_of`.
    ``focal`` over the picture's width, ``centre`` in percent of its size."""
    return {
        "model": distortion.model,
        "focal": round(focal, 6),
        **{f"k{i + 1}": round(k, 7) for i, k in enumerate(distortion.k)},
        "p1": round(distortion.p[0], 7),
        "p2": round(distortion.p[1], 7),
        "centre_x": round(centre[0], 4),
        "centre_y": round(centre[1], 4),
    }


def distortion_of(settings: LensSettings) -> Distortion:
    """The distortion that lens settings name."""
    used = USED[settings.model]
    k = [getattr(settings, f"k{i}") if f"k{i}" in used else 0.0 for i in (1, 2, 3, 4)]
    p = [getattr(settings, name) if name in used else 0.0 for name in ("p1", "p2")]
    return Distortion(settings.model, (k[0], k[1], k[2], k[3]), (p[0], p[1]))
