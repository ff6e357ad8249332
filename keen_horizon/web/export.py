"""The export screen: choose, queue, follow, look at, download; every past export with its
numbers."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from flask import Blueprint, Response, jsonify, render_template
from sqlalchemy import func, select
from sqlalchemy.orm import Session, joinedload

from ..core.errors import KeenError
from ..core.media.encode import QUALITIES
from ..core.pipeline.reports import told_figures
from ..core.pipeline.sphere_reports import told_sphere_figures
from ..core.stations.station import Figure
from ..core.treatment import parse
from ..jobs.exporting import EXPORT
from ..store import library, treatments
from ..store.models import Clip, Export, Job, Measure
from ..store.scans import probe_of, stored_scan
from . import captions, services
from .jobs import WITH_NAMES, describe
from .media import poster_address, proxy_address
from .requests import body, whole
from .sphere_answers import output_of

blueprint = Blueprint("export", __name__, url_prefix="/clips/<int:clip_id>/exports")
HEIGHTS = (2160, 1440, 1080, 720, 540)
LEAST_LINES, MOST_LINES = 16, 8192


@blueprint.get("")
def screen(clip_id: int) -> str:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        return render_template("export.html", clip=clip, shoot=clip.recording.shoot)


@blueprint.get("/list")
def listing(clip_id: int) -> Response:
    with services().database.session() as session:
        clip = library.get_clip(session, clip_id)
        rows = session.scalars(
            select(Export)
            .where(Export.clip_id == clip.id)
            .options(joinedload(Export.revision))
            .order_by(Export.id.desc())
        ).all()
        jobs = _jobs(session, clip)
        return jsonify(
            choices=_choices(session, clip),
            exports=[_describe(row, jobs.get(row.id)) for row in rows],
            before=_before(clip),
        )


def _jobs(session: Session, clip: Clip) -> dict[int, Job]:
    """The last job of each of the clip's exports."""
    newest = (
        select(func.max(Job.id)).where(Job.clip_id == clip.id).group_by(Job.export_id)
    ).scalar_subquery()
    rows = session.scalars(select(Job).where(Job.id.in_(newest)).options(*WITH_NAMES))
    return {job.export_id: job for job in rows if job.export_id is not None}


def _choices(session: Session, clip: Clip) -> dict[str, Any]:
    """What can be chosen: the present treatment or a version, a height, a quality."""
    measure = treatments.measure_of(session, clip)
    current = clip.revision
    offered = []
    if current is not None:
        offered.append({"id": current.id, "name": f"as it is now (revision {current.number})"})
    offered += [{"id": v.id, "name": v.name} for v in treatments.versions(session, clip)]
    height = (clip.recording.probe or {}).get("height", 0)
    full = None if measure is None else _full_size(clip, measure)
    flat = clip.recording.kind == "flat"
    return {
        "ready": measure is not None and current is not None,
        "revisions": offered,
        "heights": [h for h in HEIGHTS if h < height] if flat else [],
        "full": full,
        "qualities": list(QUALITIES),
        "poster": poster_address(clip.recording),
        "file_name": _file_name(clip, ""),
    }


def _full_size(clip: Clip, measure: Measure) -> dict[str, Any] | None:
    """The size of what comes out, where that is known."""
    treatment = treatments.current(clip)
    if measure.kind == "sphere":
        return output_of(treatment, probe_of(clip.recording))
    solution = services().solver.find(clip.recording, measure, treatment)
    return solution.report["output"] if solution else None


def _before(clip: Clip) -> dict[str, Any] | None:
    """What an export is looked at beside: the recording's proxy, and when each frame is shown."""
    address = proxy_address(clip.recording)
    if address is None:
        return None
    times = stored_scan(clip.recording, services().store).times
    return {"proxy": address, "first_time": float(times[clip.first_frame])}


@blueprint.post("")
def ask(clip_id: int) -> Response:
    data, kit = body(), services()
    with kit.database.session() as session:
        clip = library.get_clip(session, clip_id)
        if treatments.measure_of(session, clip) is None:
            raise KeenError("the clip has not been measured yet.", remedy="Open the clip first.")
        number = whole(data, "revision", "this clip has no such version.")
        revision = treatments.version(session, clip, number)
        quality, lines = _quality(data), _lines(data)
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
        job = kit.queue.ask(
            session, EXPORT.name, clip.recording_id, clip_id=clip.id, export_id=export.id
        )
        return jsonify(_describe(export, job))


def _quality(data: dict[str, Any]) -> str:
    quality = data.get("quality", "good")
    if not isinstance(quality, str) or quality not in QUALITIES:
        raise KeenError(f"quality cannot be {quality}; allowed: {', '.join(QUALITIES)}.")
    return quality


def _lines(data: dict[str, Any]) -> int | None:
    if not data.get("lines"):
        return None
    words = f"the height cannot be that; allowed: {LEAST_LINES} to {MOST_LINES} px."
    lines = whole(data, "lines", words)
    if not LEAST_LINES <= lines <= MOST_LINES:
        raise KeenError(words)
    return lines


@blueprint.get("/<int:export_id>/report")
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


def _describe(export: Export, job: Job | None) -> dict[str, Any]:
    figures: list[dict[str, Any]] = []
    notes: list[str] = []
    if export.figures is not None:
        figures = [asdict(figure) for figure in _told(export)]
        measure = export.figures.get("shake_measure")
        how = [f"Shake: {measure}."] if measure else []
        notes = [export.figures["sound"], *how, *export.figures["notes"]]
    return {
        "id": export.id,
        "file_name": export.file_name,
        "version": export.revision.name or f"revision {export.revision.number}",
        "quality": export.quality,
        "lines": export.lines,
        "range": f"{export.first_frame}–{export.last_frame}",
        "first": export.first_frame,
        "created": export.created.isoformat(),
        "size": captions.size(export.size) if export.size else None,
        "file": f"/exports/{export.id}/file" if export.file_key else None,
        "film": f"/exports/{export.id}/film" if export.file_key else None,
        "report_file": f"/clips/{export.clip_id}/exports/{export.id}/report",
        "figures": figures,
        "notes": notes,
        "work": describe(job) if job else None,
    }


def _told(export: Export) -> list[Figure]:
    """The numbers of a finished export's report."""
    figures, treatment = export.figures or {}, parse(export.revision.treatment)
    if "projection" in figures:
        return told_sphere_figures(treatment, figures)
    return told_figures(treatment, figures)


def _file_name(clip: Clip, version: str) -> str:
    """A name that any disk takes."""
    text = f"{clip.name} {version}".strip()
    kept = "".join(c if c.isalnum() or c in " -_" else "-" for c in text)
    return "-".join(kept.split()) + "-steady.mp4"
