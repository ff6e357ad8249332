"""Taking a file in: it is checked, and by one pass over its pictures its proxy is made and its
marks are followed; its clips get to know their length, and are measured."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from sqlalchemy import select

from ..core.errors import KeenError, MediaError
from ..core.media.fields import Fields
from ..core.media.probe import scan
from ..core.media.proxy import damaged_in, poster_of, proxy_of
from ..core.pipeline.clip_kind import ClipKind, clip_kind
from ..core.pipeline.sphere_source import whole_scan
from ..core.progress import Progress
from ..store.models import Clip, Recording
from ..store.scans import TIMING, keep_scan, twin_of
from .following import follow_all, help_follow, keep_followed
from .kind import QUICK, JobKind, Task
from .measuring import Range, measure_range


def ingest(task: Task) -> None:
    take_in(task, task.progress)


def take_in(task: Task, progress: Progress) -> None:
    """Check a file, decode it once, for its proxy and for its marks, and measure the clips that are
    cut from it; as the kind of clip that ``details`` tell, if they do."""
    recording = task.recording
    with task.store.room_of(task.run.job_id, task.run.attempt) as room:
        try:
            count = _through(task, room, progress)
        except MediaError as error:
            _refuse(task, error.renamed(recording.name))
            raise
    progress(count, count)
    with task.database.session() as session:
        taken = session.get_one(Recording, recording.id)
        clips = session.scalars(
            select(Clip).where(
                Clip.recording_id == taken.id, Clip.revision_id.is_(None), Clip.removed.is_(None)
            )
        )
        ranges = {Range(clip.first_frame, clip.last_frame or count - 1) for clip in clips}
    for range_ in ranges:
        measure_range(replace(task, recording=taken), range_)


def _through(task: Task, room: Path, progress: Progress) -> int:
    """The one pass over a file, and what is kept of it. Returns how many frames there are. Raises
    MediaError for a file that cannot be used."""
    store, recording = task.store, task.recording
    told = task.details.get("kind")
    fields = None if recording.fields is None else Fields.from_json(recording.fields)
    found = scan(task.source, fields)
    if told is None:
        taken = clip_kind(task.source, found, 0, found.probe.frame_count - 1)
    else:
        taken = ClipKind(told, recording.kind_words, True, twin_of(recording))
    shown = whole_scan(found, taken.twin) if taken.kind == "sphere" else found
    proxy = proxy_of(shown, taken.kind)
    keep_scan(found, room, taken.kind, taken.twin)  # for whoever helps, and for good
    followed, parts = follow_all(task, shown, taken.kind, room, progress, proxy.on_the_way)
    proxy.join(parts, task.source, room / "proxy.mp4")
    kept = {
        "probe": found.probe.to_json(),
        "kind": taken.kind,
        "kind_words": taken.words,
        "damaged": damaged_in(parts) or None,
        "twin": taken.twin and taken.twin.to_json(),
        "timing_key": store.adopt("timings", room / TIMING),
        "proxy_key": store.adopt("proxies", room / "proxy.mp4"),
        "poster_key": store.adopt("posters", poster_of(parts)),
        "refusal": None,
    }
    with task.database.session.begin() as session:
        keep_followed(session, followed)
        row = session.get_one(Recording, recording.id)
        for name, value in kept.items():
            setattr(row, name, value)
        for clip in session.scalars(select(Clip).where(Clip.recording_id == row.id)):
            if clip.last_frame is None:
                clip.last_frame = found.probe.frame_count - 1
    return found.probe.frame_count


def _refuse(task: Task, error: KeenError) -> None:
    with task.database.session.begin() as session:
        session.get_one(Recording, task.recording.id).refusal = error.message


INGEST = JobKind(
    "ingest", QUICK, "Taking in", ingest, ending="Choosing a model for", help=help_follow
)
