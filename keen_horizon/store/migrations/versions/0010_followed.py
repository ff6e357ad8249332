"""Marks that were followed while a recording was taken in.

Revision ID: 0010
Revises: 0009
"""

import sqlalchemy as sa
from alembic import op

revision = "0010"
down_revision = "0009"


def upgrade() -> None:
    op.create_table(
        "followed",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column("recording_id", sa.Integer, sa.ForeignKey("recordings.id"), nullable=False),
        sa.Column("kind", sa.String, nullable=False),
        sa.Column("folder_key", sa.String, nullable=False),
        sa.Column("seconds", sa.Float, nullable=False),
        sa.UniqueConstraint("recording_id", "kind"),
    )
