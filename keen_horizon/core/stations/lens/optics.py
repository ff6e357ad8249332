"""From lens settings to a lens, and from a lens that was found to settings."""

from __future__ import annotations

from typing import Any

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.distortion import DISTORTION_MODELS, Distortion
from ...geometry.lens import Lens, picture_width, scale_to_cover
from ...geometry.pinhole import Pinhole
from ...types import Real
from ..setting import facts_of
from ..station import Scene
from .settings import OPTICS, LensSettings

OPTICAL = tuple(
    name for name in LensSettings.model_fields if facts_of(LensSettings, name).group == OPTICS
)
EVIDENCE = ("found_by", "residual", "profile", "edition")


def bends(settings: LensSettings) -> bool:
    """Whether tracks have to be undistorted, or pixels are not as wide as the file says."""
    return settings.on and (settings.model != "rectilinear" or settings.squeeze != 1.0)


def lens_from_settings(
    settings: LensSettings, canvas: Canvas, over_time: dict[str, Real], n: int
) -> Lens | None:
    """The lens that settings ask for at ``n`` frames, or None where nothing bends.

    ``canvas`` has pixels as wide as they were recorded; ``over_time`` gives ``focal``,
    ``centre_x``, ``centre_y`` and ``amount`` at each frame.
    """
    if not settings.on or settings.model == "rectilinear":
        return None
    width = picture_width(canvas)
    focal, across, down, amount = (
        _one(over_time[name]) for name in ("focal", "centre_x", "centre_y", "amount")
    )
    if not isinstance(amount, np.ndarray) and amount == 0.0:
        return None
    lens = Lens(
        canvas,
        distortion_of(settings),
        focal * width,
        _complex(across / 100 * width, down / 100 * canvas.height),
        amount / 100.0,
    )
    return scale_to_cover(lens, n)


def lens_of_scene(settings: LensSettings, scene: Scene) -> Lens | None:
    """The lens of a clip."""
    names = ("focal", "centre_x", "centre_y", "amount")
    over_time = {name: scene.values(f"lens.{name}") for name in names}
    return lens_from_settings(settings, scene.canvas, over_time, len(scene))


def _one(values: Real) -> Any:
    """One number where all are the same."""
    return values if (values != values[0]).any() else float(values[0])


def _complex(across: Any, down: Any) -> Any:
    both = np.asarray(across) + 1j * np.asarray(down)
    return both if both.ndim else complex(both)


def straight_camera(lens: Lens) -> Pinhole:
    """The camera of the straight plane, the same for all frames."""
    focal = float(np.mean(np.asarray(lens.focal) * np.asarray(lens.scale)))
    return Pinhole(focal, complex(np.mean(lens.centre)))


def distortion_of(settings: LensSettings) -> Distortion:
    """The distortion that lens settings name."""
    used = DISTORTION_MODELS[settings.model].coefficients
    k = tuple(getattr(settings, f"k{i}") if f"k{i}" in used else 0.0 for i in (1, 2, 3, 4))
    p = tuple(getattr(settings, name) if name in used else 0.0 for name in ("p1", "p2"))
    return Distortion(settings.model, k, p)


def to_settings(
    distortion: Distortion, focal: float, centre: tuple[float, float] = (0.0, 0.0)
) -> dict[str, Any]:
    """A lens that was found, as settings, rounded: the other way from :func:`distortion_of`.
    ``focal`` over the picture's width, ``centre`` in percent of its size."""
    k = (*distortion.k, 0.0, 0.0, 0.0, 0.0)[:4]
    return {
        "model": distortion.model,
        "focal": round(focal, 6),
        **{f"k{i + 1}": round(value, 7) for i, value in enumerate(k)},
        "p1": round(distortion.p[0], 7),
        "p2": round(distortion.p[1], 7),
        "centre_x": round(centre[0], 4),
        "centre_y": round(centre[1], 4),
    }


def found_by(how: str, residual: float | None, **optics: Any) -> dict[str, Any]:
    """Settings of a lens that replaces whatever was there: its optics, how they were found, and
    nothing left of the lens before."""
    fresh = LensSettings().model_dump(mode="json", include={*OPTICAL, *EVIDENCE})
    return fresh | optics | {"found_by": how, "residual": residual}
