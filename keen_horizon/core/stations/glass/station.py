"""The Glass station: what it does to pixels, and what it says of itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

import numpy as np

from ...picture.pixel_stage import PixelStage
from ...picture.radial import even_powers
from ..station import Figure, Report, Scene, Station
from .by_hand import shape_of
from .fall_off import TERMS, FallOffGain, fall_off_of
from .settings import GlassSettings

CORNERS = ("top left", "top right", "bottom right", "bottom left")
CURVE = 33  # points of the curve that is drawn
WINCE = 1.5  # stops beyond which a corner shows its noise


class GlassStation(Station[GlassSettings]):
    """What the glass did to light."""

    name = "glass"
    title = "Glass"
    icon = '<circle cx="20" cy="20" r="13"/><path class="thin" d="M7 20a18 18 0 0 0 26 0"/>'
    Settings = GlassSettings
    template = "stations/glass.html"
    script = "stations/glass.js"
    shrinks = True

    def in_force(self, settings: GlassSettings) -> GlassSettings:
        return settings if settings.on and _loses(settings) else GlassSettings()

    def heeds_keys(self, settings: GlassSettings) -> bool:
        return settings.on and _loses(settings)

    def copied(self, settings: GlassSettings) -> GlassSettings:
        if settings.found_by == "nothing":
            return settings
        return settings.model_copy(update={"found_by": "copy"})

    def pixels(self, settings: GlassSettings, scene: Scene) -> Sequence[PixelStage]:
        if not settings.on or not _loses(settings):
            return ()
        amount = scene.values("glass.amount") / 100
        fall_off = fall_off_of(settings, scene.canvas)
        return (FallOffGain(fall_off, np.asarray(amount), settings.limit),)

    def pixel_report(self, settings: GlassSettings, scene: Scene) -> Report:
        stages = self.pixels(settings, scene)
        if not stages:
            return {"glass": None}
        (stage,) = stages
        assert isinstance(stage, FallOffGain)
        canvas = scene.canvas
        corners = stage.stops(canvas.to_pixels(canvas.corners), int(stage.amount.argmax()))
        return {
            "glass": {
                "hand": asdict(shape_of(stage.fall_off.stops)),
                "curve": _curve(stage),
                "corner_stops": dict(zip(CORNERS, corners.round(3).tolist(), strict=True)),
                "limited": stage.limited_share(),
            }
        }

    def warnings(self, settings: GlassSettings, report: Report) -> list[str]:
        told = report.get("glass")
        if told is None:
            return []
        said = []
        if told["limited"] > 0:
            said.append(
                f"{100 * told['limited']:.1f} % of the picture would need more than "
                f"{settings.limit:g} stop{'' if settings.limit == 1 else 's'} and stays darker; "
                "a higher most gain reaches further, with more noise."
            )
        return said

    def summary(self, settings: GlassSettings, report: Report | None) -> str:
        """``+ 1.3 stops``."""
        if not settings.on:
            return "off"
        told = (report or {}).get("glass")
        if told is None:
            return "even"
        return f"+ {max(told['corner_stops'].values()):.1f} stops"

    def figures(self, settings: GlassSettings, report: Report) -> list[Figure]:
        told = report.get("glass")
        if told is None:
            return []
        most = max(told["corner_stops"].values())
        return [Figure("Corners raised", f"{most:.2f} stops", most > WINCE)]


def _curve(stage: FallOffGain) -> list[list[float]]:
    """Points of the stops brought back against the radius, in percent of half the diagonal."""
    radius = np.linspace(0, 1, CURVE)
    lost = even_powers(radius**2, TERMS) @ np.array(stage.fall_off.stops)
    stops = np.minimum(np.maximum(lost, 0) * stage.amount.max(), stage.limit)
    return np.stack([100 * radius, stops], axis=-1).round(3).tolist()


def _loses(settings: GlassSettings) -> bool:
    return bool(settings.loss_r2 or settings.loss_r4 or settings.loss_r6)


GLASS = GlassStation()
