"""Shoots, recordings, clips, measures, revisions, exports, work; the task queue's own tables."""

from typing import Any

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects.postgresql import JSONB

revision = "0001"
down_revision = None


def _time(name: str, nullable: bool = True) -> sa.Column[Any]:
    return sa.Column(name, sa.DateTime(timezone=True), nullable=nullable)


def _key(name: str, target: str, nullable: bool = False, index: bool = False) -> sa.Column[Any]:
    return sa.Column(name, sa.Integer, sa.ForeignKey(target), nullable=nullable, index=index)


def upgrade() -> None:
    _recordings()
    _clips()
    _exports()
    _work()
    # The queue ships its schema as one script of many statements, with % signs in it.
    connection = op.get_bind().connection.driver_connection
    assert connection is not None
    with connection.cursor() as cursor:
        cursor.execute(SchemaManager.get_schema())


def _recordings() -> None:
    op.create_table(
        "shoots",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("name", sa.String, nullable=False),
        _time("created", False),
        _time("removed"),
    )
    op.create_table(
        "recordings",
        sa.Column("id", sa.Integer, primary_key=True),
        _key("shoot_id", "shoots.id", index=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("size", sa.BigInteger, nullable=False),
        sa.Column("source_key", sa.String, nullable=False),
        sa.Column("probe", JSONB),
        sa.Column("timing_key", sa.String),
        sa.Column("proxy_key", sa.String),
        sa.Column("poster_key", sa.String),
        sa.Column("refusal", sa.String),
        _time("created", False),
    )
    op.create_table(
        "measures",
        sa.Column("id", sa.Integer, primary_key=True),
        _key("recording_id", "recordings.id"),
        sa.Column("first_frame", sa.Integer, nullable=False),
        sa.Column("last_frame", sa.Integer, nullable=False),
        sa.Column("folder_key", sa.String, nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        _time("created", False),
        sa.UniqueConstraint("recording_id", "first_frame", "last_frame"),
    )


def _clips() -> None:
    op.create_table(
        "clips",
        sa.Column("id", sa.Integer, primary_key=True),
        _key("recording_id", "recordings.id", index=True),
        sa.Column("name", sa.String, nullable=False),
        sa.Column("first_frame", sa.Integer, nullable=False),
        sa.Column("last_frame", sa.Integer),
        sa.Column("revision_id", sa.Integer),
        sa.Column("shake", JSONB),
        _time("created", False),
        _time("removed"),
    )
    op.create_table(
        "revisions",
        sa.Column("id", sa.Integer, primary_key=True),
        _key("clip_id", "clips.id"),
        sa.Column("number", sa.Integer, nullable=False),
        _key("parent_id", "revisions.id", nullable=True, index=True),
        sa.Column("treatment", JSONB, nullable=False),
        sa.Column("name", sa.String),
        _time("created", False),
        sa.UniqueConstraint("clip_id", "number"),
    )
    op.create_foreign_key("fk_clips_revision", "clips", "revisions", ["revision_id"], ["id"])


def _exports() -> None:
    op.create_table(
        "exports",
        sa.Column("id", sa.Integer, primary_key=True),
        _key("clip_id", "clips.id", index=True),
        _key("revision_id", "revisions.id"),
        sa.Column("first_frame", sa.Integer, nullable=False),
        sa.Column("last_frame", sa.Integer, nullable=False),
        sa.Column("quality", sa.String, nullable=False),
        sa.Column("lines", sa.Integer),
        sa.Column("file_name", sa.String, nullable=False),
        sa.Column("file_key", sa.String),
        sa.Column("size", sa.BigInteger),
        sa.Column("report", JSONB),
        _time("created", False),
        _time("finished"),
    )


def _work() -> None:
    op.create_table(
        "work",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("kind", sa.String, nullable=False),
        _key("recording_id", "recordings.id", index=True),
        _key("clip_id", "clips.id", nullable=True, index=True),
        _key("export_id", "exports.id", nullable=True),
        sa.Column("details", JSONB, nullable=False),
        sa.Column("state", sa.String, nullable=False, index=True),
        sa.Column("done", sa.Integer, nullable=False),
        sa.Column("total", sa.Integer, nullable=False),
        sa.Column("message", sa.String),
        sa.Column("attempt", sa.Integer, nullable=False),
        sa.Column("resumed", sa.Integer, nullable=False),
        sa.Column("lost", sa.Integer, nullable=False),
        sa.Column("cancel", sa.Boolean, nullable=False),
        sa.Column("queue_job", sa.BigInteger),
        _time("created", False),
        _time("started"),
        _time("finished"),
    )
