"""Haze, a station that there is not: one setting, a warp, a pixel gain, a figure, a warning.

As a plugin of pytest it takes its place in the light path before anything else is imported.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import pytest


def declare():
    """The station, and its place at the end of the light path."""
    from keen_horizon.core import stations
    from keen_horizon.core.geometry.similarity import Similarities
    from keen_horizon.core.stations.setting import setting
    from keen_horizon.core.stations.station import Figure, Station, StationSettings

    class HazeSettings(StationSettings):
        depth: float = setting(
            0.0, 0, 80, label="Depth", unit="%", affects="path", keyed=True,
            hint="How much light is lost; the picture sinks by as many pixels.",
        )  # fmt: skip

    class HazeStation(Station[HazeSettings]):
        name = "haze"
        title = "Haze"
        icon = '<path d="M4 20h32"/>'
        Settings = HazeSettings

        def stages(self, settings, scene):
            moved = 1j * scene.values("haze.depth")
            return (Similarities(np.ones(len(scene), complex), moved),) if settings.on else ()

        def pixels(self, settings, scene):
            return (Gain(1 - scene.values("haze.depth") / 100),) if settings.on else ()

        def report(self, settings, solved):
            return {"haze_most": float(solved.scene.values("haze.depth").max())}

        def figures(self, settings, report):
            deep = report["haze_most"] > 40
            return [Figure("Haze", f"{report['haze_most']:.0f} %", deep, on_price_line=True)]

        def warnings(self, settings, report):
            return ["It is dark; less depth helps."] if report["haze_most"] > 40 else []

        def summary(self, settings, report):
            return f"{settings.depth:g} %" if settings.on else "off"

    stations.STATIONS = (*stations.STATIONS, HazeStation())


@dataclass
class Gain:
    """Light times a factor ``(n,)`` of each frame."""

    factor: np.ndarray
    end: ClassVar[Literal["output"]] = "output"
    coded: ClassVar[bool] = False
    name: ClassVar[str] = "haze"
    shader: ClassVar[str] = (
        "uniform float haze_gain; vec3 haze(vec3 light, vec2 at) { return haze_gain * light; }"
    )

    def apply(self, picture, places, frame):
        return self.factor[frame] * picture

    def uniforms(self):
        return {"haze_gain": self.factor}


@pytest.hookimpl(tryfirst=True)
def pytest_load_initial_conftests():
    declare()
