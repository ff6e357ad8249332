"""What the lens station does, in numbers and words: angles of view, and what motion gains by it."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

import numpy as np

from ..geometry.chain import WarpChain
from ..lens.angles import Angles, angles_of, straight_angles
from ..lens.lens import Lens
from ..motion.camera_motion import CameraMotion

WIDE = 140.0  # degrees across a straightened picture beyond which its sides are stretched out


def lens_report(chain: WarpChain, motion: CameraMotion) -> dict[str, Any] | None:
    """The report's part about the lens: see ``docs/formats.md``. None without one."""
    lens = chain.lens
    if lens is None:
        return None
    one = _whole(lens)
    view = chain.view
    # The straight plane is drawn at `scale` times the focal length, and then zoomed.
    focal = float(np.mean(lens.focal * np.asarray(lens.scale))) * float(np.mean(view.zoom))
    width = view.output.width * view.output.pixel_aspect / view.scale
    shown = straight_angles(width, view.output.height / view.scale, focal)
    return {
        "bent": _told(angles_of(one)),
        "straight": _told(shown),
        "residual": motion.straight_residual,
        "bent_residual": motion.bent_residual,
    }


def _told(angles: Angles) -> dict[str, float | None]:
    """As JSON: null where the model does not reach the edge."""
    return {n: v if np.isfinite(v) else None for n, v in asdict(angles).items()}


def _whole(lens: Lens) -> Lens:
    """The lens of the first frame, all of its correction."""
    first = {
        name: np.asarray(getattr(lens, name)).reshape(-1)[0].item() for name in ("focal", "centre")
    }
    return replace(lens, **first, share=1.0, scale=1.0)


def lens_warnings(report: dict[str, Any] | None) -> list[str]:
    """Sentences where the correction asks for more than a picture can give."""
    if report is None:
        return []
    said = []
    bent = report["bent"]
    if bent["diagonal"] is None:
        said.append(
            "These coefficients fold the picture before its corners; what lies beyond stays bare."
        )
    elif bent["diagonal"] >= 174.0:
        said.append(
            f"{bent['diagonal']:.0f}° do not fit a straight picture, which ends below 180°; what "
            "lies further out is left out."
        )
    if report["straight"]["across"] > WIDE:
        said.append(
            f"Straightened to {report['straight']['across']:.0f}° across, the sides are stretched "
            "out; zoom in, or lower the amount."
        )
    return said
