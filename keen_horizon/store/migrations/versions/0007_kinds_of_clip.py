"""Kinds of clip: flat ones and spheres, measured apart.

Revision ID: 0007
Revises: 0006
"""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
MEASURED = ["recording_id", "first_frame", "last_frame", "closer"]


def upgrade() -> None:
    for table in ("recordings", "measures"):
        op.add_column(table, sa.Column("kind", sa.String, nullable=False, server_default="flat"))
    op.add_column(
        "recordings", sa.Column("kind_words", sa.String, nullable=False, server_default="")
    )
    op.drop_constraint(f"uq_measures_{'_'.join(MEASURED)}", "measures")
    op.create_unique_constraint(
        f"uq_measures_{'_'.join(MEASURED)}_kind", "measures", [*MEASURED, "kind"]
    )
    # Files that say so could not be worked on as spheres before: nobody has said otherwise yet.
    op.execute(
        "update recordings set kind_words = 'The file says that its picture goes all around.' "
        "where probe -> 'sphere' is not null and probe -> 'sphere' <> 'null'::jsonb"
    )
