"""The View station: the flat camera inside a sphere, and what it costs."""

from __future__ import annotations

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.looks import WIDEST, flat_camera
from ...geometry.projection import Camera
from ..station import Report, Station, Tools
from .settings import ViewSettings

WIDTHS = (3840, 2560, 1920, 1280, 960, 640)  # of usual outputs, 16 by 9
HARDLY = 0.01  # of a pace, that the times of frames are rounded by
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
        if settings.on and pace is not None and pace > (1 + HARDLY) * settings.fastest:
            said.append(
                f"The view turns by up to {pace:.0f}° a second, at frame "
                f"{report['view_pace_frame']}: faster than {settings.fastest:g}°. "
                + ("What it follows moves so." if settings.follow else "Keys further apart help.")
            )
        return said


VIEW = ViewStation()


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
