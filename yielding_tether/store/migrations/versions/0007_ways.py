"""The way round is a rotation vector: keys of whole turns, which could not say it at half a turn, leave the takes. Their findings are
told again, and repaired by vectors.

Revision ID: 0007
Revises: 0006
"""

from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.execute(
        "update revision set curves = coalesce((select jsonb_object_agg(key, value) from jsonb_each(curves) "
        "where key not like '%.way'), '{}') where exists (select 1 from jsonb_object_keys(curves) as k where k like '%.way')"
    )


def downgrade() -> None:
    pass
