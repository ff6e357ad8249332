"""The job tray: what is under way, what it still takes, and stopping or repeating it."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from flask import Blueprint, Response, jsonify
from sqlalchemy import and_, or_, select
from sqlalchemy.orm import Session

from ..jobs.queue import Kind
from ..store.library import NotFound
from ..store.models import OPEN_STATES, Clip, Job, now
from . import services

page = Blueprint("work", __name__, url_prefix="/work")
LATELY = timedelta(hours=12)
SHOWN = 30
PASSING = ("solve", "cost", "look")  # of no interest once they are done
_TITLES = {
    "ingest": "Taking in",
    "measure": "Measuring",
    "solve": "Solving",
    "cost": "Pricing",
    "look": "Looking at",
    "chart": "Reading charts of",
    "export": "Exporting",
}


def describe(work: Job) -> dict[str, Any]:
    """A job as the tray shows it."""
    left = None
    done_now = work.done - work.resumed
    if work.state == "running" and done_now > 0 and work.total and work.started:
        spent = (now() - work.started).total_seconds()
        left = spent / done_now * (work.total - work.done)
    name = work.clip.name if work.clip else work.recording.name
    return {
        "id": work.id,
        "kind": work.kind,
        "doing": _TITLES[work.kind],
        "title": f"{_TITLES[work.kind]} {name}",
        "state": work.state,
        "done": work.done,
        "total": work.total,
        "seconds_left": left,
        "message": work.message,
        "clip": work.clip_id if work.clip and work.clip.removed is None else None,
        "recording": work.recording_id,
        "export": work.export_id,
        "open": work.state in OPEN_STATES,
    }


def latest(session: Session, recording_id: int, kind: Kind) -> Job | None:
    """The last job of a kind for a recording."""
    return session.scalar(
        select(Job)
        .where(Job.recording_id == recording_id, Job.kind == kind)
        .order_by(Job.id.desc())
        .limit(1)
    )


def asked_once(session: Session, clip: Clip, kind: Kind, details: dict[str, object]) -> Job:
    """The job that does this, asked for now unless it ended badly just before."""
    work = latest(session, clip.recording_id, kind)
    if work is not None and work.details == details and work.state in ("failed", "cancelled"):
        return work
    return services().queue.ask(session, kind, clip.recording_id, clip_id=clip.id, details=details)


@page.get("")
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
            .order_by(Job.state.in_(OPEN_STATES).desc(), Job.id.desc())
            .limit(SHOWN)
        )
        return jsonify(work=[describe(w) for w in rows])


def _get(session: Any, work_id: int) -> Job:
    work: Job | None = session.get(Job, work_id)
    if work is None:
        raise NotFound("there is no such job.")
    return work


@page.post("/<int:work_id>/cancel")
def cancel(work_id: int) -> Response:
    with services().database.session() as session:
        work = _get(session, work_id)
        services().queue.cancel(session, work)
        return jsonify(describe(work))


@page.post("/<int:work_id>/retry")
def retry(work_id: int) -> Response:
    with services().database.session() as session:
        work = _get(session, work_id)
        services().queue.retry(session, work)
        return jsonify(describe(work))
