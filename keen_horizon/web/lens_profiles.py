"""The lens cabinet, and charts: lenses that are known, and how they come to be."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from flask import Blueprint, Response, jsonify, request
from sqlalchemy.orm import Session
from werkzeug.utils import secure_filename

from ..core.errors import BadSetting, KeenError
from ..core.geometry.canvas import Canvas
from ..core.lens.angles import angles_of
from ..core.lens.chart import Board
from ..core.lens.lens import Lens, picture_width
from ..core.lens.lens_from_settings import distortion_of
from ..core.lens.printed import PAPERS, chart_pdf, chart_svg
from ..core.lens.profile import (
    LARGEST_FILE,
    LensProfile,
    profile_of,
    read_profile,
    refusal,
    same_crop,
    settings_from,
    to_json,
    to_yaml,
)
from ..core.media.probe import Probe
from ..core.treatment import Treatment
from ..jobs.charts import MOST_PHOTOS, PHOTO_LIMIT, check_photo, result_of
from ..store import lens_profiles, library, treatments
from ..store.models import Clip, LensProfileRow
from . import services
from .jobs import asked_once, describe

page = Blueprint("cabinet", __name__)


def _probe(clip: Clip) -> Probe:
    if clip.recording.probe is None:
        raise KeenError("the recording is still being taken in.")
    return Probe.from_json(clip.recording.probe)


@page.get("/clips/<int:clip_id>/lenses")
def listed(clip_id: int) -> Response:
    """What is in the cabinet: those that are likely to be this clip's first."""
    with services().database.session() as session:
        return _listed(session, library.get_clip(session, clip_id))


def _listed(session: Session, clip: Clip) -> Response:
    probe = _probe(clip)
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
    }


@page.post("/clips/<int:clip_id>/lenses")
def keep(clip_id: int) -> Response:
    """Put the clip's lens into the cabinet; with ``instead_of``, as a new edition of another."""
    data = request.get_json() or {}
    told = {key: str(data.get(key) or "")[:120] for key in ("camera", "lens", "mode")}
    instead_of = data.get("instead_of")
    if instead_of is not None and not isinstance(instead_of, int):
        raise KeenError("a lens of the cabinet is given by its number.")
    with services().database.session.begin() as session:
        clip = library.get_clip(session, clip_id)
        treatment = treatments.current(clip)
        if treatment.lens.model == "rectilinear":
            raise KeenError("there is no lens to keep: find this clip's first.")
        if instead_of is not None:
            old = lens_profiles.profile_in(lens_profiles.get_lens(session, instead_of))
            name = old.name
            told = {key: told[key] or getattr(old, key) for key in told}
        else:
            name = library.clean_name(data.get("name"))
        profile = profile_of(name, treatment.lens, _probe(clip).canvas, **told)
        lens = lens_profiles.keep(session, profile, instead_of)
        update = {"profile": lens.id, "edition": lens.edition}
        own = treatment.model_copy(update={"lens": treatment.lens.model_copy(update=update)})
        treatments.change(session, clip, own)
        session.flush()
        return _listed(session, clip)


@page.post("/clips/<int:clip_id>/lenses/import")
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


@page.get("/lenses/<int:lens_id>.<kind>")
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


@page.delete("/clips/<int:clip_id>/lenses/<int:lens_id>")
def take_out(clip_id: int, lens_id: int) -> Response:
    with services().database.session.begin() as session:
        lens_profiles.take_out(session, lens_id)
        session.flush()
        return _listed(session, library.get_clip(session, clip_id))


def newer_edition(session: Session, treatment: Treatment) -> dict[str, Any] | None:
    """What the cabinet has to say about a clip's lens: that its profile has changed since."""
    settings = treatment.lens
    if settings.profile is None:
        return None
    lens = session.get(LensProfileRow, settings.profile)
    if lens is None or lens.removed is not None or lens.edition == settings.edition:
        return None
    profile = lens_profiles.profile_in(lens)
    return {
        "words": f"{profile.name} has changed in the cabinet since (edition {lens.edition}).",
        "settings": settings_from(profile) | {"profile": lens.id, "edition": lens.edition},
    }


# --- charts ---------------------------------------------------------------------------------------


def _board(data: dict[str, Any]) -> Board:
    columns, rows = data.get("columns"), data.get("rows")
    if not isinstance(columns, int) or not isinstance(rows, int):
        raise KeenError("a chart is given by its inner corners, across and down.")
    return Board(columns, rows)


@page.get("/chart.<kind>")
def printable(kind: str) -> Response:
    """A chart to print: ``?columns=9&rows=6&paper=A4``, as ``pdf`` or ``svg``."""
    board = _board({key: request.args.get(key, type=int) for key in ("columns", "rows")})
    paper = request.args.get("paper", "A4")
    if paper not in PAPERS or kind not in ("pdf", "svg"):
        raise library.NotFound("a chart is printed on A4 or A3, as pdf or svg.")
    if kind == "pdf":
        response = Response(chart_pdf(board, paper), mimetype="application/pdf")
    else:
        response = Response(chart_svg(board, paper), mimetype="image/svg+xml")
    name = f"chart-{board.columns}x{board.rows}-{paper}.{kind}"
    response.headers.set("Content-Disposition", "attachment", filename=name)
    return response


@page.post("/clips/<int:clip_id>/photos")
def add_photo(clip_id: int) -> Response:
    """Take one photograph of a chart: the body is its bytes, ``?name=`` its name."""
    name = Path(request.args.get("name", "")).name or "photograph"
    kit = services()
    with kit.database.session() as session:
        library.get_clip(session, clip_id)
    with kit.vault.workspace() as room:
        path, size = kit.vault.receive(request.stream, name, room, PHOTO_LIMIT)  # type: ignore[arg-type]
        with path.open("rb") as stream:
            check_photo(name, size, stream.read(16))
        key = kit.vault.adopt("photos", path)
    return jsonify(key=key, name=name[:80])


@page.post("/clips/<int:clip_id>/chart")
def chart(clip_id: int) -> Response:
    """Find charts in photographs that were added, or in the clip; the lens, once that is done."""
    data = request.get_json() or {}
    board = _board(data)
    details: dict[str, Any] = {"columns": board.columns, "rows": board.rows}
    photos = data.get("photos") or []
    if not isinstance(photos, list) or len(photos) > MOST_PHOTOS:
        raise KeenError(f"{MOST_PHOTOS} photographs at most can be read at once.")
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        if photos:
            details["photos"] = [_photo(photo) for photo in photos]
        else:
            details |= {"first": clip.first_frame, "last": clip.last_frame}
        found = result_of(kit.vault, details | {"recording": clip.recording_id})
        details |= {"recording": clip.recording_id}
        if found is None:
            work = asked_once(session, clip, "chart", details)
            return jsonify(there=False, work=describe(work))
        why = ""
        if "settings" in found:
            probe = _probe(clip)
            if not same_crop(found["width"] / found["height"], probe.canvas):
                why = (
                    f"The charts are {found['width']} × {found['height']}, this clip is "
                    f"{probe.width} × {probe.height}: another crop of the sensor, for which the "
                    "numbers do not hold."
                )
    return jsonify(there=True, refusal=why, **found)


def _photo(photo: object) -> dict[str, str]:
    if not isinstance(photo, dict):
        raise KeenError("photographs are given as they were answered.")
    key, name = photo.get("key"), photo.get("name")
    known = isinstance(key, str) and key.startswith("photos/") and ".." not in key
    if not known or not services().vault.path(str(key)).exists():
        raise KeenError("a photograph is not there any more.", remedy="Drop it again.")
    return {"key": str(key), "name": str(name)[:80]}


@page.post("/clips/<int:clip_id>/demo-charts")
def demo_charts(clip_id: int) -> Response:
    """Photographs of a chart by the camera on the tender, to try it with."""
    kit = services()
    with kit.database.session() as session:
        library.get_clip(session, clip_id)
    folder = Path(__file__).parent.parent / "demo" / "charts"
    found = []
    for path in sorted(folder.glob("*.jpg")):
        with kit.vault.workspace() as room:
            copy = room / path.name
            copy.write_bytes(path.read_bytes())
            found.append({"key": kit.vault.adopt("photos", copy), "name": path.name})
    return jsonify(photos=found)
