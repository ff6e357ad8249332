"""From motion settings and a measured motion to a steadied path."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from ...geometry.canvas import along_sides
from ...geometry.chain import WarpChain
from ...geometry.live_area import LiveArea
from ...geometry.stage import Smoothness, WarpStage
from ...geometry.view import View
from ...path.background_shake import no_shakier
from ...path.crop_bound import crop_and_freedom
from ...path.framing import Framing
from ...path.mesh_smoothing import smoothed_mesh
from ...path.point_lock import PointLock, lock_points
from ...path.steady_path import FOLLOW, Bounds, lock_off, steady_path
from ...path.zoom import clip_to_zoom, outline, room_left
from ...types import Indices, Real
from ..station import Scene
from .settings import MotionSettings

FASTER_THAN = {"follow": 0.7, "hold": 0.7, "lock_off": 0.3}  # Hz: slower is left to the scene
GAVE_WAY = 0.95  # of a correction, below which that is said
ALONG = 8  # points of each side that is cut off, through a lens
MESH_FROM = 25.0  # calm below which a mesh is weakened, for want of room


@dataclass(frozen=True)
class Surroundings:
    """What the steadying has to fit into: the stages of other stations ``before`` it (on the
    output's side) and ``after`` it; the output's ``framing``; the zoom ``ceiling`` ``(n,)``;
    ``live``, where the recorded picture is one, as far as the output has to keep to it."""

    before: tuple[WarpStage, ...]
    after: tuple[WarpStage, ...]
    framing: Framing
    ceiling: Real
    live: LiveArea | None = None


@dataclass(frozen=True)
class Steadied:
    """The whole ``chain``, its view apart, and those of its stages that steady it. ``worse`` are
    frames, counted from the start of the range, in which they would have shaken the picture more
    than it was, and give way."""

    chain: WarpChain
    corrections: tuple[WarpStage, ...]
    worse: Indices = field(default_factory=lambda: np.zeros(0, np.intp))


def untouched(scene: Scene, around: Surroundings) -> Steadied:
    """A clip that nothing is taken out of."""
    return _assembled(scene, around, (scene.motion.steps.identity(len(scene)),))


def _assembled(scene: Scene, around: Surroundings, corrections: tuple[WarpStage, ...]) -> Steadied:
    canvas = scene.canvas
    stages = (*around.before, *corrections, *around.after)
    chain = WarpChain(canvas, View(canvas), stages, len(scene), around.live)
    return Steadied(chain, corrections)


def steadying(settings: MotionSettings, scene: Scene, around: Surroundings) -> Steadied:
    """The corrections that settings ask for. Raises ArithmeticError if no path can be found."""
    motion, base = scene.motion, around.framing
    mesh = smoothed_mesh(
        motion,
        scene.canvas,
        FASTER_THAN[settings.aim],
        min(1.0, max(settings.calms.values()) / MESH_FROM),
        settings.stretch_limit / 100.0,
    )
    bending = () if mesh is None else (mesh,)
    still = _assembled(scene, around, bending).chain
    rim = outline(base.output, base.scale, still)
    crop, freedom = crop_and_freedom(settings.calms, around.ceiling, scene.values("motion.ease"))
    area = _straight_area(still)
    if area is not None:
        # What hides what is cut off leaves that much less of the ceiling for a calm path.
        crop = np.minimum(np.maximum(crop, area.zoom(rim) / around.ceiling), 1.0)
    shown = float(rim.real.max()), float(rim.imag.max())
    locked = settings.aim == "lock_off"
    anchor = settings.lock_frame
    steady = steady_path(
        motion,
        scene.canvas,
        lock_off(settings.slack) if locked else FOLLOW,
        Bounds(crop, freedom, _taken(still), shown, area),
        anchor - motion.timeline.first if locked and anchor is not None else None,
    )
    chain = _assembled(scene, around, (steady, *bending)).chain
    rim = outline(base.output, base.scale, chain)
    chain = clip_to_zoom(chain, around.ceiling, rim)
    if settings.aim == "hold" and settings.hold:
        chain = lock_points(chain, motion, point_lock_of(settings), around.ceiling, rim)
    end = len(chain.stages) - len(around.after)
    corrections = chain.stages[len(around.before) : end]
    flow = motion.flow
    if settings.aim == "hold" or flow is None:
        return Steadied(chain, corrections)
    share = no_shakier(flow, motion.timeline, replace(chain, view=View(scene.canvas)))
    if share.min() >= 1.0:
        return Steadied(chain, corrections)
    weaker = _assembled(scene, around, tuple(one.toward_identity(share) for one in corrections))
    return replace(weaker, worse=np.nonzero(share < GAVE_WAY)[0])


def point_lock_of(settings: MotionSettings) -> PointLock:
    """What is asked of the held points."""
    return PointLock(
        settings.hold[0].frame,
        settings.hold_at,
        settings.tightness,
        settings.stretch_limit / 100.0,
    )


def _taken(chain: WarpChain) -> Real:
    """``(n,)`` scene units of room that meshes and rows take, which is not there for the path. What
    is curved sees to its own coverage: a lens is scaled to cover, a reshaped view by its zoom."""
    smooth = chain.only(lambda stage: stage.smoothness == Smoothness.SMOOTH)
    if not smooth.stages:
        return np.zeros(len(chain))
    whole = outline(chain.source, 1.0, smooth)
    return np.maximum(-room_left(smooth, whole, np.ones(len(chain))), 0.0)


def _straight_area(chain: WarpChain) -> LiveArea | None:
    """Where the picture is one once its lens is straightened: sides stay straight, and as far out
    as the nearest of what becomes of them. None if that is all over."""
    area = chain.live
    if area is None:
        return None
    lens = chain.only(lambda s: s.side == "source" and s.smoothness == Smoothness.CURVED)[:1]
    if not lens.stages:
        return area
    sides = along_sides(area.corners, ALONG)
    straight = lens.to_output(sides[None])[0]
    reaches = area.reaches.copy()
    for k in range(4, len(reaches)):
        normal = area.normals[k]
        on_it = np.abs((np.conj(normal) * sides).real - reaches[k]) < 1e-3
        known = (np.conj(normal) * straight[on_it]).real
        if np.isfinite(known).any():
            reaches[k] = np.nanmin(known)
    return replace(area, reaches=reaches)
