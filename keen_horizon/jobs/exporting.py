"""Rendering an export."""

from __future__ import annotations

import time
from dataclasses import replace
from pathlib import Path
from typing import Any, NamedTuple

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import pipeline
from ..core.errors import KeenError
from ..core.media.damage import damaged_within
from ..core.media.encode import QUALITIES, Encoding
from ..core.pipeline import Solution
from ..core.pipeline.film import Film
from ..core.pipeline.render_clip import drawing_of, flat_film
from ..core.pipeline.sphere_film import sphere_film
from ..core.pipeline.sphere_reports import shake_in_file, sphere_report
from ..core.pipeline.sphere_solution import SphereSolution
from ..core.stations.motion import MOTION
from ..core.stations.view import VIEW
from ..core.treatment import Treatment, parse
from ..store.models import Export, Measure, now
from .kind import SLOW, JobKind, Task
from .parts import helped, shared
from .solving import solution_of

PER_FRAME = ("frames", "conventions")  # parts of a report that no page shows


def export(task: Task) -> None:
    asked = _asked(task)
    with task.store.room_of(task.run.job_id, task.run.attempt) as room:
        report = _exported(task, asked, room)
    with task.database.session.begin() as session:
        row = session.get_one(Export, task.export_id)
        row.report = report
        row.figures = {name: part for name, part in report.items() if name not in PER_FRAME}


def help_export(task: Task) -> None:
    """Draw parts of an export that another worker is at."""
    asked = _asked(task)
    room = task.store.place_of(task.run.job_id, task.run.attempt)
    if room.exists():
        solution = solution_of(task, asked.measure, asked.treatment)
        _film(task, asked, solution).draw_segments(room, *helped(task))


class Asked(NamedTuple):
    """What is to be exported, of which measure, and how it is treated."""

    row: Export
    measure: Measure
    treatment: Treatment


def _asked(task: Task) -> Asked:
    if task.export_id is None:
        raise KeenError("this work does not say what is to be exported.", remedy="Export it again.")
    with task.database.session() as session:
        row = session.get_one(Export, task.export_id)
        return Asked(row, _measure_of(session, row), parse(row.revision.treatment))


def _film(task: Task, asked: Asked, solution: Solution | SphereSolution) -> Film[Any]:
    """The film to be drawn, whoever draws it."""
    row, treatment = asked.row, asked.treatment
    encoding = Encoding(crf=QUALITIES[row.quality])
    if isinstance(solution, SphereSolution):
        return sphere_film(task.source, task.scan, solution, treatment, encoding=encoding)
    drawing = drawing_of(solution, treatment, row.lines)
    return flat_film(task.source, task.scan, drawing, row.first_frame, encoding=encoding)


def _offer(task: Task, film: Path) -> Path:
    """Keep a finished film, which can be had from now on: its numbers follow. Where it lies."""
    size = film.stat().st_size
    key = task.store.adopt("exports", film)
    with task.database.session.begin() as session:
        row = session.get_one(Export, task.export_id)
        row.file_key, row.size, row.finished = key, size, now()
    return task.store.path(key)


def _exported(task: Task, asked: Asked, room: Path) -> dict[str, Any]:
    """A film drawn in a ``room``, and offered: what came of it."""
    row, measure, treatment = asked
    started = time.monotonic()
    solution = solution_of(task, measure, treatment)
    after = time.monotonic()
    film = _film(task, asked, solution)
    with shared(task, film.segments(room)) as share:
        rendered = film.render(room / "export.mp4", share.progress, room=room, handed=share.handed)
    kept, made = _offer(task, room / "export.mp4"), time.monotonic()
    # A render that was taken up again has not seen all frames; whoever took the file in has.
    damaged = damaged_within(task.recording.damaged, row.first_frame, measure.last_frame)
    rendered = replace(rendered, damaged=tuple(damaged))

    def checking(done: int, total: int) -> None:
        task.progress(total, total)  # all frames are made; it can still be cancelled

    def seconds() -> dict[str, float]:
        return {
            "measure": measure.seconds,
            "solve": after - started,
            "render": made - after,
            "check": time.monotonic() - made,
        }

    if isinstance(solution, SphereSolution):
        turned = None
        if not treatment.of(VIEW).on:
            nadir = treatment.of(MOTION).nadir
            turned = shake_in_file(kept, nadir, room / "again", checking)
        return sphere_report(solution, treatment, rendered, seconds(), turned)
    source = task.solver.estimates(task.recording, measure).tracks
    again = pipeline.measured_again(kept, solution, source, room / "again", checking)
    edges = pipeline.edges_report(task.source, task.scan, row.first_frame, measure.last_frame, kept)
    return pipeline.correction_report(solution, treatment, rendered, seconds(), again, edges)


def _measure_of(session: Session, export: Export) -> Measure:
    found = session.scalars(
        select(Measure).where(
            Measure.recording_id == export.clip.recording_id,
            Measure.first_frame == export.first_frame,
            Measure.last_frame == export.last_frame,
            Measure.kind == export.clip.recording.kind,
        )
    ).all()
    # The one the clip is looked at with, if there are two.
    measure = min(found, key=lambda m: m.closer != export.clip.closer, default=None)
    if measure is None:
        raise KeenError("the clip has not been measured.", remedy="Open the clip first.")
    return measure


EXPORT = JobKind(
    "export", SLOW, "Exporting", export, ending="Measuring the finished", help=help_export
)
