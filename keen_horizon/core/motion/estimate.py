"""A measure and a treatment give the camera's motion: who steers, by which model, read how fast."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import cache, partial

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities
from ..lens.lens import Lens
from ..lens.lens_from_settings import lens_from_settings, recorded_canvas
from ..quality.wobble import local_wobble
from ..tracking.exclusion import excluded_records
from ..tracking.groups import TrackGroup, groups_of
from ..tracking.tracks import Tracks
from ..treatment import HeldPoint, MotionSettings, Treatment
from .camera_motion import SIMPLEST_FIRST, CameraMotion, LocalMotion, PointTrack
from .pairwise import camera_motion, refitted
from .residual_fields import choose_model, fit_residual, local_motion, rotating, rotation_steps
from .robust_fit import Model
from .rolling_shutter import unskew_tracks
from .undistort_tracks import undistort_tracks

STIFFNESS = 50.0  # of the mesh that wobble is looked for with
Base = Callable[[Model], CameraMotion]


def fitted_motion(
    tracks: Tracks, canvas: Canvas, treatment: Treatment, base: Base | None = None,
    grouped: Callable[[], list[TrackGroup]] | None = None,
    followed: Callable[[HeldPoint], PointTrack] | None = None,
    straight_base: Base | None = None,
) -> CameraMotion:  # fmt: skip
    """The motion that a treatment stands on.

    ``base`` gives the fit of all marks by a model, if it is known already, as :func:`base_motion`;
    ``straight_base`` likewise, as :func:`straight_motion`, of marks that a lens has straightened;
    ``grouped`` the groups of its marks; ``followed`` a held point's track.
    """
    settings, shutter = treatment.motion, treatment.shutter
    bent, seen = tracks, canvas
    base = base or cache(lambda model: base_motion(bent, seen, model))
    model = base_model(treatment)
    notes: list[str] = []
    narrow = settings.steer_by is not None
    aside: NDArray[np.bool_] | None = None
    if settings.aside or narrow:
        # Subjects are pointed at in the picture, so they are found in it as it was recorded.
        whole = base("similarity")
        groups = grouped or cache(lambda: groups_of(bent, seen, whole))
        aside, notes = excluded_records(settings, tracks, canvas, whole, groups)
    lens, bent_residual = None, None
    if is_bent(treatment):
        recorded = base(model)
        motion = (
            straight_base(model)
            if straight_base is not None
            else straight_motion(tracks, canvas, treatment, recorded)
        )
        bent_residual = fit_residual(tracks, canvas, recorded)
        canvas, lens = recorded_canvas(treatment, canvas), motion.lens
        if lens is not None:
            tracks, useless = undistort_tracks(tracks, canvas, lens)
            if useless.any():
                aside = useless if aside is None else aside | useless
    else:
        motion = base(model)
    wobble = motion.wobble
    if aside is not None and aside.any() and (settings.aside or narrow):
        motion = replace(
            camera_motion(tracks, canvas, model, aside, narrow=narrow), lens=lens, wobble=wobble
        )
    rows = straight = None
    if shutter.on and shutter.readout > 0:
        fit = None
        if lens is None:
            fit = partial(camera_motion, canvas=canvas, model=model, aside=aside, narrow=narrow)
        tracks, motion, rows = unskew_tracks(
            tracks, canvas, motion, shutter.readout / 1000, strong=shutter.strong, fit=fit
        )
        _, straight = _mesh_and_wobble(tracks, canvas, motion)
    now = replace(motion, wobble=wobble if straight is None else straight)
    angle = settings.angle_of_view
    if lens is not None and angle is None:
        angle = straight_angle(lens)
    if settings.model == "decide":
        motion = _decided(tracks, canvas, now, settings, angle)
    else:
        chosen: str = settings.model
        if chosen == "rotation" and angle is None:
            notes.append(
                "The model camera rotation needs the angle of view; until it is given, shift, "
                "roll and scale stand in."
            )
            chosen = "similarity"
        if chosen == "rotation" and angle is not None:
            start = carried_over(base(model).steps, lens)
            motion = rotating(tracks, canvas, motion, angle, start)
            turned_wobble = rotating_wobble(tracks, canvas, motion)
            if straight is not None:
                straight = turned_wobble
            else:
                wobble = turned_wobble
        elif chosen == "mesh" and settings.stiffness == STIFFNESS and motion.mesh is not None:
            motion = replace(motion, local=LocalMotion(chosen, motion.mesh))
        else:
            local = local_motion(tracks, canvas, motion, chosen, settings.stiffness)
            motion = replace(motion, local=local)
    residual = None
    if bent_residual is not None:
        residual = fit_residual(tracks, canvas, replace(motion, lens=lens))
    held: list[PointTrack] = []
    if settings.aim == "hold" and followed is not None:
        held = [followed(point) for point in settings.hold]
    notes += dict.fromkeys(track.note for track in held if track.note)
    return replace(
        motion, wobble=wobble, straight_wobble=straight, rows=rows, held=tuple(held), mesh=None,
        notes=tuple(notes), lens=lens, bent_residual=bent_residual, straight_residual=residual,
    )  # fmt: skip


def rotating_wobble(tracks: Tracks, canvas: Canvas, motion: CameraMotion) -> NDArray[np.complex64]:
    """The wobble of a picture whose camera turns: what the turns do to it beyond their shift, and
    what is left besides. A mesh on top of shifts alone would lose the marks of a wide lens."""
    rest = local_motion(tracks, canvas, motion, "mesh", STIFFNESS).steps
    assert rest is not None
    whole = rest + rotation_steps(motion, canvas)
    return local_wobble(whole, motion.sure, motion.times, motion.segments, canvas)


def base_model(treatment: Treatment) -> Model:
    """The model of the fit that a treatment's own stands on."""
    return "shift" if treatment.motion.model == "shift" else "similarity"


def is_bent(treatment: Treatment) -> bool:
    """Whether marks have to be straightened, or their pixels are not as wide as recorded."""
    lens = treatment.lens
    return lens.on and (lens.model != "rectilinear" or lens.squeeze != 1.0)


def straight_motion(
    tracks: Tracks, canvas: Canvas, treatment: Treatment, bent: CameraMotion
) -> CameraMotion:
    """As :func:`base_motion`, of marks straightened through the treatment's lens.

    ``bent`` is the fit to the marks as they were recorded. Who steers is settled there: to the
    side, a straightened picture of a wide lens moves so much more than in its middle that a
    similarity would lose the marks.
    """
    canvas = recorded_canvas(treatment, canvas)
    lens = lens_from_settings(treatment, canvas, tracks.first + np.arange(len(tracks)))
    motion = replace(bent, steps=carried_over(bent.steps, lens), lens=lens)
    if lens is not None:
        tracks, useless = undistort_tracks(tracks, canvas, lens)
        motion = replace(motion, aside=useless if useless.any() else motion.aside)
    motion = refitted(tracks, canvas, motion)
    mesh, wobble = _mesh_and_wobble(tracks, canvas, motion)
    return replace(motion, wobble=wobble, mesh=mesh)


def carried_over(steps: Similarities, lens: Lens | None) -> Similarities:
    """Steps of the recorded picture as they are in the middle of the straight plane."""
    scale = 1.0 if lens is None else float(np.mean(lens.scale))
    return Similarities(steps.a, scale * steps.b)


def straight_angle(lens: Lens) -> float:
    """Degrees across the straight plane's own rectangle."""
    return float(np.degrees(2 * np.arctan(lens.canvas.half[0] / straight_focal(lens))))


def straight_focal(lens: Lens) -> float:
    """Focal length of the straight plane, scene units."""
    return float(np.mean(lens.focal * np.asarray(lens.scale)))


def _mesh_and_wobble(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion
) -> tuple[NDArray[np.complex64], NDArray[np.complex64]]:
    """The steps of the mesh that wobble is looked for with, and the wobble of the pictures that
    were measured: see :func:`.local_wobble`."""
    mesh = local_motion(tracks, canvas, motion, "mesh", STIFFNESS).steps
    assert mesh is not None
    return mesh, local_wobble(mesh, motion.sure, motion.times, motion.segments, canvas)


def base_motion(
    tracks: Tracks, canvas: Canvas, model: Model, aside: NDArray[np.bool_] | None = None
) -> CameraMotion:
    """The fit of all marks by ``model`` but those ``aside``, with the wobble of the source."""
    motion = camera_motion(tracks, canvas, model, aside)
    mesh, wobble = _mesh_and_wobble(tracks, canvas, motion)
    return replace(motion, wobble=wobble, mesh=mesh)


def _decided(
    tracks: Tracks, canvas: Canvas, motion: CameraMotion, settings: MotionSettings,
    angle: float | None,
) -> CameraMotion:  # fmt: skip
    """The motion by the simplest model that explains the marks and leaves little wobble."""
    choice = choose_model(tracks, canvas, motion, settings.stiffness, angle)
    tried = [name for name in SIMPLEST_FIRST if name in choice.left]
    best: tuple[float, CameraMotion] | None = None
    for name in tried[tried.index(choice.model) :]:
        if name == "rotation" and angle is not None:
            tried_motion = rotating(tracks, canvas, motion, angle)
            wobble = _wobble_left(rotation_steps(tried_motion, canvas), motion, canvas)
        else:
            local = local_motion(tracks, canvas, motion, name, settings.stiffness)
            tried_motion = replace(motion, local=local)
            wobble = _wobble_left(local.steps, motion, canvas)
        if best is None or wobble < best[0]:
            said = replace(choice, model=name, wobble=wobble, limit=settings.wobble_limit)
            best = wobble, replace(tried_motion, choice=said)
        if wobble <= settings.wobble_limit:
            break
    assert best is not None
    chosen = best[1]
    if chosen.choice is not None and chosen.choice.model == "shift":
        aside = motion.aside if motion.aside.any() else None
        narrow = settings.steer_by is not None
        plain = camera_motion(tracks, canvas, "shift", aside, narrow=narrow)
        chosen = replace(plain, local=chosen.local, choice=chosen.choice)
    return chosen


def _wobble_left(
    steps: NDArray[np.complex64] | None, motion: CameraMotion, canvas: Canvas
) -> float:
    """Rms wobble that is left when local ``steps`` are taken out, source px."""
    assert motion.wobble is not None
    left = motion.wobble
    if steps is not None:
        left = left - local_wobble(steps, motion.sure, motion.times, motion.segments, canvas)
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
    kept["lens"] = lens_settings(treatment)
    shutter = treatment.shutter
    kept["shutter"] = [shutter.readout, shutter.strong] if shutter.on and shutter.readout else None
    return kept


def lens_settings(treatment: Treatment) -> dict[str, object] | None:
    """What of a treatment the straightened marks depend on, as JSON data; None where nothing is
    straightened."""
    if not is_bent(treatment):
        return None
    evidence = {"on", "found_by", "residual", "edges", "profile", "edition"}
    kept = treatment.lens.model_dump(mode="json", exclude=evidence)
    keys = treatment.model_dump(mode="json", include={"keys"})["keys"]
    return kept | {"keys": {n: k for n, k in keys.items() if n.startswith("lens.")}}
