"""What the house knows of itself: its workers, its work, its room, what went wrong lately."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import BigInteger, Column, DateTime, MetaData, Table, func, select
from sqlalchemy.orm import Session, selectinload

from .media_store import MediaStore
from .models import OPEN_STATES, Clip, Export, Job, Recording, Shoot, now

HEARD = timedelta(seconds=20)  # since when a worker has to have been heard of
LATELY = timedelta(hours=1)
FAILURES = 10
_workers = Table(
    "procrastinate_workers",
    MetaData(),
    Column("id", BigInteger),
    Column("last_heartbeat", DateTime(timezone=True)),
)


@dataclass(frozen=True)
class Room:
    """Bytes of the store's disk: ``free`` and in all; of recordings and exports by shoot; of those
    in the bin."""

    free: int
    whole: int
    shoots: tuple[tuple[str, int], ...]
    bin: int


@dataclass(frozen=True)
class Pace:
    """Of a kind of work that was done lately: how many, how long they took together, frames."""

    kind: str
    count: int
    seconds: float
    frames: int


def workers_heard(session: Session) -> list[float]:
    """Seconds since each worker that is alive was heard of."""
    beats = session.scalars(select(_workers.c.last_heartbeat).order_by(_workers.c.id)).all()
    present = now()
    return [(present - beat).total_seconds() for beat in beats if present - beat < HEARD]


def under_way(session: Session) -> list[Job]:
    """Work that is being done, then what waits, oldest first."""
    rows = session.scalars(
        select(Job)
        .where(Job.state.in_(OPEN_STATES))
        .options(selectinload(Job.clip), selectinload(Job.recording))
        .order_by(Job.state.desc(), Job.id)
    )
    return list(rows)


def count_by_state(session: Session) -> dict[tuple[str, str], int]:
    """How many pieces of work there are of each kind and state."""
    rows = session.execute(select(Job.kind, Job.state, func.count()).group_by(Job.kind, Job.state))
    return {(kind, state): count for kind, state, count in rows}


def oldest_waiting(session: Session) -> datetime | None:
    """Since when the piece of work waits that waits longest."""
    return session.scalar(select(func.min(Job.created)).where(Job.state == "queued"))


def pace(session: Session) -> list[Pace]:
    """How fast work went that ended well within the last hour."""
    spent = func.extract("epoch", Job.finished - Job.started)
    rows = session.execute(
        select(Job.kind, func.count(), func.sum(spent), func.sum(Job.total - Job.resumed))
        .where(Job.state == "done", Job.finished > now() - LATELY, Job.started.is_not(None))
        .group_by(Job.kind)
        .order_by(Job.kind)
    )
    return [
        Pace(kind, count, float(seconds), int(frames or 0)) for kind, count, seconds, frames in rows
    ]


def failures(session: Session) -> list[Job]:
    """The last pieces of work that failed, latest first."""
    rows = session.scalars(
        select(Job)
        .where(Job.state == "failed")
        .options(selectinload(Job.clip), selectinload(Job.recording))
        .order_by(Job.finished.desc().nulls_last(), Job.id.desc())
        .limit(FAILURES)
    )
    return list(rows)


def room(session: Session, store: MediaStore) -> Room:
    """What is used, and left. Raises OSError for a store that cannot be looked at."""
    used = shutil.disk_usage(store.root)
    on_shelf = Shoot.removed.is_(None)
    has_clip = select(Clip.recording_id).where(Clip.removed.is_(None))
    sources = dict(
        session.execute(
            select(Shoot.id, func.coalesce(func.sum(Recording.size), 0))
            .join(Recording, Recording.shoot_id == Shoot.id)
            .where(on_shelf, Recording.id.in_(has_clip))
            .group_by(Shoot.id)
        ).all()
    )
    films = dict(
        session.execute(
            select(Shoot.id, func.coalesce(func.sum(Export.size), 0))
            .join(Recording, Recording.shoot_id == Shoot.id)
            .join(Clip, Clip.recording_id == Recording.id)
            .join(Export, Export.clip_id == Clip.id)
            .where(on_shelf, Clip.removed.is_(None))
            .group_by(Shoot.id)
        ).all()
    )
    shoots = session.execute(select(Shoot.id, Shoot.name).where(on_shelf).order_by(Shoot.name))
    by_shoot = tuple(
        (name, sum(int(own.get(number) or 0) for own in (sources, films)))
        for number, name in shoots
    )
    sums = (session.scalar(select(func.sum(column))) for column in (Recording.size, Export.size))
    thrown = sum(int(one or 0) for one in sums) - sum(size for _, size in by_shoot)
    return Room(used.free, used.total, by_shoot, thrown)
