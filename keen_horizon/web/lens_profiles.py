"""The lens cabinet: lenses that are known, kept under a name for every clip of their camera."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from flask import Blueprint, Response, jsonify, request
from sqlalchemy.orm import Session
from werkzeug.utils import secure_filename

from ..core.errors import BadSetting, KeenError
from ..core.geometry.angles import angles_of
from ..core.geometry.canvas import Canvas
from ..core.geometry.lens import Lens, picture_width
from ..core.media.probe import Probe
from ..core.stations.glass import GLASS
from ..core.stations.lens import LENS
from ..core.stations.lens.optics import distortion_of
from ..core.treatment import Treatment
from ..core.treatment.files import LARGEST_FILE
from ..core.treatment.lens_profile import (
    LensProfile,
    glass_from,
    profile_of,
    read_profile,
    refusal,
    settings_from,
    to_json,
    to_yaml,
)
from ..store import lens_profiles, library, treatments
from ..store.models import Clip, LensProfileRow
from ..store.scans import probe_of
from . import services
from .requests import asker, body, whole

blueprint = Blueprint("cabinet", __name__)


@blueprint.get("/clips/<int:clip_id>/lenses")
def listed(clip_id: int) -> Response:
    """What is in the cabinet: those that are likely to be this clip's first."""
    with services().database.session() as session:
        return _listed(session, library.get_clip(session, clip_id))


def _listed(session: Session, clip: Clip) -> Response:
    probe = probe_of(clip.recording)
    told = [_told(lens, probe) for lens in lens_profiles.lenses(session)]
    told.sort(key=lambda one: (not one["suggested"], bool(one["refusal"]), one["name"].lower()))
    return jsonify(lenses=told, camera=probe.camera)


def _told(lens: LensProfileRow, probe: Probe) -> dict[str, Any]:
    profile = lens_profiles.profile_in(lens)
    why_not = refusal(profile, probe.canvas)
    same = bool(probe.camera) and profile.camera.lower() == probe.camera.lower()
    optics = profile.optics
    canvas = Canvas(profile.width, profile.height, profile.pixel_aspect)
    focal = optics.focal * picture_width(canvas)
    seen = angles_of(Lens(canvas, distortion_of(optics), focal)).diagonal
    facts = [
        f"{seen:.0f}°" if seen == seen else "",
        profile.mode or f"{profile.width} × {profile.height}",
        f"{profile.residual:.2f} px" if profile.residual is not None else "",
        f"by {profile.found_by}" if profile.found_by else "",
        "with its glass" if profile.glass is not None else "",
        f"edition {lens.edition}" if lens.edition > 1 else "",
    ]
    return {
        "id": lens.id,
        "edition": lens.edition,
        "name": profile.name,
        "words": " · ".join(filter(None, [profile.camera, profile.lens, *facts])),
        "refusal": why_not,
        "suggested": same and not why_not,
        "settings": settings_from(profile) | {"profile": lens.id, "edition": lens.edition},
        "glass": glass_from(profile),
    }


@blueprint.post("/clips/<int:clip_id>/lenses")
def keep(clip_id: int) -> Response:
    """Put the clip's lens into the cabinet; with ``instead_of``, as a new edition of another."""
    data = body()
    told = {key: str(data.get(key) or "")[:120] for key in ("camera", "lens", "mode")}
    instead_of = None
    if data.get("instead_of") is not None:
        instead_of = whole(data, "instead_of", "a lens of the cabinet is given by its number.")
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        treatment = treatments.current(clip)
        if treatment.of(LENS).model == "rectilinear":
            raise KeenError("there is no lens to keep: find this clip's first.")
        if instead_of is not None:
            old = lens_profiles.profile_in(lens_profiles.get_lens(session, instead_of))
            name = old.name
            told = {key: told[key] or getattr(old, key) for key in told}
        else:
            name = library.clean_name(data.get("name"))
        canvas = probe_of(clip.recording).canvas
        profile = profile_of(name, treatment.of(LENS), canvas, treatment.of(GLASS), **told)
        lens = lens_profiles.keep(session, profile, instead_of)
        own = treatment.changed(LENS, profile=lens.id, edition=lens.edition)
        treatments.change(session, clip, own, asker())
        session.flush()
        return _listed(session, clip)


@blueprint.post("/clips/<int:clip_id>/lenses/import")
def import_lens(clip_id: int) -> Response:
    """Take a profile, JSON or calibration YAML: the body is its text, ``?name=`` its name."""
    name = Path(request.args.get("name", "")).name or "profile"
    data = request.stream.read(LARGEST_FILE + 1)
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise BadSetting("is not text.", file=name, remedy="Choose a JSON or YAML file.") from error
    profile = read_profile(text, name)
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        lens_profiles.keep(session, profile)
        return _listed(session, clip)


@blueprint.get("/lenses/<int:lens_id>.<kind>")
def exported(lens_id: int, kind: str) -> Response:
    """A profile as a file: ``json`` or ``yml``."""
    with services().database.session() as session:
        profile: LensProfile = lens_profiles.profile_in(lens_profiles.get_lens(session, lens_id))
    if kind not in ("json", "yml"):
        raise library.NotFound("a lens is exported as json or yml.")
    text = to_json(profile) if kind == "json" else to_yaml(profile)
    name = (secure_filename(profile.name) or "lens") + f".{kind}"
    response = Response(text, mimetype="application/json" if kind == "json" else "text/yaml")
    response.headers.set("Content-Disposition", "attachment", filename=name)
    return response


@blueprint.delete("/clips/<int:clip_id>/lenses/<int:lens_id>")
def take_out(clip_id: int, lens_id: int) -> Response:
    with services().database.session.begin() as session:
        lens_profiles.take_out(session, lens_id)
        session.flush()
        return _listed(session, library.get_clip(session, clip_id))


def newer_edition(session: Session, treatment: Treatment) -> dict[str, Any] | None:
    """What the cabinet has to say about a clip's lens: that its profile has changed since."""
    settings = treatment.of(LENS)
    if settings.profile is None:
        return None
    lens = session.get(LensProfileRow, settings.profile)
    if lens is None or lens.removed is not None or lens.edition == settings.edition:
        return None
    profile = lens_profiles.profile_in(lens)
    return {
        "words": f"{profile.name} has changed in the cabinet since (edition {lens.edition}).",
        "glass": glass_from(profile),
        "settings": settings_from(profile) | {"profile": lens.id, "edition": lens.edition},
    }
