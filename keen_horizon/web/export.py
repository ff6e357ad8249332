"""The export screen: choose, queue, follow, download; every past export with its numbers."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response, jsonify, render_template, request
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.errors import KeenError
from ..core.media.encode import QUALITIES
from ..store import library, treatments
from ..store.models import Clip, Export, Job, Revision
from . import captions, services
from .jobs import describe

page = Blueprint("export", __name__, url_prefix="/clips/<int:clip_id>/exports")
HEIGHTS = (2160, 1440, 1080, 720, 540)


@page.get("")
def screen(clip_id: int) -> str:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return render_template("export.html", clip=clip, shoot=clip.recording.shoot)


@page.get("/list")
def listing(clip_id: int) -> Response:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        rows = session.scalars(
            select(Export).where(Export.clip_id == clip.id).order_by(Export.id.desc())
        )
        return jsonify(
            choices=_choices(session, clip), exports=[_describe(session, row) for row in rows]
        )


def _choices(session: Session, clip: Clip) -> dict[str, Any]:
    """What can be chosen: the present treatment or a version, a height, a quality."""
    measure = treatments.measure_of(session, clip)
    current = clip.revision
    offered = []
    if current is not None:
        offered.append({"id": current.id, "name": f"as it is now (revision {current.number})"})
    offered += [{"id": v.id, "name": v.name} for v in treatments.versions(session, clip)]
    height = (clip.recording.probe or {}).get("height", 0)
    solution = None
    if measure is not None:
        solution = services().solver.find(
            clip.recording, measure, treatments.current(clip), patient=False
        )
    return {
        "ready": measure is not None and current is not None,
        "revisions": offered,
        "heights": [h for h in HEIGHTS if h < height],
        "full": solution.report["output"] if solution else None,
        "qualities": list(QUALITIES),
        "poster": f"/recordings/{clip.recording.id}/poster",
        "file_name": _file_name(clip, ""),
    }


@page.post("")
def ask(clip_id: int) -> Response:
    data = request.get_json() or {}
    kit = services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        if treatments.measure_of(session, clip) is None:
            raise KeenError("the clip has not been measured yet.", remedy="Open the clip first.")
        revision = session.get(Revision, data.get("revision") or 0)
        if revision is None or revision.clip_id != clip.id:
            raise KeenError("this clip has no such version.")
        quality = data.get("quality", "good")
        if quality not in QUALITIES:
            raise KeenError(f"quality cannot be {quality}; allowed: {', '.join(QUALITIES)}.")
        lines = data.get("lines") or None
        if lines is not None and (not isinstance(lines, int) or not 16 <= lines <= 8192):
            raise KeenError("the height cannot be that; allowed: 16 to 8192 px.")
        export = Export(
            clip_id=clip.id,
            revision_id=revision.id,
            first_frame=clip.first_frame,
            last_frame=clip.last_frame,
            quality=quality,
            lines=lines,
            file_name=_file_name(clip, revision.name or f"r{revision.number}"),
        )
        session.add(export)
        session.flush()
        kit.queue.ask(session, "export", clip.recording_id, clip_id=clip.id, export_id=export.id)
        return jsonify(_describe(session, export))


@page.get("/<int:export_id>/report")
def report(clip_id: int, export_id: int) -> Response:
    """The whole report of an export as a JSON file."""
    with services().database.session() as session:
        export = session.get(Export, export_id)
        if export is None or export.clip_id != clip_id or export.report is None:
            raise library.NotFound("there is no such report.")
    response = jsonify(export.report)
    name = export.file_name.removesuffix(".mp4") + ".json"
    response.headers.set("Content-Disposition", "attachment", filename=name)
    return response


def _describe(session: Session, export: Export) -> dict[str, Any]:
    work = session.scalar(
        select(Job).where(Job.export_id == export.id).order_by(Job.id.desc()).limit(1)
    )
    figures = {}
    if export.report is not None:
        figures = {k: v for k, v in export.report.items() if k not in ("frames", "conventions")}
        figures["words"] = {
            "shake": captions.shake_words(figures),
            "shake_removed": captions.removed_words(figures) or "nothing",
            "wobble": captions.wobble_words(figures),
        }
    return {
        "id": export.id,
        "file_name": export.file_name,
        "version": export.revision.name or f"revision {export.revision.number}",
        "quality": export.quality,
        "lines": export.lines,
        "range": f"{export.first_frame}–{export.last_frame}",
        "created": export.created.isoformat(),
        "size": captions.size(export.size) if export.size else None,
        "file": f"/exports/{export.id}/file" if export.file_key else None,
        "report_file": f"/clips/{export.clip_id}/exports/{export.id}/report",
        "report": figures or None,
        "work": describe(work) if work else None,
    }


def _file_name(clip: Clip, version: str) -> str:
    """A name that any disk takes."""
    text = f"{clip.name} {version}".strip()
    kept = "".join(c if c.isalnum() or c in " -_" else "-" for c in text)
    return "-".join(kept.split()) + "-steady.mp4"
