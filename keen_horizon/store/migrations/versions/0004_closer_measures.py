"""A closer measure beside the usual one.

Revision ID: 0004
Revises: 0003
"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
RANGE = ["recording_id", "first_frame", "last_frame"]


def upgrade() -> None:
    for table in ("measures", "clips"):
        op.add_column(
            table, sa.Column("closer", sa.Boolean, nullable=False, server_default=sa.false())
        )
    op.drop_constraint(f"uq_measures_{'_'.join(RANGE)}", "measures")
    op.create_unique_constraint(
        f"uq_measures_{'_'.join(RANGE)}_closer", "measures", [*RANGE, "closer"]
    )
