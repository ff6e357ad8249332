"""The View station: where the flat camera looks, frame by frame."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.keyframes import Key, keyed
from ...geometry.looks import WIDEST, flat_camera, look_matrix
from ...geometry.projection import Camera
from ...types import Indices, Real
from ..station import Report, Station, Tools
from .settings import ViewSettings

ROUND = ("yaw", "roll")  # angles that come round to where they began
WIDTHS = (3840, 2560, 1920, 1280, 960, 640)  # of usual outputs, 16 by 9
LEAST_DETAIL = 0.8  # source pixels per output pixel, below which a view is said to be soft


class ViewStation(Station[ViewSettings]):
    """A flat picture out of a sphere."""

    name = "view"
    title = "View"
    icon = '<circle cx="20" cy="20" r="14"/><path d="M11 14 h18 v12 h-18z"/>'
    Settings = ViewSettings
    serves = frozenset({"sphere"})
    tools = (Tools("sphere", "stations/view.html", "stations/view.js"),)

    def fault(self, settings: ViewSettings) -> str | None:
        most = WIDEST[settings.projection]
        if settings.angle > most:
            return (
                f"a {settings.projection} view sees {most:g}° at the most, not {settings.angle:g}°"
            )
        if settings.width % 2 or settings.height % 2:
            return "the width and the height of a view have to be even"
        return None

    def summary(self, settings: ViewSettings, report: Report | None) -> str:
        """``90° · 1920 × 1080``."""
        if not settings.on:
            return "the whole sphere"
        return f"{settings.angle:g}° · {settings.width} × {settings.height}"

    def warnings(self, settings: ViewSettings, report: Report) -> list[str]:
        said = []
        detail = report.get("pixels_per_output_pixel")
        if settings.on and detail is not None and detail < LEAST_DETAIL:
            said.append(
                f"The sphere has {detail:.2f} pixels for each of the view's in its middle: it is "
                "soft. A wider angle or a smaller output helps."
            )
        pace = report.get("view_pace")
        if settings.on and pace is not None and pace > settings.fastest:
            said.append(
                f"The view turns by up to {pace:.0f}° a second, at frame "
                f"{report['view_pace_frame']}. Keys further apart help."
            )
        return said


VIEW = ViewStation()


def view_values(
    settings: ViewSettings, keys: Mapping[str, Sequence[Key]], frames: Indices
) -> dict[str, Real]:
    """``(n,)`` of each keyed setting at ``frames``; between keys, angles go the short way round.

    >>> keys = {"yaw": [Key(0, 170.0, False), Key(10, -170.0, False)]}
    >>> view_values(ViewSettings(), keys, np.array([0, 5, 10]))["yaw"].tolist()
    [170.0, 180.0, 190.0]
    """
    found = {}
    for name in ("yaw", "pitch", "roll", "angle"):
        own = sorted(keys.get(name, ()), key=lambda key: key.frame)
        if name in ROUND and own:
            values = np.unwrap([key.value for key in own], period=360.0)
            own = [Key(k.frame, float(v), k.smooth) for k, v in zip(own, values, strict=True)]
        found[name] = keyed(own, frames, float(getattr(settings, name)))
    return found


def looks_of(values: Mapping[str, Real]) -> Real:
    """``(n, 3, 3)`` from rays of the flat camera to those of the steadied sphere."""
    turned = (np.radians(values[name]) for name in ("yaw", "pitch", "roll"))
    return np.stack([look_matrix(*angles) for angles in zip(*turned, strict=True)])


def detailed_size(settings: ViewSettings, sphere: Canvas) -> dict[str, int]:
    """The largest usual size of an output for which a ``sphere`` has enough pixels.

    >>> detailed_size(ViewSettings(), Canvas(5760, 2880))
    {'width': 1920, 'height': 1080}
    """
    across = 2 * np.tan(np.radians(settings.angle) / 2) * sphere.width / (2 * np.pi)
    width = next((w for w in WIDTHS if LEAST_DETAIL * w <= across), WIDTHS[-1])
    return {"width": width, "height": width * 9 // 16}


def camera_at(settings: ViewSettings, angle: float) -> Camera:
    """The flat camera, at an angle of view in degrees; the nearest that its projection can."""
    canvas = Canvas(settings.width, settings.height)
    return flat_camera(canvas, settings.projection, min(angle, WIDEST[settings.projection]))
