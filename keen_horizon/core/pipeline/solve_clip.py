"""From camera motion and a treatment to a warp chain and its price."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

from ..geometry.canvas import Canvas
from ..geometry.chain import WarpChain
from ..geometry.stage import WarpStage
from ..motion.camera_motion import CameraMotion
from ..path.zoom import outline, room_left
from ..quality import scores
from ..stations import STATIONS
from ..stations.frame import FRAME
from ..stations.frame.view import ceiling, framing, show
from ..stations.motion import MOTION
from ..stations.motion.station import STILL
from ..stations.motion.steadying import Steadied, Surroundings, steadying, untouched
from ..stations.station import Report, Scene, Solved
from ..stored import stored
from ..treatment import Treatment
from ..types import Real

UNSOLVED = (
    "The camera path could not be solved; the picture is left as it is. Another calm or model may "
    "do."
)


@stored
@dataclass(frozen=True)
class Solution:
    """A solved clip: the chain to draw through, the motion it stands on, and per frame what the
    strip shows.

    ``corrections`` are those stages of the chain that steady the clip; ``zooms`` ``(n,)`` least
    zoom of each frame, ``room`` ``(n,)`` px left between crop and source edge. ``report`` holds the
    numbers that ``docs/formats.md`` lists, frames counted as in the recording; ``notes`` are
    sentences about them.
    """

    chain: WarpChain
    motion: CameraMotion
    corrections: tuple[WarpStage, ...]
    zooms: Real
    room: Real
    report: Report = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    def scene(self, treatment: Treatment, lines: int | None = None) -> Scene:
        """What stations are asked about, once the chain is settled; delivered at so many
        ``lines``, if not at its own size."""
        chain = self.chain.resized(lines)
        return replace(_scene(self.motion, chain.source, treatment), chain=chain)

    def told(self, treatment: Treatment) -> dict[str, Any]:
        """The report with what is done to pixels, on which a solution does not depend; and with its
        sentences: notes, and the warnings of each station."""
        report, scene = dict(self.report), self.scene(treatment)
        for station, own in treatment.each("flat"):
            report |= station.pixel_report(own, scene)
        warnings = {
            station.name: station.warnings(own, report) for station, own in treatment.each("flat")
        }
        said = [*self.notes, *(words for told in warnings.values() for words in told)]
        return report | {"warnings": warnings, "notes": said}


def solve(motion: CameraMotion, canvas: Canvas, treatment: Treatment) -> Solution:
    """Correct a clip: the warp chain that a ``treatment`` makes of a ``motion`` of pictures of size
    ``canvas``, and what it costs. Pure and deterministic; 300 frames take a fraction of a second.

    ``canvas`` is that of the file; a lens may know its pixels to be wider. Raises BadSetting where
    settings contradict each other.

    >>> import numpy as np
    >>> from keen_horizon.core.motion.camera_motion import Evidence, Timeline
    >>> from keen_horizon.core.geometry.similarity import Similarities
    >>> swing = 8 * np.sin(np.arange(60) * 0.8) + 0j  # the picture swings by 8 px
    >>> steps = Similarities(np.ones(60, complex), np.diff(swing, prepend=swing[0]))
    >>> timeline = Timeline(np.arange(60) / 30, np.zeros(0, np.intp))
    >>> evidence = Evidence(np.full(60, 50), np.ones(60), np.zeros(60))
    >>> motion = CameraMotion("similarity", steps, timeline, evidence)
    >>> report = solve(motion, Canvas(1280, 720), Treatment()).report
    >>> bool(report["shake_before"] > 3), bool(report["shake_after"] < 0.5), report["bare_edges"]
    (True, True, 0.0)
    """
    treatment = treatment.in_force()
    scene = scene_of(motion, canvas, treatment)
    around = _surroundings(scene, treatment)
    steadied, notes = _steadied(scene, around, treatment)
    shown = show(treatment.of(FRAME), scene, replace(steadied.chain, live=scene.live))
    chain = replace(steadied.chain, view=shown.view, live=scene.live)
    solved = Solved(scene, chain, steadied.corrections, shown.needed)
    report: Report = {}
    for station, own in treatment.each("flat"):
        report |= station.report(own, solved)
    said = [*notes, *shown.notes, *_outside(treatment, motion)]
    for station, own in treatment.each("flat"):
        said += station.notes(own, solved, report)
    return Solution(
        chain, motion, steadied.corrections, shown.needed, _room(chain), report, tuple(said)
    )


def scene_of(motion: CameraMotion, canvas: Canvas, treatment: Treatment) -> Scene:
    """What the stations are asked about: a clip of pictures of size ``canvas``."""
    for station, own in treatment.each("flat"):
        canvas = station.recorded_canvas(own, canvas)
    return _scene(motion, canvas, treatment)


def _scene(motion: CameraMotion, canvas: Canvas, treatment: Treatment) -> Scene:
    frames = motion.timeline.frames
    areas = (station.live_area(own, canvas) for station, own in treatment.each("flat"))
    live = next((area for area in areas if area is not None), None)
    return Scene(canvas, motion, lambda name: treatment.values(name, frames), live)


def _surroundings(scene: Scene, treatment: Treatment) -> Surroundings:
    """What all other stations add to the chain. Light passes the stations in their order; the
    chain runs the other way."""
    before: tuple[WarpStage, ...] = ()
    after: tuple[WarpStage, ...] = ()
    order = [station.name for station in STATIONS]
    for station, own in treatment.each("flat"):
        stages = station.stages(own, scene)
        if order.index(station.name) < order.index(MOTION.name):
            after = (*stages, *after)
        else:
            before = (*stages, *before)
    frame = treatment.of(FRAME)
    # Where edges stay bare, or neighbours fill them, what is cut off asks nothing of the path.
    live = scene.live if frame.rule in ("fill", "trim") else None
    return Surroundings(before, after, framing(frame, scene.canvas), ceiling(scene), live)


def _steadied(
    scene: Scene, around: Surroundings, treatment: Treatment
) -> tuple[Steadied, list[str]]:
    """The chain with the steadied path, and what could not be done, in words."""
    settings = treatment.of(MOTION)
    if not settings.on or _hopeless(scene.motion, scene.canvas):
        return untouched(scene, around), []
    try:
        steadied = steadying(settings, scene, around)
    except ArithmeticError:
        return untouched(scene, around), [UNSOLVED]
    return steadied, _gave_way(scene, steadied)


def _gave_way(scene: Scene, steadied: Steadied) -> list[str]:
    """A sentence about where the correction would have done harm."""
    worse = scene.motion.timeline.first + steadied.worse
    if not len(worse):
        return []
    where = f"frames {worse[0]} to {worse[-1]}" if len(worse) > 1 else f"frame {worse[0]}"
    return [
        f"In {where} the picture would shake more than as it was recorded; the correction gives "
        "way there."
    ]


def _hopeless(motion: CameraMotion, canvas: Canvas) -> bool:
    """Whether there is nothing to remove, or nothing known of it."""
    timeline = motion.timeline
    moved = scores.place_steps(motion.steps, canvas)
    if scores.shake(moved, timeline.times, timeline.segments) < STILL:
        return True
    return bool(motion.evidence.weak[1:].all())


def _room(chain: WarpChain) -> Real:
    view, n = chain.view, len(chain)
    rim = outline(view.output, view.scale, chain)
    return room_left(chain, rim, view.zooms(n), view.offsets(n))


def _outside(treatment: Treatment, motion: CameraMotion) -> list[str]:
    """A sentence about a keyframe that the clip does not have."""
    frames = motion.timeline.frames
    for name, keys in treatment.keys.items():
        for key in keys:
            if not frames[0] <= key.frame <= frames[-1]:
                return [
                    f"The key of {name} at frame {key.frame} lies outside this clip (frames "
                    f"{frames[0]} to {frames[-1]}), which only leads up to its value."
                ]
    return []
