"""The house seen from outside: a page for people, ``/healthz`` and ``/metrics`` for watchers."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from typing import Any

from flask import Blueprint, Response, jsonify, render_template
from prometheus_client import CollectorRegistry, generate_latest
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.exposition import CONTENT_TYPE_LATEST
from prometheus_client.metrics_core import Metric
from prometheus_client.registry import Collector
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from ..jobs.kinds import KINDS
from ..store import bin as removed
from ..store import house
from ..store.media_store import MediaStore
from ..store.models import Job, now
from . import captions, services
from .jobs import describe

blueprint = Blueprint("house", __name__)
LOW = 2 * 10**9  # bytes that are left, below which it is said


@blueprint.get("/house")
def page() -> str:
    return render_template("house.html", kept=removed.KEPT.days)


@blueprint.get("/house.json")
def listing() -> Response:
    kit = services()
    with kit.database.session() as session:
        heard = house.workers_heard(session)
        room = house.room(session, kit.store)
        clips = removed.removed_clips(session)
        return jsonify(
            workers=[f"heard of {age:.0f} s ago" for age in heard],
            work=[_told(job) for job in house.under_way(session)],
            pace=[_pace(one) for one in house.pace(session)],
            failures=[_told(job) for job in house.failures(session)],
            room={
                "free": captions.size(room.free),
                "whole": captions.size(room.whole),
                "low": room.free < LOW,
                "shoots": [{"name": n, "size": captions.size(size)} for n, size in room.shoots],
            },
            bin={"count": len(clips), "size": captions.size(room.bin)},
        )


def _told(job: Job) -> dict[str, Any]:
    """A piece of work with its whole story."""
    waited = (job.started or now()) - job.created
    story = [f"waited {_for(waited)}"]
    if job.started:
        story.append(f"ran {_for((job.finished or now()) - job.started)}")
    if job.attempt > 1:
        story.append(f"begun {job.attempt} times")
    if job.resumed:
        story.append(f"went on from frame {job.resumed}")
    return describe(job) | {"story": ", ".join(story)}


def _for(time: timedelta) -> str:
    seconds = max(time.total_seconds(), 0.0)
    return f"{seconds:.0f} s" if seconds < 120 else f"{seconds / 60:.0f} min"


def _counts(one: house.Pace) -> str:
    known = KINDS.get(one.kind)
    return known.counts if known else "steps"


def _pace(one: house.Pace) -> dict[str, Any]:
    known = KINDS.get(one.kind)
    rate = one.frames / one.seconds if one.seconds > 0 else 0.0
    words = f"{one.count} in the last hour, {one.seconds / one.count:.1f} s each"
    return {
        "title": f"{known.title} clips" if known else one.kind,
        "words": f"{words}, {rate:.1f} {_counts(one)} a second" if one.frames else words,
    }


@blueprint.post("/house/empty")
def empty() -> Response:
    """Let go for good all that was removed."""
    kit = services()
    with kit.database.session() as session:
        freed = removed.empty_bin(session, kit.store, timedelta())
    clips = "1 clip is" if freed.clips == 1 else f"{freed.clips} clips are"
    return jsonify(words=f"{clips} gone for good; {captions.size(freed.size)} freed.")


@blueprint.get("/healthz")
def health() -> tuple[Response, int]:
    """Whether work that is asked for would be done: 200, or 503 and why not."""
    kit = services()
    told: dict[str, Any] = {"database": False, "workers": 0, "free_bytes": None}
    try:
        with kit.database.session() as session:
            told |= {"database": True, "workers": len(house.workers_heard(session))}
            told["free_bytes"] = house.room(session, kit.store).free
    except (DBAPIError, OSError) as error:
        told["why"] = type(error).__name__
    fit = told["database"] and told["workers"] and told["free_bytes"]
    return jsonify(ok=bool(fit), **told), 200 if fit else 503


@blueprint.get("/metrics")
def metrics() -> Response:
    """The same in numbers, as Prometheus reads them."""
    kit = services()
    registry = CollectorRegistry()
    with kit.database.session() as session:
        registry.register(_Numbers(session, kit.store))
        return Response(generate_latest(registry), content_type=CONTENT_TYPE_LATEST)


class _Numbers(Collector):
    """What is measured at the moment of asking."""

    def __init__(self, session: Session, store: MediaStore) -> None:
        self._session, self._store = session, store

    def collect(self) -> Iterator[Metric]:
        session = self._session
        yield GaugeMetricFamily(
            "keen_workers", "Workers that are alive.", len(house.workers_heard(session))
        )
        jobs = GaugeMetricFamily("keen_jobs", "Pieces of work.", labels=["kind", "state"])
        for (kind, state), count in house.count_by_state(session).items():
            jobs.add_metric([kind, state], count)
        yield jobs
        since = house.oldest_waiting(session)
        yield GaugeMetricFamily(
            "keen_oldest_waiting_seconds", "Age of the piece of work that waits longest.",
            0 if since is None else (now() - since).total_seconds(),
        )  # fmt: skip
        spent = GaugeMetricFamily(
            "keen_job_seconds_mean", "Mean time of work done in the last hour.", labels=["kind"]
        )
        rate = GaugeMetricFamily(
            "keen_frames_per_second", "Pace of work done in the last hour.", labels=["kind"]
        )
        for one in house.pace(session):
            spent.add_metric([one.kind], one.seconds / one.count)
            if _counts(one) == "frames":
                rate.add_metric([one.kind], one.frames / max(one.seconds, 1e-9))
        yield from (spent, rate)
        room = house.room(session, self._store)
        yield GaugeMetricFamily("keen_store_free_bytes", "Room left on the disk.", room.free)
        yield GaugeMetricFamily("keen_store_bin_bytes", "Of what was removed.", room.bin)
        shoots = GaugeMetricFamily(
            "keen_store_bytes", "Recordings and exports of a shoot.", labels=["shoot"]
        )
        for name, size in room.shoots:
            shoots.add_metric([name], size)
        yield shoots
