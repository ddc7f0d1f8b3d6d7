"""Findings marked as wanted; kept clips.

Revision ID: 0002
Revises: 0001
"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("revision", sa.Column("wanted", postgresql.JSONB(), nullable=False, server_default="[]"))
    op.create_table(
        "clip",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("name", sa.String(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("body", postgresql.JSONB(), nullable=False),
    )


def downgrade() -> None:
    op.drop_table("clip")
    op.drop_column("revision", "wanted")
