"""A measure and a treatment give the camera's motion: who steers, by which model, read how fast."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache

from ..geometry.canvas import Canvas
from ..treatment import Treatment
from .aside import aside_records
from .camera import CameraMotion, camera_motion
from .fit import Model
from .groups import MarkGroup, groups_of
from .local import choose_model, local_motion
from .measure import Measure

Base = Callable[[Model], CameraMotion]


def fitted_motion(
    measure: Measure, canvas: Canvas, treatment: Treatment, base: Base | None = None
) -> CameraMotion:
    """The motion that a treatment stands on.

    ``base`` gives the fit of all marks by a model, if it is known already.
    """
    settings = treatment.motion
    base = base or cache(lambda model: camera_motion(measure, canvas, model))
    model: Model = "shift" if settings.model == "shift" else "similarity"
    motion = base(model)
    notes: list[str] = []
    if settings.aside or settings.steer_by is not None:
        whole = base("similarity")
        groups: Callable[[], list[MarkGroup]] = cache(lambda: groups_of(measure, canvas, whole))
        aside, notes = aside_records(settings, measure, canvas, whole, groups)
        if aside.any():
            motion = camera_motion(
                measure, canvas, model, aside, narrow=settings.steer_by is not None
            )
    chosen: str = settings.model
    choice = None
    if chosen == "decide":
        choice = choose_model(
            measure, canvas, motion, settings.stiffness, settings.angle_of_view
        )
        chosen = choice.model
        if chosen == "shift":
            motion = camera_motion(
                measure, canvas, "shift", motion.aside if motion.aside.any() else None,
                narrow=settings.steer_by is not None,
            )  # fmt: skip
    if chosen == "rotation" and settings.angle_of_view is None:
        notes.append(
            "The model camera rotation needs the angle of view; until it is given, shift, roll "
            "and scale stand in."
        )
        chosen = "similarity"
    local = local_motion(
        measure, canvas, motion, chosen, settings.stiffness, settings.angle_of_view
    )
    return replace(motion, local=local, choice=choice, notes=tuple(notes))


def motion_settings(treatment: Treatment) -> dict[str, object]:
    """What of a treatment the motion depends on, as JSON data."""
    names = {"model", "stiffness", "angle_of_view", "aside", "steer_by"}
    kept = treatment.motion.model_dump(mode="json", include=names)
    if treatment.motion.model not in ("mesh", "decide"):
        del kept["stiffness"]
    if treatment.motion.model not in ("rotation", "decide"):
        del kept["angle_of_view"]
    return kept


def all_steer(treatment: Treatment) -> bool:
    """Whether no mark is kept from steering."""
    return not treatment.motion.aside and treatment.motion.steer_by is None


