"""Recordings of two fisheyes: what is known of their lenses.

Revision ID: 0008
Revises: 0007
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    op.add_column("recordings", sa.Column("twin", JSONB))
