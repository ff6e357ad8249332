"""Rendering an export."""

from __future__ import annotations

import time

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import pipeline
from ..core.errors import KeenError
from ..core.media.encode import QUALITIES, Encoding
from ..core.pipeline.render_clip import drawing_of
from ..core.treatment import parse
from ..store.models import Export, Measure, now
from .kind import SLOW, JobKind, Task
from .solving import solved

PER_FRAME = ("frames", "conventions")  # parts of a report that no page shows


def export(task: Task) -> None:
    if task.export_id is None:
        raise KeenError("this work does not say what is to be exported.", remedy="Export it again.")
    with task.database.session() as session:
        row = session.get_one(Export, task.export_id)
        treatment = parse(row.revision.treatment)
        measure = _measure_of(session, row)

    def checking(done: int, total: int) -> None:
        task.progress(total, total)  # all frames are made; it can still be cancelled

    started = time.monotonic()
    solution = solved(task, measure, treatment)
    after = time.monotonic()
    with task.store.room_of(task.run.job_id, task.run.attempt) as room:
        target = room / "export.mp4"
        rendered = pipeline.render(
            task.source, task.scan, drawing_of(solution, treatment, row.lines), row.first_frame,
            target,
            encoding=Encoding(crf=QUALITIES[row.quality]), room=room,
            progress=task.progress,
        )  # fmt: skip
        made = time.monotonic()
        source = task.solver.estimates(task.recording, measure).tracks
        again = pipeline.measured_again(target, solution, source, room / "again", checking)
        edges = pipeline.edges_report(
            task.source, task.scan, row.first_frame, measure.last_frame, target
        )
        seconds = {
            "measure": measure.seconds,
            "solve": after - started,
            "render": made - after,
            "check": time.monotonic() - made,
        }
        report = pipeline.correction_report(solution, treatment, rendered, seconds, again, edges)
        size = target.stat().st_size
        key = task.store.adopt("exports", target)
    with task.database.session.begin() as session:
        row = session.get_one(Export, task.export_id)
        row.file_key, row.size, row.finished = key, size, now()
        row.report = report
        row.figures = {name: part for name, part in report.items() if name not in PER_FRAME}


def _measure_of(session: Session, export: Export) -> Measure:
    found = session.scalars(
        select(Measure).where(
            Measure.recording_id == export.clip.recording_id,
            Measure.first_frame == export.first_frame,
            Measure.last_frame == export.last_frame,
        )
    ).all()
    # The one the clip is looked at with, if there are two.
    measure = min(found, key=lambda m: m.closer != export.clip.closer, default=None)
    if measure is None:
        raise KeenError("the clip has not been measured.", remedy="Open the clip first.")
    return measure


EXPORT = JobKind("export", SLOW, "Exporting", export, ending="Measuring the finished")
