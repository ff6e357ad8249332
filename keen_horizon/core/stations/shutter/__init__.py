"""Shutter: rows that were read one after the other, put back to the frame's own time."""

from __future__ import annotations

from ...geometry.stage import WarpStage
from ...quality.scores import in_pixels
from ..setting import Choice, setting
from ..station import Report, Scene, Solved, Station, StationSettings


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
    template = "stations/shutter.html"
    script = "stations/shutter.js"
    shrinks = True

    def in_force(self, settings: ShutterSettings) -> ShutterSettings:
        return settings if settings.on and settings.readout else ShutterSettings()

    def stages(self, settings: ShutterSettings, scene: Scene) -> tuple[WarpStage, ...]:
        return () if scene.motion.rows is None else (scene.motion.rows,)

    def report(self, settings: ShutterSettings, solved: Solved) -> Report:
        wobble = solved.motion.wobble
        return {"wobble_straight": None if wobble is None else wobble.rms_left_by_shutter}

    def summary(self, settings: ShutterSettings, report: Report | None) -> str:
        """``22.7 ms · strong``."""
        if not settings.on:
            return "off"
        if not settings.readout:
            return "global"
        return f"{settings.readout:g} ms{' · strong' if settings.strong else ''}"

    def details(self, settings: ShutterSettings, report: Report) -> dict[str, str]:
        """What putting the rows right did to the wobble; nothing where none were."""
        before, after = report["wobble_before"], report["wobble_straight"]
        if before is None or not settings.on or not settings.readout:
            return {"wobble": ""}
        sure = report["shake_accuracy"]
        said = f"Wobble {in_pixels(before, sure)} → {in_pixels(after, sure)} by this station."
        return {"wobble": said}


SHUTTER = ShutterStation()
