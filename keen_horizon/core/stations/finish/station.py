"""The Finish station: what it does to the delivered picture, and what it says of itself."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from ...picture.pixel_stage import AnyStage
from ...types import Real
from ..station import Figure, Report, Scene, Station, Tools
from .grain import Grain
from .settings import FinishSettings
from .sharpen import Sharpen, gain_for, sharpness_left

WINCE = 1.5  # times what was lost, beyond which sharpening shows
ALONE = 0.4  # of gain that shows where nothing was lost
HARDLY = 1e-3  # of gain that is none
SAME = 0.01  # of a share that is no difference


class FinishStation(Station[FinishSettings]):
    """What is done last."""

    name = "finish"
    title = "Finish"
    icon = '<path d="M8 30 20 9l12 21z"/><path class="thin" d="M20 9v21"/>'
    Settings = FinishSettings
    serves = frozenset({"flat", "sphere"})
    tools = (
        Tools("flat", "stations/finish.html"),
        Tools("sphere", "stations/sphere_finish.html"),
    )

    def in_force(self, settings: FinishSettings) -> FinishSettings:
        return settings if settings.on else FinishSettings()

    def heeds_keys(self, settings: FinishSettings) -> bool:
        return settings.on

    def pixels(self, settings: FinishSettings, scene: Scene) -> Sequence[AnyStage]:
        sharpen = self._sharpen(settings, scene)
        grain = np.asarray(scene.values("finish.grain")) / 100
        stages: list[AnyStage] = [] if sharpen is None else [sharpen]
        if settings.on and grain.any():
            stages.append(Grain(grain))
        return stages

    def _sharpen(self, settings: FinishSettings, scene: Scene) -> Sharpen | None:
        if scene.chain is None:
            return None
        return sharpening(settings, scene.values, scene.chain.magnification)

    def pixel_report(self, settings: FinishSettings, scene: Scene) -> Report:
        timeline = scene.motion.timeline
        evens = settings.on and settings.even and len(timeline.blurred)
        stage = self._sharpen(settings, scene)
        return {
            "evened_share": float(timeline.blurred.mean()) if evens else None,
            "sharpening": sharpening_report(stage, timeline.first),
        }

    def warnings(self, settings: FinishSettings, report: Report) -> list[str]:
        told = report.get("sharpening")
        if told is None or not _winces(told):
            return []
        return [
            "Detail is raised by more than half as much again as scaling took; less *beyond* looks "
            "less harsh."
        ]

    def summary(self, settings: FinishSettings, report: Report | None) -> str:
        """``puts back × 1.06``."""
        if not settings.on:
            return "off"
        told = (report or {}).get("sharpening")
        if told is None:
            return "nothing was lost"
        if told["gain_lost"] < HARDLY:
            return f"detail + {100 * told['gain']:.0f} %"
        share = told["gain"] / told["gain_lost"]
        enlarged = f"× {told['magnification']:.2f}"
        if abs(share - 1) < SAME:
            return f"puts back {enlarged}"
        return f"{enlarged}: {100 * share:.0f} % put back"

    def figures(self, settings: FinishSettings, report: Report) -> list[Figure]:
        told, evened = report.get("sharpening"), report.get("evened_share")
        said = []
        if evened is not None:
            said.append(Figure("Frames that take detail", f"{100 * evened:.1f} %"))
        if told is None:
            return said
        return [
            *said,
            Figure("Sharpness left by scaling", f"{100 * told['sharpness_left']:.0f} %"),
            Figure(
                "Detail raised", f"{100 * told['gain']:.0f} %", _winces(told), frame=told["frame"]
            ),
        ]

    def details(self, settings: FinishSettings, report: Report) -> dict[str, str]:
        """What scaling took, and how far beyond that the sharpening goes."""
        told = _sentence(settings, report.get("sharpening"))
        return {"sharpening": told, "even": _even_sentence(report.get("evened_share"))}


def sharpening(
    settings: FinishSettings, values: Callable[[str], Real], magnification: Real
) -> Sharpen | None:
    """What sharpens pictures enlarged by ``magnification`` ``(n,)``, ``values`` being those
    of keyed settings in each of them; None for nothing."""
    if not settings.on:
        return None
    gain = gain_for(magnification) * values("finish.put_back") / 100
    gain = gain + values("finish.beyond") / 100
    if not gain.any():
        return None
    return Sharpen(gain, magnification, settings.overshoot / 100, settings.floor / 100)


def sharpening_report(stage: Sharpen | None, first: int) -> Report | None:
    """What a stage puts back, and in which frame it goes farthest beyond that."""
    if stage is None:
        return None
    lost = gain_for(stage.magnification)
    worst = int((stage.gain - WINCE * lost).argmax())
    return {
        "magnification": float(stage.magnification.max()),
        "sharpness_left": float(sharpness_left(stage.magnification).min()),
        "gain_lost": float(lost[worst]),
        "gain": float(stage.gain[worst]),
        "frame": first + worst,
    }


def _even_sentence(share: float | None) -> str:
    if share is None:
        return ""
    if not share:
        return "No frame of this clip is blurred by motion more than those about it."
    return (
        f"{100 * share:.1f} % of the frames are blurred by motion, as notches on the strip show, "
        "and take detail; exact view and exports show it."
    )


def _sentence(settings: FinishSettings, told: Report | None) -> str:
    if not settings.on:
        return "Off: nothing is done to the delivered picture."
    if told is None:
        return "Nothing is enlarged, so that nothing was lost and nothing is put back."
    gain, lost = told["gain"], told["gain_lost"]
    if lost < HARDLY:
        return f"Nothing was lost by scaling; detail is raised by {100 * gain:.0f} %."
    said = (
        f"Enlarged by up to × {told['magnification']:.3f}, an edge keeps "
        f"{100 * told['sharpness_left']:.0f} % of its sharpness a pixel. "
    )
    if abs(gain / lost - 1) < SAME:
        return said + f"Puts back what × {told['magnification']:.2f} took."
    if gain < lost:
        return said + f"{100 * gain / lost:.0f} % of what was lost is put back."
    return said + f"All of it is put back, and {100 * (gain / lost - 1):.0f} % on top."


def _winces(told: Report) -> bool:
    return bool(told["gain"] > max(WINCE * told["gain_lost"], ALONE))


FINISH = FinishStation()
