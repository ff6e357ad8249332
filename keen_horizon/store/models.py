"""The tables.

A *recording* is a file that was added; a *clip* is a range of one. A clip's *revisions* are its
treatments, one a change, each pointing to the one it came from: undo walks back, redo forward to
the newest child, and nothing is ever lost. A *measure* belongs to a range of a recording, so it
outlives every change of settings.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, DateTime, ForeignKey, Index, MetaData, UniqueConstraint
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

Json = dict[str, Any]
OPEN_STATES = ("queued", "running")  # of work


def now() -> datetime:
    return datetime.now(UTC)


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(column_0_label)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s_%(referred_table_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {  # noqa: RUF012
        datetime: DateTime(timezone=True),
        Json: JSONB,
    }


class Shoot(Base):
    """Clips recorded together."""

    __tablename__ = "shoots"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[datetime | None]


class Recording(Base):
    """A file that was added. ``probe`` and what follows are None until it has been taken in.
    ``kind``: what kind of clip it is worked on as; ``kind_words`` why it was first taken for one,
    empty where there is no question."""

    __tablename__ = "recordings"
    id: Mapped[int] = mapped_column(primary_key=True)
    shoot_id: Mapped[int] = mapped_column(ForeignKey("shoots.id"), index=True)
    name: Mapped[str]
    size: Mapped[int] = mapped_column(BigInteger)
    source_key: Mapped[str]
    probe: Mapped[Json | None]
    timing_key: Mapped[str | None]
    proxy_key: Mapped[str | None]
    poster_key: Mapped[str | None]
    refusal: Mapped[str | None]
    kind: Mapped[str] = mapped_column(default="flat", server_default="flat")
    kind_words: Mapped[str] = mapped_column(default="", server_default="")
    twin: Mapped[Json | None]
    fields: Mapped[Json | None]  # how interlaced pictures are to become frames; None: as recognised
    damaged: Mapped[list[int] | None] = mapped_column(JSONB)  # frames' numbers
    created: Mapped[datetime] = mapped_column(default=now)
    shoot: Mapped[Shoot] = relationship()


class Followed(Base):
    """The marks of all of a recording, followed while it was taken in as a ``kind`` of clip;
    ``folder_key`` names a folder in the vault, ``seconds`` is how long the pass took."""

    __tablename__ = "followed"
    __table_args__ = (UniqueConstraint("recording_id", "kind"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    recording_id: Mapped[int] = mapped_column(ForeignKey("recordings.id"))
    kind: Mapped[str]
    folder_key: Mapped[str]
    seconds: Mapped[float]


class Measure(Base):
    """The marks of a range of a recording, taken for a ``kind`` of clip; ``folder_key`` names a
    folder in the vault."""

    __tablename__ = "measures"
    __table_args__ = (
        UniqueConstraint("recording_id", "first_frame", "last_frame", "closer", "kind"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    recording_id: Mapped[int] = mapped_column(ForeignKey("recordings.id"))
    first_frame: Mapped[int]
    last_frame: Mapped[int]
    closer: Mapped[bool] = mapped_column(default=False, server_default="false")
    kind: Mapped[str] = mapped_column(default="flat", server_default="flat")
    folder_key: Mapped[str]
    seconds: Mapped[float]
    created: Mapped[datetime] = mapped_column(default=now)


class Camera(Base):
    """What is known of a camera, by the name its owner gave it. ``readout`` in ms."""

    __tablename__ = "cameras"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    readout: Mapped[float]
    created: Mapped[datetime] = mapped_column(default=now)


class LensProfileRow(Base):
    """A profile in the lens cabinet: ``profile`` is a :class:`.LensProfile` as JSON; ``edition``
    counts its changes."""

    __tablename__ = "lens_profiles"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    edition: Mapped[int] = mapped_column(default=1)
    profile: Mapped[Json]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[datetime | None]


class Clip(Base):
    """A range of a recording. ``last_frame`` is None until the recording has been taken in;
    ``closer``: whether the closer measure is wanted, once there is one."""

    __tablename__ = "clips"
    id: Mapped[int] = mapped_column(primary_key=True)
    recording_id: Mapped[int] = mapped_column(ForeignKey("recordings.id"), index=True)
    name: Mapped[str]
    first_frame: Mapped[int] = mapped_column(default=0)
    last_frame: Mapped[int | None]
    closer: Mapped[bool] = mapped_column(default=False, server_default="false")
    revision_id: Mapped[int | None] = mapped_column(
        ForeignKey("revisions.id", use_alter=True, name="fk_clips_revision")
    )
    shake: Mapped[Json | None]
    created: Mapped[datetime] = mapped_column(default=now)
    removed: Mapped[datetime | None]
    recording: Mapped[Recording] = relationship()
    revision: Mapped[Revision | None] = relationship(foreign_keys=[revision_id], post_update=True)


class Revision(Base):
    """One state of a clip's treatment. With a ``name`` it is a version. ``page``: who made it;
    ``undoes``: the revision whose change it takes back, if it does that and leaves later ones."""

    __tablename__ = "revisions"
    __table_args__ = (UniqueConstraint("clip_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    clip_id: Mapped[int] = mapped_column(ForeignKey("clips.id"))
    number: Mapped[int]
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("revisions.id"), index=True)
    treatment: Mapped[Json]
    name: Mapped[str | None]
    page: Mapped[str] = mapped_column(default="", server_default="")
    undoes: Mapped[int | None] = mapped_column(ForeignKey("revisions.id"))
    created: Mapped[datetime] = mapped_column(default=now)


class Export(Base):
    """A rendered file, or one to be, with the revision and range that it was asked for with.
    ``figures`` are the report without its frames, of which there may be many thousands; the whole
    ``report`` is loaded only where it is asked for."""

    __tablename__ = "exports"
    id: Mapped[int] = mapped_column(primary_key=True)
    clip_id: Mapped[int] = mapped_column(ForeignKey("clips.id"), index=True)
    revision_id: Mapped[int] = mapped_column(ForeignKey("revisions.id"))
    first_frame: Mapped[int]
    last_frame: Mapped[int]
    quality: Mapped[str]
    lines: Mapped[int | None]
    file_name: Mapped[str]
    file_key: Mapped[str | None]
    size: Mapped[int | None] = mapped_column(BigInteger)
    figures: Mapped[Json | None]
    report: Mapped[Json | None] = mapped_column(deferred=True)
    created: Mapped[datetime] = mapped_column(default=now)
    finished: Mapped[datetime | None]
    clip: Mapped[Clip] = relationship()
    revision: Mapped[Revision] = relationship()


class Job(Base):
    """A piece of background work, as the job tray shows it.

    ``kind``: see ``jobs.kinds``. ``state``: queued, running, done, failed or
    cancelled. ``attempt`` counts starts: whoever holds an older number has been replaced.
    ``resumed`` frames were done already when this attempt began; ``lost`` attempts in a row ended
    without a word and without getting any further. ``details`` is what the work needs to know;
    ``asked_by`` tells apart who waits for it, ``replaced`` that nobody does any more because they
    asked for something else; ``queue_job`` is what the queue has it as.
    """

    __tablename__ = "jobs"
    __table_args__ = (Index("ix_jobs_kind_recording_id", "kind", "recording_id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    asked_by: Mapped[str] = mapped_column(default="", server_default="")
    recording_id: Mapped[int] = mapped_column(ForeignKey("recordings.id"), index=True)
    clip_id: Mapped[int | None] = mapped_column(ForeignKey("clips.id"), index=True)
    export_id: Mapped[int | None] = mapped_column(ForeignKey("exports.id"), index=True)
    details: Mapped[Json] = mapped_column(default=dict)
    state: Mapped[str] = mapped_column(default="queued", index=True)
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    message: Mapped[str | None]
    attempt: Mapped[int] = mapped_column(default=0)
    resumed: Mapped[int] = mapped_column(default=0)
    lost: Mapped[int] = mapped_column(default=0)
    cancel: Mapped[bool] = mapped_column(default=False)
    replaced: Mapped[bool] = mapped_column(default=False, server_default="false")
    queue_job: Mapped[int | None] = mapped_column(BigInteger)
    created: Mapped[datetime] = mapped_column(default=now, index=True)
    started: Mapped[datetime | None]
    finished: Mapped[datetime | None]
    recording: Mapped[Recording] = relationship()
    clip: Mapped[Clip | None] = relationship()
    export: Mapped[Export | None] = relationship()


class Part(Base):
    """A part of a piece of work that several workers do together. ``owner`` is who is at it, last
    ``heard`` of then; ``done`` once it is."""

    __tablename__ = "parts"
    __table_args__ = (UniqueConstraint("job_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    job_id: Mapped[int] = mapped_column(ForeignKey("jobs.id", ondelete="CASCADE"))
    number: Mapped[int]
    owner: Mapped[str | None]
    heard: Mapped[datetime | None]
    done: Mapped[bool] = mapped_column(default=False)
