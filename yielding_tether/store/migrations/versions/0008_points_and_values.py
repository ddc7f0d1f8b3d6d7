"""Points of a take to turn about, and values that were recorded in it.

Revision ID: 0008
Revises: 0007
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("revision", sa.Column("points", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.add_column("revision", sa.Column("values", postgresql.JSONB(), nullable=False, server_default="[]"))


def downgrade() -> None:
    op.drop_column("revision", "values")
    op.drop_column("revision", "points")
