"""The job tray: what is under way, what it still takes, and stopping or repeating it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from typing import Any

from flask import Blueprint, Response, jsonify
from sqlalchemy import and_, or_, select
from sqlalchemy.orm import Session, selectinload

from ..jobs.kinds import KINDS
from ..store.library import NotFound
from ..store.models import OPEN_STATES, Clip, Job, now
from . import services
from .requests import asker

blueprint = Blueprint("jobs", __name__, url_prefix="/work")
LATELY = timedelta(hours=12)
SHOWN = 30
PASSING = [name for name, kind in KINDS.items() if kind.passing]
WITH_NAMES = (selectinload(Job.clip), selectinload(Job.recording))


def describe(job: Job) -> dict[str, Any]:
    """A job as the tray shows it."""
    left = None
    done_now = job.done - job.resumed
    if job.state == "running" and done_now > 0 and job.total and job.started:
        spent = (now() - job.started).total_seconds()
        left = spent / done_now * (job.total - job.done)
    name = job.clip.name if job.clip else job.recording.name
    kind = KINDS.get(job.kind)
    doing = kind.title if kind else job.kind
    ending = bool(kind and kind.ending and job.state == "running" and 0 < job.total <= job.done)
    if kind and ending:
        doing = kind.ending
    return {
        "id": job.id,
        "kind": job.kind,
        "doing": doing,
        "ending": ending,
        "title": f"{doing} {name}",
        "state": "stopping" if job.cancel and job.state == "running" else job.state,
        "done": job.done,
        "total": job.total,
        "seconds_left": left,
        "message": job.message,
        "clip": job.clip_id if job.clip and job.clip.removed is None else None,
        "recording": job.recording_id,
        "export": job.export_id,
        "open": job.state in OPEN_STATES,
    }


def latest(session: Session, recording_id: int) -> Job | None:
    """The last job for a recording."""
    return session.scalar(
        select(Job).where(Job.recording_id == recording_id).order_by(Job.id.desc()).limit(1)
    )


def under_way(session: Session, recording_id: int, kinds: Sequence[str]) -> Job | None:
    """Work of some kinds on a recording that has not ended."""
    return session.scalar(
        select(Job)
        .where(
            Job.recording_id == recording_id, Job.kind.in_(kinds), Job.state.in_(OPEN_STATES),
            Job.cancel.is_(False),
        )
        .limit(1)
    )  # fmt: skip


def asked_once(
    session: Session, clip: Clip, kind: str, details: dict[str, object], purpose: str = ""
) -> Job:
    """The job that does this, asked for now unless it ended badly when it was last asked for."""
    last = session.scalar(
        select(Job)
        .where(
            Job.recording_id == clip.recording_id,
            Job.kind == kind,
            Job.details == details,
            Job.replaced.is_(False),
        )
        .order_by(Job.id.desc())
        .limit(1)
    )
    if last is not None and (last.cancel or last.state in ("failed", "cancelled")):
        return last  # whoever stopped it does not want it again at the next look
    return services().queue.ask(
        session, kind, clip.recording_id, clip_id=clip.id, details=details,
        asked_by=f"{asker()} {purpose}".strip(),
    )  # fmt: skip


@blueprint.get("")
def listed() -> Response:
    """Everything under way, then what failed or ended lately."""
    with services().database.session() as session:
        rows = session.scalars(
            select(Job)
            .where(
                or_(
                    Job.state.in_(OPEN_STATES),
                    and_(Job.created > now() - LATELY, Job.kind.not_in(PASSING)),
                )
            )
            .options(*WITH_NAMES)
            .order_by(Job.state.in_(OPEN_STATES).desc(), Job.id.desc())
            .limit(SHOWN)
        )
        return jsonify(work=[describe(job) for job in rows])


def _get(session: Session, job_id: int) -> Job:
    job = session.get(Job, job_id, options=WITH_NAMES)
    if job is None:
        raise NotFound("there is no such job.")
    return job


@blueprint.get("/<int:job_id>")
def one(job_id: int) -> Response:
    with services().database.session() as session:
        return jsonify(describe(_get(session, job_id)))


@blueprint.post("/<int:job_id>/cancel")
def cancel(job_id: int) -> Response:
    with services().database.session() as session:
        job = _get(session, job_id)
        services().queue.cancel(session, job)
        return jsonify(describe(job))


@blueprint.post("/<int:job_id>/retry")
def retry(job_id: int) -> Response:
    with services().database.session() as session:
        job = _get(session, job_id)
        services().queue.retry(session, job)
        return jsonify(describe(job))
