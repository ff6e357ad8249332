"""Shutter: rows that were read one after the other, put back to the frame's own time."""

from __future__ import annotations

from ...geometry.chain import WarpChain
from ...geometry.stage import WarpStage
from ...geometry.view import View
from ...path.background_shake import background_shake
from ...quality.scores import doubt, in_pixels, rms
from ..setting import Choice, setting
from ..station import Report, Scene, Solved, Station, StationSettings, Tools


class ShutterSettings(StationSettings):
    """Rows that were read one after the other."""

    on: bool = setting(True, label="On", affects="motion", hint="Whether the readout is corrected.")
    readout: float = setting(
        0.0, 0, 60, label="Readout time", unit="ms", step=0.1, reach=(0, 40), affects="motion",
        hint="From the first row to the last, in ms; 0: a global shutter.",
    )  # fmt: skip
    strong: bool = setting(
        False, label="Correct", affects="motion",
        hint="Also vibration faster than the frame rate, in bands of rows.",
        choices={
            "false": Choice("Camera's path"),
            "true": Choice("Vibration too", "Vibration faster than the frames bends rows in bands: "
                           "stronger, and slower to solve."),
        },
    )  # fmt: skip


class ShutterStation(Station[ShutterSettings]):
    """How long the rows took to be read."""

    name = "shutter"
    title = "Shutter"
    icon = '<path d="M7 9h26M9 15h26M5 21h26M8 27h26M6 33h26"/>'
    Settings = ShutterSettings
    tools = (Tools("flat", "stations/shutter.html", "stations/shutter.js"),)

    def in_force(self, settings: ShutterSettings) -> ShutterSettings:
        return settings if settings.on and settings.readout else ShutterSettings()

    def stages(self, settings: ShutterSettings, scene: Scene) -> tuple[WarpStage, ...]:
        return () if scene.motion.rows is None else (scene.motion.rows,)

    def report(self, settings: ShutterSettings, solved: Solved) -> Report:
        motion = solved.motion
        told: Report = {"readout_sure": motion.readout_sure}
        if motion.flow is None or motion.rows is None:
            return told | {"wobble_straight": None}
        canvas = solved.chain.source
        straight = WarpChain(canvas, View(canvas), (motion.rows,), len(motion))
        wobble = background_shake(motion.flow, motion.timeline, straight).wobble
        return told | {"wobble_straight": rms(wobble)}

    def summary(self, settings: ShutterSettings, report: Report | None) -> str:
        """``22.7 ± 0.3 ms · strong``."""
        if not settings.on:
            return "off"
        if not settings.readout:
            return "global"
        sure = None if report is None else report.get("readout_sure")
        doubt = "" if sure is None else f" ± {sure:.1f}"
        return f"{settings.readout:g}{doubt} ms{' · strong' if settings.strong else ''}"

    def details(self, settings: ShutterSettings, report: Report) -> dict[str, str]:
        """What putting the rows right did to the wobble; nothing where none were."""
        told = before, _ = report["wobble_before"], report["wobble_straight"]
        if before is None or not settings.on or not settings.readout:
            return {"wobble": ""}
        known = (in_pixels(value, doubt(value, report["shake_accuracy"])) for value in told)
        said = f"Wobble {' → '.join(known)} by this station."
        return {"wobble": said}


SHUTTER = ShutterStation()
