"""A measure and a treatment give the camera's motion: who steers, by which model, read how fast."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache, partial

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..quality.wobble import local_wobble
from ..treatment import HeldPoint, MotionSettings, Treatment
from .aside import aside_records
from .camera import camera_motion
from .fit import Model
from .found import SIMPLEST_FIRST, CameraMotion, HeldTrack, LocalMotion
from .groups import MarkGroup, groups_of
from .local import choose_model, local_motion
from .measure import Measure
from .shutter import through_shutter

STIFFNESS = 50.0  # of the mesh that wobble is looked for with
Base = Callable[[Model], CameraMotion]


def fitted_motion(
    measure: Measure, canvas: Canvas, treatment: Treatment, base: Base | None = None,
    grouped: Callable[[], list[MarkGroup]] | None = None,
    followed: Callable[[HeldPoint], HeldTrack] | None = None,
) -> CameraMotion:  # fmt: skip
    """The motion that a treatment stands on.

    ``base`` gives the fit of all marks by a model, if it is known already, as :func:`base_motion`;
    ``grouped`` the groups of its marks; ``followed`` a held point's track.
    """
    settings, shutter = treatment.motion, treatment.shutter
    base = base or cache(lambda model: base_motion(measure, canvas, model))
    model: Model = "shift" if settings.model == "shift" else "similarity"
    motion = base(model)
    wobble = motion.wobble
    notes: list[str] = []
    narrow = settings.steer_by is not None
    aside: NDArray[np.bool_] | None = None
    if settings.aside or narrow:
        whole = base("similarity")
        groups = grouped or cache(lambda: groups_of(measure, canvas, whole))
        aside, notes = aside_records(settings, measure, canvas, whole, groups)
        if aside.any():
            motion = camera_motion(measure, canvas, model, aside, narrow=narrow)
    rows = straight = None
    if shutter.on and shutter.readout > 0:
        fit = partial(camera_motion, canvas=canvas, model=model, aside=aside, narrow=narrow)
        measure, motion, rows = through_shutter(
            measure, canvas, motion, shutter.readout / 1000, strong=shutter.strong, fit=fit
        )
        _, straight = _mesh_and_wobble(measure, canvas, motion)
    now = replace(motion, wobble=wobble if straight is None else straight)
    if settings.model == "decide":
        motion = _decided(measure, canvas, now, settings)
    else:
        chosen: str = settings.model
        if chosen == "rotation" and settings.angle_of_view is None:
            notes.append(
                "The model camera rotation needs the angle of view; until it is given, shift, "
                "roll and scale stand in."
            )
            chosen = "similarity"
        if chosen == "mesh" and settings.stiffness == STIFFNESS and motion.mesh is not None:
            local = LocalMotion(chosen, motion.mesh)
        else:
            local = local_motion(
                measure, canvas, motion, chosen, settings.stiffness, settings.angle_of_view
            )
        motion = replace(motion, local=local)
    held: list[HeldTrack] = []
    if settings.aim == "hold" and followed is not None:
        held = [followed(point) for point in settings.hold]
    notes += dict.fromkeys(track.note for track in held if track.note)
    return replace(
        motion, wobble=wobble, straight_wobble=straight, rows=rows, held=tuple(held), mesh=None,
        notes=tuple(notes),
    )  # fmt: skip


def _mesh_and_wobble(
    measure: Measure, canvas: Canvas, motion: CameraMotion
) -> tuple[NDArray[np.complex64], NDArray[np.complex64]]:
    """The steps of the mesh that wobble is looked for with, and the wobble of the pictures that
    were measured: see :func:`.local_wobble`."""
    mesh = local_motion(measure, canvas, motion, "mesh", STIFFNESS).steps
    assert mesh is not None
    return mesh, local_wobble(mesh, motion.sure, motion.times, motion.segments, canvas)


def base_motion(measure: Measure, canvas: Canvas, model: Model) -> CameraMotion:
    """The fit of all marks by ``model``, with the wobble of the source."""
    motion = camera_motion(measure, canvas, model)
    mesh, wobble = _mesh_and_wobble(measure, canvas, motion)
    return replace(motion, wobble=wobble, mesh=mesh)


def _decided(
    measure: Measure, canvas: Canvas, motion: CameraMotion, settings: MotionSettings
) -> CameraMotion:
    """The motion by the simplest model that explains the marks and leaves little wobble."""
    choice = choose_model(measure, canvas, motion, settings.stiffness, settings.angle_of_view)
    tried = [name for name in SIMPLEST_FIRST if name in choice.left]
    best: tuple[float, CameraMotion] | None = None
    for name in tried[tried.index(choice.model) :]:
        local = local_motion(
            measure, canvas, motion, name, settings.stiffness, settings.angle_of_view
        )
        wobble = _wobble_by(local, motion, canvas)
        if best is None or wobble < best[0]:
            said = replace(choice, model=name, wobble=wobble, limit=settings.wobble_limit)
            best = wobble, replace(motion, local=local, choice=said)
        if wobble <= settings.wobble_limit:
            break
    assert best is not None
    chosen = best[1]
    if chosen.choice is not None and chosen.choice.model == "shift":
        aside = motion.aside if motion.aside.any() else None
        narrow = settings.steer_by is not None
        plain = camera_motion(measure, canvas, "shift", aside, narrow=narrow)
        chosen = replace(plain, local=chosen.local, choice=chosen.choice)
    return chosen


def _wobble_by(local: LocalMotion, motion: CameraMotion, canvas: Canvas) -> float:
    """Rms wobble that is left when ``local`` is taken out, source px."""
    assert motion.wobble is not None
    left = motion.wobble
    if local.steps is not None:
        left = left - local_wobble(local.steps, motion.sure, motion.times, motion.segments, canvas)
    return float(np.sqrt((np.abs(left) ** 2).mean()))


def motion_settings(treatment: Treatment) -> dict[str, object]:
    """What of a treatment the motion depends on, as JSON data."""
    names = {"model", "stiffness", "wobble_limit", "angle_of_view", "aside", "steer_by"}
    kept = treatment.motion.model_dump(mode="json", include=names)
    if treatment.motion.model not in ("mesh", "decide"):
        del kept["stiffness"]
    if treatment.motion.model not in ("rotation", "decide"):
        del kept["angle_of_view"]
    if treatment.motion.model != "decide":
        del kept["wobble_limit"]
    if treatment.motion.aim == "hold":
        kept["hold"] = treatment.motion.model_dump(mode="json", include={"hold"})["hold"]
    shutter = treatment.shutter
    kept["shutter"] = [shutter.readout, shutter.strong] if shutter.on and shutter.readout else None
    return kept

