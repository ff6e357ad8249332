"""From camera motion and a treatment to a warp chain and its price."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.chain import View, WarpChain
from ..geometry.similarity import Similarities
from ..lens.lens_from_settings import recorded_canvas
from ..motion.camera_motion import CameraMotion
from ..quality import scores
from ..treatment import MotionSettings, Treatment
from .coverage import clip_to_zoom, outline, room_left
from .framing import framing, show
from .mesh_smoothing import rotation_bend, smoothed_mesh
from .point_lock import held_chain, hold_report, hold_words
from .report import STILL, price
from .reshape_from_settings import reshape_from_settings
from .steady_path import FOLLOW, Freedom, lock_off, steady_path
from .tripod import Locking, locking_cost

WIDEST_TUBE = 0.30  # share of the picture's half size that calm 100 may shift it by
DOUBTFUL = 0.3  # confidence below which a frame is called weak


@dataclass(frozen=True)
class Solution:
    """A solved clip: the chain to draw through, the motion it stands on, and per frame what the
    strip shows.

    ``zooms`` ``(n,)`` least zoom of each frame, ``room`` ``(n,)`` px left between crop and source
    edge. ``report`` holds the numbers that ``docs/formats.md`` lists, frames counted as in the
    recording.
    """

    chain: WarpChain
    motion: CameraMotion
    zooms: NDArray[np.float64]
    room: NDArray[np.float64]
    report: dict[str, Any]


def crop_bound(calm: float | NDArray[np.float64], ceiling: float | NDArray[np.float64]) -> Any:
    """Size of the crop that must stay covered, 0..1, for a calm and a zoom ceiling.

    Calm opens a tube around the original path, within which the steadied path may run: at calm
    ``c`` the picture may be shifted by ``0.3 (c/100)^1.5`` of its half size. The power spends
    little at first, because the fast shake is small and disturbs most. A ceiling that allows
    less wins.
    """
    wanted = 1.0 - WIDEST_TUBE * (np.asarray(calm) / 100.0) ** 1.5
    return np.maximum(wanted, 1.0 / ceiling)


def bounds(
    settings: MotionSettings, ceiling: float | NDArray[np.float64],
    ease: float | NDArray[np.float64] = 0.0,
) -> tuple[Any, Freedom]:  # fmt: skip
    """The crop that must stay covered, and how much of it each component may use.

    The calmest component opens the tube; the others get as much of it as their own calm would.
    ``ease`` percent of the calm is given up, in all frames or ``(n,)``.
    """
    highest = float(np.max(ceiling))
    tubes = {name: float(crop_bound(calm, highest)) for name, calm in settings.calms.items()}
    room = max(1.0 - min(tubes.values()), 1e-9)
    freedom = Freedom(**{name: (1.0 - own) / room for name, own in tubes.items()})
    most = max(settings.calms.values())
    return crop_bound(most * (1.0 - np.asarray(ease) / 100.0), ceiling), freedom


def solve(motion: CameraMotion, canvas: Canvas, treatment: Treatment) -> Solution:
    """Correct a clip. Pure and deterministic; 300 frames take a fraction of a second."""
    canvas = recorded_canvas(treatment, canvas)
    shape, notes = reshape_from_settings(treatment, canvas, motion.first + np.arange(len(motion)))
    before = scores.shake(motion.steps, motion.times, motion.segments, canvas)
    untouched = Similarities.identity(len(motion))
    chain = WarpChain(canvas, View(canvas, shape=shape), untouched, None, motion.rows, motion.lens)
    locking = None
    if treatment.motion.on and treatment.motion.aim == "lock_off":
        locking = locking_cost(motion, canvas, treatment.motion.lock_frame)
    if treatment.motion.on and not _hopeless(motion, before):
        try:
            chain = _corrected(motion, chain, treatment)
        except ArithmeticError:
            notes.append(
                "The camera path could not be solved; the picture is left as it is. Another calm "
                "or model may do."
            )
    shown = show(chain, treatment, motion)
    chain = replace(chain, view=shown.view)
    rim = outline(shown.view.output, shown.view.scale, bent=not chain.is_affine)
    zoom = shown.view.zooms(len(motion))
    room = room_left(chain, rim, zoom, shown.view.offsets(len(motion)))
    report = price(motion, chain, treatment, shown.needed, before)
    said = _notes(motion, treatment, report, locking)
    report["hold"] = None
    if treatment.motion.on and treatment.motion.aim == "hold":
        report["hold"] = hold_report(chain, motion, treatment.motion)
        if not any(track.note for track in motion.held):
            said += hold_words(canvas, treatment.motion, report["hold"])
    report["notes"] = [*notes, *motion.notes, *shown.notes, *said]
    report["locking"] = locking.report if locking is not None else None
    return Solution(chain, motion, shown.needed, room, report)


def _hopeless(motion: CameraMotion, shake: float) -> bool:
    """Whether there is nothing to remove, or nothing known of it."""
    return shake < STILL or bool((motion.confidence[1:] < DOUBTFUL).all())


def _corrected(motion: CameraMotion, chain: WarpChain, treatment: Treatment) -> WarpChain:
    """The chain with the steadied path and whatever the model bends. May raise ArithmeticError."""
    settings, canvas = treatment.motion, chain.source
    frames = motion.first + np.arange(len(motion))
    ceiling = treatment.values("frame.zoom_ceiling", frames)
    bend = smoothed_mesh(motion, canvas, settings)
    base = framing(treatment.frame, treatment.edge, canvas)
    chain = replace(chain, bend=bend)
    rim = outline(base.output, base.scale, bent=not chain.is_affine)
    bent = replace(chain, view=View(canvas), lens=None)
    # What bends and rows take of the room is not there for the path.
    margin = np.zeros(len(motion))
    if not bent.is_affine:
        whole = outline(canvas, 1.0, bent=True)
        margin = np.maximum(-room_left(bent, whole, np.ones(len(motion))), 0.0)
    ease = treatment.values("motion.ease", frames)
    locked = settings.aim == "lock_off"
    anchor = settings.lock_frame
    steady = steady_path(
        motion, canvas, lock_off(settings.slack) if locked else FOLLOW,
        *bounds(settings, ceiling, ease),
        margin=margin,
        anchor=anchor - motion.first if locked and anchor is not None else None,
        rim=(float(rim.real.max()), float(rim.imag.max())),
    )  # fmt: skip
    if motion.local is not None and motion.local.focal is not None:
        turn = rotation_bend(steady, canvas, motion.local.focal)
        chain = replace(chain, bend=turn)
        rim = outline(base.output, base.scale, bent=True)
    corrected = clip_to_zoom(replace(chain, steady=steady), ceiling, rim)
    if settings.aim == "hold":
        corrected = held_chain(corrected, motion, settings, ceiling, rim)
    return corrected


def _notes(
    motion: CameraMotion, treatment: Treatment, report: dict[str, Any], locking: Locking | None
) -> list[str]:
    """Plain sentences about what the numbers mean."""
    notes = []
    weak, n = report["weak_frames"], len(motion)
    if weak >= n - 1:
        notes.append(
            "No camera motion could be found: the picture is too dark, too plain or too blurred "
            "to follow, or everything in it moves its own way. It is left as it is."
            if not motion.aside.any()
            else "Everything that could steer is set aside; the picture is left as it is. Put "
            "something back."
        )
    elif report["shake_before"] < STILL:
        notes.append(
            "This clip is steady already "
            f"({scores.in_pixels(report['shake_before'], report['shake_accuracy'])} of shake): "
            "nothing to do."
        )
    elif weak:
        notes.append(
            f"{weak} of {n} frames could not be measured surely; the correction is gentler there."
        )
    outside = [
        (name, key.frame)
        for name, keys in treatment.keys.items()
        for key in keys
        if not motion.first <= key.frame < motion.first + n
    ]
    if outside:
        name, frame = outside[0]
        notes.append(
            f"The key of {name} at frame {frame} lies outside this clip "
            f"(frames {motion.first} to {motion.first + n - 1}), which only leads up to its value."
        )
    highest = float(treatment.values("frame.zoom_ceiling", motion.first + np.arange(n)).max())
    if locking is not None and locking.zoom > highest:
        notes.append(locking.words)
    if treatment.motion.on and treatment.motion.calm > 0 and highest <= 1.0:
        notes.append(
            "A zoom ceiling of × 1.00 leaves the correction no room, so nothing is corrected. "
            "Raise the ceiling."
        )
    return notes + [words for said in report["warnings"].values() for words in said]


def first_treatment(motion: CameraMotion, canvas: Canvas) -> Treatment:
    """A sensible start: locked off if the camera meant to stand still, following if it moved.

    It meant to stand still if its path, without the shake, stays within what the default calm
    could hold in place anyway.
    """
    default = Treatment()
    extent = 0.0
    for start, stop in motion.segments:
        paths = scores.point_paths(motion.steps[start:stop], canvas)
        slow = paths - scores.fast_part(paths, motion.times[start:stop])
        extent = max(extent, float(np.ptp(slow.real, axis=0).max() / canvas.half[0] / 2))
        extent = max(extent, float(np.ptp(slow.imag, axis=0).max() / canvas.half[1] / 2))
    stays = extent < 1.0 - crop_bound(default.motion.calm, default.frame.zoom_ceiling)
    if not stays:
        return default
    return default.model_copy(
        update={"motion": default.motion.model_copy(update={"aim": "lock_off"})}
    )
