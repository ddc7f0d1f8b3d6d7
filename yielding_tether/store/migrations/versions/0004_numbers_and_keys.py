"""One revision of a take has a number, and an edit that is sent again is written once.

Revision ID: 0004
Revises: 0003
"""

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("revision", sa.Column("key", sa.Text(), nullable=True))
    op.drop_index("revision_take_number", table_name="revision")
    op.create_index("revision_take_number", "revision", ["take_id", sa.text("number desc")], unique=True)
    op.create_index("revision_take_key", "revision", ["take_id", "key"], unique=True)


def downgrade() -> None:
    op.drop_index("revision_take_key", table_name="revision")
    op.drop_index("revision_take_number", table_name="revision")
    op.create_index("revision_take_number", "revision", ["take_id", sa.text("number desc")])
    op.drop_column("revision", "key")
