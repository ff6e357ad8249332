"""The Glass station: what it does to pixels, and what it says of itself."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

import numpy as np

from ...geometry.canvas import Canvas
from ...geometry.live_area import LiveArea
from ...picture.pixel_stage import AnyStage
from ...picture.radial import even_powers
from ..station import Figure, Report, Scene, Station, Tools
from .by_hand import parting_of, shape_of
from .dead_corners import live_area_of
from .fall_off import TERMS, FallOffGain, fall_off_of
from .halo import Halo
from .lateral import COLOURS, LateralColour, is_parted, lateral_of
from .settings import GlassSettings

CORNERS = ("top left", "top right", "bottom right", "bottom left")
CURVE = 33  # points of the curve that is drawn
ANY_SIZE = (1600, 900)  # of a picture, where only shares count
WINCE = 1.5  # stops beyond which a corner shows its noise


class GlassStation(Station[GlassSettings]):
    """What the glass did to light."""

    name = "glass"
    title = "Glass"
    icon = '<circle cx="20" cy="20" r="13"/><path class="thin" d="M7 20a18 18 0 0 0 26 0"/>'
    Settings = GlassSettings
    tools = (Tools("flat", "stations/glass.html", "stations/glass.js"),)

    def in_force(self, settings: GlassSettings) -> GlassSettings:
        return settings if settings.on else GlassSettings()

    def heeds_keys(self, settings: GlassSettings) -> bool:
        return settings.on

    def copied(self, settings: GlassSettings) -> GlassSettings:
        told = ("found_by", "colour_found_by")
        from_here = {name for name in told if getattr(settings, name) != "nothing"}
        return settings.model_copy(update=dict.fromkeys(from_here, "copy"))

    def fault(self, settings: GlassSettings) -> str | None:
        if not settings.live:
            return None
        try:
            area = live_area_of(settings, Canvas(*ANY_SIZE))
        except ValueError as reason:
            return f"what is left of the picture is no area: {reason}."
        if area is not None and not area.covers(np.zeros(1, complex))[0]:
            return "what is left of the picture has to have its middle in it."
        return None

    def live_area(self, settings: GlassSettings, canvas: Canvas) -> LiveArea | None:
        return live_area_of(settings, canvas) if settings.on else None

    def pixels(self, settings: GlassSettings, scene: Scene) -> Sequence[AnyStage]:
        parts = (
            self._halo(settings, scene), self._colours(settings, scene),
            self._light(settings, scene),
        )  # fmt: skip
        return tuple(stage for stage in parts if stage is not None)

    def _colours(self, settings: GlassSettings, scene: Scene) -> LateralColour | None:
        if not settings.on or not is_parted(settings):
            return None
        amount = scene.values("glass.colour_amount") / 100
        return LateralColour(lateral_of(settings, scene.canvas), np.asarray(amount))

    def _halo(self, settings: GlassSettings, scene: Scene) -> Halo | None:
        strength = np.asarray(scene.values("glass.halo") / 100)
        if not settings.on or not strength.any():
            return None
        canvas = scene.canvas
        return Halo(
            strength, settings.halo_width / 100 * canvas.height,
            (settings.halo_hue, settings.halo_other), canvas.height, canvas.width,
        )  # fmt: skip

    def _light(self, settings: GlassSettings, scene: Scene) -> FallOffGain | None:
        if not settings.on or not _loses(settings):
            return None
        amount = scene.values("glass.amount") / 100
        return FallOffGain(fall_off_of(settings, scene.canvas), np.asarray(amount), settings.limit)

    def pixel_report(self, settings: GlassSettings, scene: Scene) -> Report:
        light, colours = self._light(settings, scene), self._colours(settings, scene)
        return {
            "glass": None if light is None else _light_report(light, scene),
            "colours": None if colours is None else _colour_report(colours),
            "halo": self._halo(settings, scene) is not None,
            "dead": None if scene.live is None else _dead_report(scene.live),
        }

    def warnings(self, settings: GlassSettings, report: Report) -> list[str]:
        told, dead = report.get("glass"), report.get("dead")
        said = []
        if dead is not None and dead["zoom"] > report.get("zoom_ceiling", np.inf):
            said.append(
                f"Hiding the dead corners takes zoom × {dead['zoom']:.2f}, more than the ceiling "
                f"of × {report['zoom_ceiling']:.2f}: nothing is left for a calm picture. Raise the "
                "zoom ceiling in Frame, or let edges be borrowed or stay bare."
            )
        if told is not None and told["limited"] > 0:
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
        light, colours = ((report or {}).get(name) for name in ("glass", "colours"))
        said: list[str] = []
        if light is not None:
            said.append(f"+ {max(light['corner_stops'].values()):.1f} stops")
        if colours is not None:
            said.append(f"colours {_most_px(colours):.1f} px")
        if (report or {}).get("halo"):
            said.append("halo")
        if (report or {}).get("dead"):
            said.append("dead corners")
        return " · ".join(said) or "even"

    def figures(self, settings: GlassSettings, report: Report) -> list[Figure]:
        light, colours, dead = (report.get(name) for name in ("glass", "colours", "dead"))
        said = []
        if dead is not None:
            said.append(Figure("In dead corners", f"{100 * dead['share']:.1f} %"))
        if light is not None:
            most = max(light["corner_stops"].values())
            said.append(Figure("Corners raised", f"{most:.2f} stops", most > WINCE))
        if colours is not None:
            for colour in COLOURS:
                px = colours["corner_px"][colour]
                said.append(Figure(f"{colour.capitalize()} brought back", f"{abs(px):.2f} px"))
        return said


def _dead_report(live: LiveArea) -> Report:
    """What lies in dead corners, and the least zoom that hides them; the outline of what is left in
    shares of the picture, and its sides that are not the picture's: a place ``(x, y)``, in shares,
    is outside where ``a x + b y > c`` of any ``[a, b, c]``."""
    canvas = live.canvas
    return {
        "share": 1 - live.share,
        "zoom": live.zoom(canvas.corners),
        "outline": live.outline.round(4).tolist(),
        "sides": live.sides.round(6).tolist(),
    }


def _light_report(stage: FallOffGain, scene: Scene) -> Report:
    canvas = scene.canvas
    corners = stage.stops(canvas.to_pixels(canvas.corners), int(stage.amount.argmax()))
    return {
        "hand": asdict(shape_of(stage.fall_off.stops)),
        "curve": _curve(stage),
        "corner_stops": dict(zip(CORNERS, corners.round(3).tolist(), strict=True)),
        "limited": stage.limited_share(),
    }


def _colour_report(stage: LateralColour) -> Report:
    """How far outside of green red and blue are looked up in the corners, and how they get there:
    points of their curves against the radius, in percent of half the diagonal."""
    lateral, most = stage.lateral, float(stage.amount.max())
    radius = np.linspace(0, 1, CURVE)
    canvas = lateral.field.canvas
    px = canvas.radius * most
    curves = {
        colour: np.stack([100 * radius, px * (told[0] * radius + told[1] * radius**3)], -1)
        .round(3)
        .tolist()
        for colour, told in zip(COLOURS, (lateral.red, lateral.blue), strict=True)
    }
    corners = dict(zip(COLOURS, (round(most * far, 3) for far in lateral.corners()), strict=True))
    return {"corner_px": corners, "curves": curves, "hand": asdict(parting_of(lateral))}


def _most_px(colours: Report) -> float:
    return max(abs(px) for px in colours["corner_px"].values())


def _curve(stage: FallOffGain) -> list[list[float]]:
    """Points of the stops brought back against the radius, in percent of half the diagonal."""
    radius = np.linspace(0, 1, CURVE)
    lost = even_powers(radius**2, TERMS) @ np.array(stage.fall_off.stops)
    stops = np.minimum(np.maximum(lost, 0) * stage.amount.max(), stage.limit)
    return np.stack([100 * radius, stops], axis=-1).round(3).tolist()


def _loses(settings: GlassSettings) -> bool:
    return bool(settings.loss_r2 or settings.loss_r4 or settings.loss_r6)


GLASS = GlassStation()
