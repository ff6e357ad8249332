"""Who made a revision, and whose change it takes back.

Revision ID: 0012
Revises: 0011
"""

import sqlalchemy as sa
from alembic import op

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("revisions", sa.Column("page", sa.String, nullable=False, server_default=""))
    op.add_column("revisions", sa.Column("undoes", sa.Integer, sa.ForeignKey("revisions.id")))
