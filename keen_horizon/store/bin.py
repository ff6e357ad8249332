"""What was taken off the shelf, and giving its disk back.

A clip that was removed can be put back for :data:`KEPT`; then its rows go for good, and with them
the recording that no clip is cut from any more. Files go once no row names them. Those that came
only just now are left alone: their row may be on its way.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import Select, delete, or_, select, update
from sqlalchemy.orm import Session

from .media_store import MediaStore
from .models import (
    OPEN_STATES,
    Clip,
    Export,
    Followed,
    Job,
    Measure,
    Recording,
    Revision,
    Shoot,
    now,
)

KEPT = timedelta(days=7)
JUST_NOW = timedelta(minutes=10)
# Folders of the store whose files are named by rows, and the columns that name them.
NAMED = {
    "sources": Recording.source_key, "proxies": Recording.proxy_key,
    "posters": Recording.poster_key, "timings": Recording.timing_key,
    "measures": Measure.folder_key, "followed": Followed.folder_key,
    "exports": Export.file_key,
}  # fmt: skip


@dataclass(frozen=True)
class Freed:
    """How many clips went for good, and bytes of files."""

    clips: int
    size: int


def removed_clips(session: Session) -> list[Clip]:
    """Clips that are off the shelf, by themselves or with their shoot."""
    return list(session.scalars(_removed().order_by(Clip.id)))


def _removed(before: datetime | None = None) -> Select[Clip]:
    found = select(Clip).join(Clip.recording).join(Recording.shoot)
    if before is None:
        return found.where(or_(Clip.removed.is_not(None), Shoot.removed.is_not(None)))
    return found.where(or_(Clip.removed < before, Shoot.removed < before))


def empty_bin(session: Session, store: MediaStore, kept: timedelta = KEPT) -> Freed:
    """Let go for good what was removed longer than ``kept`` ago, and all files that no row names.
    What is still worked on waits until that has ended."""
    busy = select(Job.recording_id).where(Job.state.in_(OPEN_STATES))
    clips = session.scalars(
        _removed(now() - kept).where(Clip.recording_id.not_in(busy)).with_for_update(of=Clip)
    ).all()
    for clip in clips:
        _forget(session, clip)
    _forget_what_is_left(session)
    session.commit()
    return Freed(len(clips), _sweep(session, store))


def _forget(session: Session, clip: Clip) -> None:
    exports = select(Export.id).where(Export.clip_id == clip.id)
    session.execute(delete(Job).where(or_(Job.clip_id == clip.id, Job.export_id.in_(exports))))
    session.execute(delete(Export).where(Export.clip_id == clip.id))
    session.execute(update(Clip).where(Clip.id == clip.id).values(revision_id=None))
    session.execute(delete(Revision).where(Revision.clip_id == clip.id))
    session.execute(delete(Clip).where(Clip.id == clip.id))


def _forget_what_is_left(session: Session) -> None:
    """Recordings that no clip is cut from, and removed shoots that hold none."""
    lone = select(Recording.id).where(Recording.id.not_in(select(Clip.recording_id)))
    for table in (Job, Measure, Followed):
        session.execute(delete(table).where(table.recording_id.in_(lone)))
    session.execute(delete(Recording).where(Recording.id.in_(lone)))
    empty = Shoot.id.not_in(select(Recording.shoot_id))
    session.execute(delete(Shoot).where(Shoot.removed.is_not(None), empty))


def _sweep(session: Session, store: MediaStore) -> int:
    """Remove files that no row names; returns their bytes."""
    size = 0
    for kind, column in NAMED.items():
        named = {key for key in session.scalars(select(column)) if key}
        size += store.sweep(kind, named, JUST_NOW.total_seconds())
    return size
