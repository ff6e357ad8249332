"""Background work: what it does, how it ends, and what a killed worker costs."""

import json
import shutil
import signal
import time
from datetime import timedelta

import numpy as np
import pytest

from keen_horizon.core.errors import KeenError
from keen_horizon.core.media.probe import scan
from keen_horizon.core.pipeline.measure_tracks import Following
from keen_horizon.core.stations.motion import MOTION
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.jobs import exporting
from keen_horizon.jobs.lifecycle import Superseded, claim, run_of
from keen_horizon.jobs.solutions import Solver, solution_key
from keen_horizon.store import library, treatments
from keen_horizon.store.models import Clip, Export, Job, now
from keen_horizon.store.scans import stored_scan
from tests.integration.conftest import wait_for

pytestmark = pytest.mark.integration


def export_of(place, clip_id: int, **options) -> tuple[int, int]:
    """Ask for an export; returns its id and its work's."""
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        export = Export(
            clip_id=clip.id, revision_id=clip.revision_id, first_frame=clip.first_frame,
            last_frame=clip.last_frame, quality="good", lines=None, file_name="x.mp4",
        )  # fmt: skip
        session.add(export)
        session.commit()
        work = place.queue.ask(
            session, "export", clip.recording_id, clip_id=clip.id, export_id=export.id
        )
        return export.id, work.id


def test_a_file_is_taken_in_measured_and_exported(place, make_clip):
    path = make_clip("job.mp4", count=30)
    recording_id, clip_id = place.measured(path)
    recording = place.recording(recording_id)
    assert recording.probe["frame_count"] == 30
    assert scan(place.store.path(recording.proxy_key)).probe.frame_count == 30
    assert (stored_scan(recording, place.store).pts == scan(path).pts).all()
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        assert clip.revision.number == 1
        assert clip.shake["shake_after"] < clip.shake["shake_before"]
    export_id, work_id = export_of(place, clip_id)
    assert place.work_now(work_id) == "done"
    work = place.work(work_id)
    assert (work.done, work.total) == (30, 30)
    with place.database.session() as session:
        export = session.get_one(Export, export_id)
        assert scan(place.store.path(export.file_key)).probe.frame_count == 30
        assert len(export.report["frames"]) == 30
        json.dumps(export.report, allow_nan=False)


def test_settings_changes_never_measure_again(place, make_clip):
    _, clip_id = place.measured(make_clip("again.mp4"))
    solver = Solver(place.store)
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        before = session.query(Job).filter_by(kind="measure").count()
        measure = treatments.measure_of(session, clip)
        for setting in ("motion.calm=90", "motion.model=shift", "frame.edge=trim"):
            treatment = with_settings(Treatment(), [setting])
            treatments.change(session, clip, treatment)
            assert treatments.measure_of(session, clip).id == measure.id
            assert solver.solve(clip.recording, measure, treatment)
        assert session.query(Job).filter_by(kind="measure").count() == before


def test_the_first_look_fits_nothing_again(place, make_clip, monkeypatch):
    _, clip_id = place.measured(make_clip("kept.mp4", count=40))
    monkeypatch.setattr("keen_horizon.jobs.solutions.motion_for", None)
    solver = Solver(place.store)
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measure_of(session, clip)
        first = treatments.current(clip)
        for calm in (first.motion.calm, 40.0, 75.0):
            treatment = first.changed(MOTION, calm=calm)
            assert solver.find(clip.recording, measure, treatment).motion.choice


def test_work_that_has_counted_its_frames_says_what_it_still_does(place, make_clip):
    recording_id, clip_id = place.measured(make_clip("counted.mp4", count=30))
    measuring = place.ask("measure", recording_id, details={"first": 0, "last": 9})
    exporting = export_of(place, clip_id)[1]

    def titles(done: int) -> set[str]:
        with place.database.session() as session:
            for job_id in (measuring, exporting):
                job = session.get_one(Job, job_id)
                job.state, job.done, job.total = "running", done, 10
            session.commit()
        jobs = place.get("/work").json["work"]
        return {job["doing"] for job in jobs if job["id"] in (measuring, exporting)}

    assert titles(4) == {"Measuring", "Exporting"}
    assert titles(10) == {"Choosing a model for", "Measuring the finished"}


def test_a_file_is_decoded_once_and_ranges_are_cut_out_of_what_was_seen_then(
    place, make_clip, monkeypatch
):
    recording_id, clip_id = place.add(make_clip("part.mp4", count=40))
    assert place.work_now(place.ask("ingest", recording_id)) == "done"
    with place.database.session() as session:
        whole = treatments.measure_of(session, library.get_clip(session, clip_id))
        assert whole.seconds > 0
    monkeypatch.setattr(Following, "go", None)  # nobody looks at pixels again
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        treatments.set_range(clip, 10, 24)
        session.commit()
        assert treatments.measure_of(session, clip) is None
    work_id = place.ask("measure", recording_id, details={"first": 10, "last": 24})
    assert place.work_now(work_id) == "done"
    assert place.work(work_id).total == 15
    all_of_it = Tracks.read(place.store.path(whole.folder_key))
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measure_of(session, clip)
        assert measure.first_frame == 10
        part = Tracks.read(place.store.path(measure.folder_key))
        assert (len(part), part.first) == (15, 10)
        np.testing.assert_array_equal(part.records, all_of_it.window(10, 25).records)
        treatments.set_range(clip, 0, 39)
        assert treatments.measure_of(session, clip) is not None


def test_a_refused_file_is_named_by_its_own_name(place, tmp_path):
    path = tmp_path / "holiday.mp4"
    path.write_bytes(b"\x00\x00\x00\x18ftypisom" + bytes(200))
    recording_id, _ = place.add(path)
    work_id = place.ask("ingest", recording_id)
    assert place.work_now(work_id) == "failed"
    assert place.recording(recording_id).refusal.startswith("holiday.mp4: ")
    assert place.work(work_id).message.startswith("holiday.mp4: ")


def test_the_same_work_is_asked_for_once(place, make_clip):
    recording_id, _ = place.add(make_clip("once.mp4"))
    first = place.ask("ingest", recording_id)
    assert place.ask("ingest", recording_id) == first
    assert place.ask("measure", recording_id, details={"first": 0, "last": 5}) != first
    assert place.work_now(first) == "done"
    assert place.ask("ingest", recording_id) != first


def test_cancel_and_retry(place, make_clip):
    recording_id, clip_id = place.measured(make_clip("cancel.mp4", count=60))
    _, work_id = export_of(place, clip_id)
    # Before it began: at once.
    with place.database.session() as session:
        place.queue.cancel(session, session.get_one(Job, work_id))
    assert place.work_now(work_id) == "cancelled"
    with place.database.session() as session:
        place.queue.retry(session, session.get_one(Job, work_id))
    assert place.work(work_id).state == "queued"
    # While it runs: at the next look up.
    with run_of(place.database, work_id) as run:
        with place.database.session() as session:
            place.queue.cancel(session, session.get_one(Job, work_id))
        place.runner.do(run)
    assert place.work(work_id).state == "cancelled"
    with place.database.session() as session:
        export = session.get_one(Export, place.work(work_id).export_id)
        assert export.file_key is None
        place.queue.retry(session, session.get_one(Job, work_id))
    assert place.work_now(work_id) == "done"


def test_whoever_was_replaced_changes_nothing(place, make_clip):
    recording_id, _ = place.add(make_clip("twice.mp4"))
    work_id = place.ask("ingest", recording_id)
    with pytest.raises(Superseded), run_of(place.database, work_id) as slow:
        with run_of(place.database, work_id) as quick:
            place.runner.do(quick)
        assert place.work(work_id).state == "done"
        slow.progress(1, 1)
    work = place.work(work_id)
    assert (work.state, work.attempt) == ("done", 2)


def test_a_failed_export_leaves_no_file(place, make_clip, monkeypatch):
    recording_id, clip_id = place.measured(make_clip("nofile.mp4"))
    export_id, work_id = export_of(place, clip_id)
    source = place.store.path(place.recording(recording_id).source_key)
    kept = source.read_bytes()
    source.unlink()
    try:
        assert place.work_now(work_id) == "failed"
    finally:
        source.write_bytes(kept)
    with place.database.session() as session:
        assert session.get_one(Export, export_id).file_key is None
    assert list((place.store.root / "workspaces").iterdir()) == []


def test_a_long_clip_is_solved_by_a_worker_and_kept(place, make_clip, monkeypatch):
    recording_id, clip_id = place.measured(make_clip("long.mp4"))
    monkeypatch.setattr("keen_horizon.jobs.solutions.SOLVED_AT_ONCE", 10)
    with place.database.session() as session:
        clip = library.get_clip(session, clip_id)
        measure = treatments.measure_of(session, clip)
        treatment = with_settings(Treatment(), ["motion.calm=33"])
        assert Solver(place.store).find(clip.recording, measure, treatment) is None
        details = {"measure": measure.id, "treatment": treatment.model_dump(mode="json")}
    assert place.work_now(place.ask("solve", recording_id, details=details)) == "done"
    assert place.store.path(solution_key(measure, treatment)).exists()
    again = Solver(place.store).find(place.recording(recording_id), measure, treatment)
    assert again.report["frame_count"] == 24


def test_a_newer_wish_replaces_solves_that_nobody_has_begun(place, make_clip):
    recording_id, clip_id = place.measured(make_clip("wishes.mp4"))
    ids = [
        place.ask("solve", recording_id, clip_id=clip_id, details={"calm": calm})
        for calm in (1, 2, 2, 3)
    ]
    assert ids[1] == ids[2]
    with place.database.session() as session:
        states = {i: session.get_one(Job, i).state for i in ids}
    assert states == {ids[0]: "cancelled", ids[1]: "cancelled", ids[3]: "queued"}


def test_work_that_the_queue_was_never_told_of_is_found(place, make_clip):
    recording_id, _ = place.add(make_clip("untold.mp4"))
    with place.database.session() as session:
        # Written down, and then whoever wrote it died.
        forgotten = Job(kind="ingest", recording_id=recording_id, details={"which": "forgotten"})
        forgotten.created = now() - timedelta(minutes=1)
        fresh = Job(kind="ingest", recording_id=recording_id, details={"which": "fresh"})
        session.add_all([forgotten, fresh])
        session.commit()
        ids = forgotten.id, fresh.id
    place.queue.requeue_lost(place.database)
    assert place.work(ids[0]).queue_job is not None
    assert place.work(ids[1]).queue_job is None  # its writer may still be about to


def test_work_that_kills_every_worker_is_given_up_in_words(place, make_clip):
    recording_id, _ = place.add(make_clip("poison.mp4"))
    work_id = place.ask("ingest", recording_id)
    for attempt in (1, 2, 3):
        # Claimed, and never heard of again.
        with place.database.session.begin() as session:
            assert claim(place.database, session.get_one(Job, work_id)) is not None
        assert place.work(work_id).attempt == attempt
    assert place.work_now(work_id) == "failed"
    work = place.work(work_id)
    assert work.message.startswith("poison.mp4: the worker died 3 times")
    assert work.attempt == 3
    with place.database.session() as session:
        place.queue.retry(session, session.get_one(Job, work_id))
    assert place.work_now(work_id) == "done"


def test_work_that_gets_further_each_time_is_never_given_up(place, make_clip):
    recording_id, _ = place.add(make_clip("further.mp4"))
    work_id = place.ask("ingest", recording_id)
    for attempt in range(6):
        with place.database.session.begin() as session:
            run = claim(place.database, session.get_one(Job, work_id))
        run.progress(250 * attempt + 1, 5000)
        work = place.work(work_id)
        assert (work.resumed, work.lost <= 1) == (250 * attempt, True)


def test_an_export_goes_on_where_its_worker_was_killed(place, make_clip, monkeypatch):
    for bound in ("LENGTH", "LONGEST"):
        monkeypatch.setattr(f"keen_horizon.core.media.segments.{bound}", 10)
    _, clip_id = place.measured(make_clip("onwards.mp4", count=40))
    export_id, work_id = export_of(place, clip_id)
    with place.database.session.begin() as session:
        lost = claim(place.database, session.get_one(Job, work_id))
    copied = place.store.root / "copied"
    with pytest.raises(RuntimeError, match="killed"):
        place.runner.do(_killed_at(lost, 25, place, copied))
    # As the killed process would have left it: nothing was cleared up.
    copied.rename(place.store.root / "workspaces" / f"work-{work_id}-1")
    assert place.work_now(work_id) == "done"
    assert place.work(work_id).resumed == 20
    with place.database.session() as session:
        export = session.get_one(Export, export_id)
        assert scan(place.store.path(export.file_key)).probe.frame_count == 40
    assert list((place.store.root / "workspaces").iterdir()) == []


def test_a_film_can_be_had_before_its_numbers_and_whatever_becomes_of_them(
    place, make_clip, monkeypatch
):
    _, clip_id = place.measured(make_clip("soon.mp4", count=20))
    export_id, work_id = export_of(place, clip_id)
    offered = []

    def broken(film, *rest):
        answer = place.client.get(f"/exports/{export_id}/file")
        offered.append(answer.get_data() == film.read_bytes())
        raise KeenError("it cannot be measured.")

    with monkeypatch.context() as patch:
        patch.setattr(exporting.pipeline, "measured_again", broken)
        assert place.work_now(work_id) == "failed"
    assert offered == [True]
    with place.database.session() as session:
        assert session.get_one(Export, export_id).figures is None
        place.queue.retry(session, session.get_one(Job, work_id))
        session.commit()
    assert place.work_now(work_id) == "done"
    with place.database.session() as session:
        export = session.get_one(Export, export_id)
        assert export.figures["shake_after"] >= 0
        assert scan(place.store.path(export.file_key)).probe.frame_count == 20


def _killed_at(run, frame: int, place, copied):
    """The run, made to end at a frame as if killed; its workspace is copied as it stood then."""
    progress = run.progress

    def last_words(done: int, total: int) -> None:
        progress(done, total)
        if done == frame:
            room = place.store.root / "workspaces" / f"work-{run.job_id}-{run.attempt}"
            shutil.copytree(room, copied)
            raise RuntimeError("killed")

    run.progress = last_words
    return run


# --- a worker that is killed ----------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["measure", "export"])
def test_killing_a_worker_loses_no_accepted_work(place, make_clip, workers, kind):
    path = make_clip(f"kill-{kind}.mp4", width=640, height=480, count=150)
    export_id = None
    if kind == "measure":
        recording_id, clip_id = place.add(path)
        assert place.work_now(place.ask("ingest", recording_id)) == "done"
        details = {"first": 0, "last": 149, "closer": True}  # which has to look at pixels again
        work_id = place.ask("measure", recording_id, details=details)
    else:
        recording_id, clip_id = place.measured(path)
        export_id, work_id = export_of(place, clip_id)
    first = workers()
    wait_for(lambda: place.work(work_id).done > 5, seconds=150, every=0.05)
    first.send_signal(signal.SIGKILL)
    first.wait()
    assert place.work(work_id).state == "running"
    if export_id is not None:
        with place.database.session() as session:
            assert session.get_one(Export, export_id).file_key is None
    killed = time.monotonic()
    workers(patient=kind == "measure")  # as they are in use; which takes its time
    wait_for(lambda: place.work(work_id).attempt >= 2, seconds=60)
    assert time.monotonic() - killed < 60
    wait_for(lambda: place.work(work_id).state == "done", seconds=120)
    with place.database.session() as session:
        if export_id is not None:
            export = session.get_one(Export, export_id)
            assert scan(place.store.path(export.file_key)).probe.frame_count == 150
        else:
            clip = session.get_one(Clip, clip_id)
            assert treatments.measure_of(session, clip) is not None


def test_what_a_clip_tells_of_its_angle_is_found_once_and_kept(place, make_clip, monkeypatch):
    recording_id, clip_id = place.measured(make_clip("angle.mp4"))
    with place.database.session() as session:
        measure = treatments.measure_of(session, library.get_clip(session, clip_id))
    recording = place.recording(recording_id)
    found = Solver(place.store).estimates(recording, measure).angle()
    monkeypatch.setattr("keen_horizon.core.pipeline.estimate_motion.angle_of_view", None)
    estimates = Solver(place.store).estimates(recording, measure)
    assert estimates.angle() == found
    assert estimates.window(2, 9).angle() == found
    turning = with_settings(Treatment(), ["motion.model=rotation"])
    assert Solver(place.store).solve(recording, measure, turning).motion.angle == found
