"""Frames and captures of a revision, where they are not those of its take.

Revision ID: 0010
Revises: 0009
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("frames", "captures"):
        op.add_column("revision", sa.Column(name, postgresql.JSONB(), nullable=True))


def downgrade() -> None:
    for name in ("captures", "frames"):
        op.drop_column("revision", name)
