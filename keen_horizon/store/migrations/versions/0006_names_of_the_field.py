"""Tables under the field's names; figures of exports apart from their frames; indexes of what is
asked for often.

Revision ID: 0006
Revises: 0005
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0006"
down_revision = "0005"

RENAMED = {"work": "jobs", "house_lenses": "lens_profiles"}


def upgrade() -> None:
    for old, new in RENAMED.items():
        op.rename_table(old, new)
        _rename_parts(old, new)
    op.add_column("jobs", sa.Column("asked_by", sa.String, nullable=False, server_default=""))
    op.add_column("jobs", sa.Column("replaced", sa.Boolean, nullable=False, server_default="false"))
    op.create_index("ix_jobs_export_id", "jobs", ["export_id"])
    op.create_index("ix_jobs_created", "jobs", ["created"])
    op.create_index("ix_jobs_kind_recording_id", "jobs", ["kind", "recording_id"])
    op.add_column("exports", sa.Column("figures", postgresql.JSONB))
    op.execute("update exports set figures = report - 'frames' - 'conventions'")


def _rename_parts(old: str, new: str) -> None:
    """Indexes, constraints and sequences carry the table's name in their own."""
    inspector = sa.inspect(op.get_bind())
    op.execute(f"alter sequence {old}_id_seq rename to {new}_id_seq")
    for index in inspector.get_indexes(new):
        name = str(index["name"])
        op.execute(f'alter index "{name}" rename to "{name.replace(old, new, 1)}"')
    for constraint in (inspector.get_pk_constraint(new), *inspector.get_foreign_keys(new)):
        name = str(constraint["name"])
        changed = name.replace(old, new, 1)
        op.execute(f'alter table {new} rename constraint "{name}" to "{changed}"')
