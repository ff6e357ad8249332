"""What each kind of work does."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from ..core import pipeline
from ..core.errors import KeenError, MediaError, disk_errors
from ..core.media.encode import QUALITIES, Encoding
from ..core.media.probe import Scan, scan
from ..core.media.proxy import make_proxy
from ..core.motion.estimate import base_motion
from ..core.motion.serialization import write_motion
from ..core.path.solution import Solution, first_treatment
from ..core.treatment import Treatment, parse
from ..store import treatments
from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.models import Clip, Export, Job, Measure, Recording, now
from ..store.timing import stored_scan, write_timing
from .charts import read_charts
from .costs import CostCurves
from .frame_cache import FrameCache
from .lifecycle import Run
from .solutions import Solver


class JobRunner:
    """Does the work. One an operating-system process."""

    def __init__(self, database: Database, vault: MediaStore) -> None:
        self.database, self.vault = database, vault
        self._solver = Solver(vault)

    def do(self, run: Run) -> None:
        with self.database.session() as session:
            work = session.get_one(Job, run.work_id)
            kind, details = work.kind, dict(work.details)
            recording = session.get_one(Recording, work.recording_id)
            export_id = work.export_id
        try:
            with disk_errors(Path(recording.name)):
                self._do(run, kind, recording, details, export_id)
        except KeenError as error:
            # The vault's file names mean nothing to the person who gave the file.
            raise (error.renamed(recording.name) if error.file else error) from error

    def _do(
        self,
        run: Run,
        kind: str,
        recording: Recording,
        details: dict[str, Any],
        export_id: int | None,
    ) -> None:
        match kind:
            case "ingest":
                self._ingest(run, recording)
            case "measure":
                self._measure(run, recording, details)
            case "solve":
                self._solve(run, recording, details)
            case "cost":
                self._cost(run, recording, details)
            case "look":
                found = stored_scan(recording, self.vault)
                FrameCache(self.vault).take(recording, found, int(details["frame"]))
            case "chart":
                found = stored_scan(recording, self.vault)
                read_charts(self.vault, recording, found, details, run.progress)
            case "export" if export_id is not None:
                self._export(run, recording, export_id)

    def _ingest(self, run: Run, recording: Recording) -> None:
        """Check a file, make its proxy, and let its clips know how long they are."""
        source = self.vault.path(recording.source_key)
        with self.vault.workspace() as room:
            try:
                found = scan(source)
                make_proxy(source, found, room / "proxy.mp4", room / "poster.jpg", run.progress)
            except MediaError as error:
                self._refuse(recording, error.renamed(recording.name))
                raise
            write_timing(found, room / "timing.npz")
            kept = {
                "probe": found.probe.to_json(),
                "timing_key": self.vault.adopt("timings", room / "timing.npz"),
                "proxy_key": self.vault.adopt("proxies", room / "proxy.mp4"),
                "poster_key": self.vault.adopt("posters", room / "poster.jpg"),
            }
        with self.database.session.begin() as session:
            row = session.get_one(Recording, recording.id)
            for name, value in kept.items():
                setattr(row, name, value)
            row.refusal = None
            for clip in session.scalars(select(Clip).where(Clip.recording_id == row.id)):
                if clip.last_frame is None:
                    clip.last_frame = found.probe.frame_count - 1

    def _refuse(self, recording: Recording, error: KeenError) -> None:
        with self.database.session.begin() as session:
            session.get_one(Recording, recording.id).refusal = error.message

    def _measure(self, run: Run, recording: Recording, details: dict[str, Any]) -> None:
        """Measure a range, and give its untouched clips their first treatment."""
        first, last = int(details["first"]), int(details["last"])
        closer = bool(details.get("closer", False))
        found = stored_scan(recording, self.vault)
        source = self.vault.path(recording.source_key)
        canvas = found.probe.canvas
        started = time.monotonic()
        with self.vault.room_of(run.work_id, run.attempt) as room:
            folder = room / "measure"
            measured = pipeline.measure(
                source, found, first, last, folder, run.progress, closer=closer
            )
            motion = base_motion(measured, canvas, "similarity")
            write_motion(base_motion(measured, canvas, "shift"), folder)
            write_motion(motion, folder)
            seconds = time.monotonic() - started
            key = self.vault.adopt_folder("measures", folder)
        with self.database.session.begin() as session:
            session.execute(
                insert(Measure)
                .values(
                    recording_id=recording.id,
                    first_frame=first,
                    last_frame=last,
                    closer=closer,
                    folder_key=key,
                    seconds=seconds,
                    created=now(),
                )
                .on_conflict_do_nothing()
            )
            for clip in session.scalars(
                select(Clip).where(
                    Clip.recording_id == recording.id,
                    Clip.first_frame == first,
                    Clip.last_frame == last,
                    Clip.revision_id.is_(None),
                )
            ):
                treatments.change(session, clip, first_treatment(motion, canvas))
        self._note_shake(run, recording, first, last)

    def _note_shake(self, run: Run, recording: Recording, first: int, last: int) -> None:
        """The shake figures the shelf shows."""
        with self.database.session.begin() as session:
            for clip in session.scalars(
                select(Clip).where(
                    Clip.recording_id == recording.id,
                    Clip.first_frame == first,
                    Clip.last_frame == last,
                )
            ):
                measure = treatments.measure_of(session, clip)
                if measure is not None:
                    solution = self._solved(run, recording, measure, treatments.current(clip))
                    clip.shake = shelf_figures(solution.report)

    def _solve(self, run: Run, recording: Recording, details: dict[str, Any]) -> None:
        self._solved(run, recording, *self._wanted(details))

    def _solved(
        self, run: Run, recording: Recording, measure: Measure, treatment: Treatment
    ) -> Solution:
        """A solution, whatever it takes: points to be held are followed first."""
        self._follow(run, recording, measure, treatment)
        solution = self._solver.find(recording, measure, treatment, patient=True)
        assert solution is not None
        return solution

    def _follow(
        self, run: Run, recording: Recording, measure: Measure, treatment: Treatment
    ) -> None:
        points = self._solver.to_follow(measure, treatment)
        if not points:
            return
        found = stored_scan(recording, self.vault)
        source, canvas = self.vault.path(recording.source_key), found.probe.canvas
        motion = self._solver.base_motion(recording, measure, "similarity")
        for k, point in enumerate(points):

            def progress(done: int, total: int, k: int = k) -> None:
                run.progress(k * total + done, len(points) * total)

            track = pipeline.follow(source, found, canvas, motion, point, progress)
            self._solver.keep_track(measure, point, track)

    def _cost(self, run: Run, recording: Recording, details: dict[str, Any]) -> None:
        curves = CostCurves(self.vault, self._solver)
        measure, treatment = self._wanted(details)
        self._follow(run, recording, measure, treatment)
        curves.work_out(recording, measure, treatment, run.progress)

    def _wanted(self, details: dict[str, Any]) -> tuple[Measure, Treatment]:
        """What :func:`.solutions.solving_details` wrote down."""
        with self.database.session() as session:
            measure = session.get_one(Measure, int(details["measure"]))
        return measure, parse(details["treatment"])

    def _export(self, run: Run, recording: Recording, export_id: int) -> None:
        with self.database.session() as session:
            export = session.get_one(Export, export_id)
            treatment = parse(export.revision.treatment)
            measure = self._measure_for(session, export)
        source = self.vault.path(recording.source_key)
        found: Scan = stored_scan(recording, self.vault)
        started = time.monotonic()
        solution = self._solved(run, recording, measure, treatment)
        solved = time.monotonic()
        with self.vault.room_of(run.work_id, run.attempt) as room:
            target = room / "export.mp4"
            rendered = pipeline.render(
                source,
                found,
                solution.chain,
                export.first_frame,
                target,
                bare=treatment.edge == "leave",
                lenders=pipeline.lenders_of(solution, treatment),
                encoding=Encoding(crf=QUALITIES[export.quality]),
                lines=export.lines,
                room=room,
                progress=run.progress,
            )
            seconds = {
                "measure": measure.seconds,
                "solve": solved - started,
                "render": time.monotonic() - solved,
            }
            report = pipeline.correction_report(solution, treatment, rendered, seconds)
            size = Path(target).stat().st_size
            key = self.vault.adopt("exports", target)
        with self.database.session.begin() as session:
            row = session.get_one(Export, export_id)
            row.file_key, row.size, row.report, row.finished = key, size, report, now()

    @staticmethod
    def _measure_for(session: Session, export: Export) -> Measure:
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


def shelf_figures(report: dict[str, Any]) -> dict[str, float]:
    """The few numbers a shelf card shows."""
    names = ("shake_before", "shake_after", "shake_accuracy", "picture_kept")
    return {name: report[name] for name in names}
