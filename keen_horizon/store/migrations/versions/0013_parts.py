"""Parts of work that several workers do together.

Revision ID: 0013
Revises: 0012
"""

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.create_table(
        "parts",
        sa.Column("id", sa.Integer, primary_key=True),
        sa.Column(
            "job_id", sa.Integer, sa.ForeignKey("jobs.id", ondelete="CASCADE"), nullable=False
        ),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("owner", sa.String),
        sa.Column("heard", sa.DateTime(timezone=True)),
        sa.Column("done", sa.Boolean, nullable=False),
        sa.UniqueConstraint("job_id", "number"),
    )
