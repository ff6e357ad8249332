"""The finished picture of a treatment measured on request: drawn small, and followed anew."""

from __future__ import annotations

from ..core import pipeline
from ..core.media.encode import QUALITIES, Encoding
from ..core.pipeline.render_clip import drawing_of
from .kind import SLOW, JobKind, Task
from .solving import solved, wanted

LINES = 540  # of the picture that is drawn: marks are followed in one of that size at most
PASSES = 2  # over the frames: drawing, then measuring


def check(task: Task) -> None:
    """Keeps a :class:`.MeasuredAgain`."""
    measure, treatment = wanted(task)
    solution = solved(task, measure, treatment)
    source = task.solver.estimates(task.recording, measure).tracks
    with task.store.room_of(task.run.job_id, task.run.attempt) as room:
        target = room / "check.mp4"
        pipeline.render(
            task.source, task.scan, drawing_of(solution, treatment, LINES), measure.first_frame,
            target,
            encoding=Encoding(crf=QUALITIES["good"], preset="veryfast"),
            progress=lambda done, total: task.progress(done, PASSES * total),
        )  # fmt: skip
        again = pipeline.measured_again(
            target, solution, source, room / "again",
            lambda done, total: task.progress(total + done, PASSES * total),
        )  # fmt: skip
    task.solver.keep_check(measure, treatment, again)


CHECK = JobKind("check", SLOW, "Measuring the finished", check, replaceable=True, passing=True)
