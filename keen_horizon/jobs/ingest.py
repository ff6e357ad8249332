"""Taking a file in: it is checked, its proxy made, and its clips get to know their length."""

from __future__ import annotations

from sqlalchemy import select

from ..core.errors import KeenError, MediaError
from ..core.media.probe import scan
from ..core.media.proxy import LINES, SPHERE_LINES, make_proxy
from ..core.pipeline import Progress
from ..core.pipeline.clip_kind import ClipKind, clip_kind
from ..core.pipeline.sphere_source import whole_scan
from ..store.models import Clip, Recording
from ..store.scans import twin_of, write_timing
from .kind import QUICK, JobKind, Task


def ingest(task: Task) -> None:
    take_in(task, task.progress)


def take_in(task: Task, progress: Progress) -> None:
    """Check a file and make its proxy; as the kind of clip that ``details`` tell, if they do."""
    store, recording = task.store, task.recording
    told = task.details.get("kind")
    with store.workspace() as room:
        try:
            found = scan(task.source)
            if told is None:
                taken = clip_kind(task.source, found, 0, found.probe.frame_count - 1)
            else:
                taken = ClipKind(told, recording.kind_words, True, twin_of(recording))
            shown, lines = found, LINES
            if taken.kind == "sphere":
                shown, lines = whole_scan(found, taken.twin), SPHERE_LINES
            proxy, poster = room / "proxy.mp4", room / "poster.jpg"
            damaged = make_proxy(task.source, shown, proxy, poster, progress, lines)
        except MediaError as error:
            _refuse(task, error.renamed(recording.name))
            raise
        write_timing(found, room / "timing.npz")
        kept = {
            "probe": found.probe.to_json(),
            "kind": taken.kind,
            "kind_words": taken.words,
            "damaged": damaged or None,
            "twin": taken.twin and taken.twin.to_json(),
            "timing_key": store.adopt("timings", room / "timing.npz"),
            "proxy_key": store.adopt("proxies", proxy),
            "poster_key": store.adopt("posters", poster),
        }
    with task.database.session.begin() as session:
        row = session.get_one(Recording, recording.id)
        for name, value in kept.items():
            setattr(row, name, value)
        row.refusal = None
        for clip in session.scalars(select(Clip).where(Clip.recording_id == row.id)):
            if clip.last_frame is None:
                clip.last_frame = found.probe.frame_count - 1


def _refuse(task: Task, error: KeenError) -> None:
    with task.database.session.begin() as session:
        session.get_one(Recording, task.recording.id).refusal = error.message


INGEST = JobKind("ingest", QUICK, "Taking in", ingest)
