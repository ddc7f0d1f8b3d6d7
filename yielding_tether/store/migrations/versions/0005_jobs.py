"""Work that takes longer than an answer may: jobs, their files, and the queue that workers take them from.

Revision ID: 0005
Revises: 0004
"""

import sqlalchemy as sa
from alembic import op
from procrastinate.schema import SchemaManager
from sqlalchemy.dialects.postgresql import JSONB

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("created", sa.DateTime(timezone=True), nullable=False, server_default=sa.text("now()")),
        sa.Column("arguments", JSONB(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False, server_default="coming"),
        sa.Column("done", sa.Float(), nullable=False, server_default="0"),
        sa.Column("doing", sa.Text(), nullable=False, server_default=""),
        sa.Column("unwanted", sa.Boolean(), nullable=False, server_default="false"),
        sa.Column("result", JSONB(), nullable=True),
        sa.Column("problem", JSONB(), nullable=True),
    )
    # What comes in and goes out is sent again after a crash: it need not survive one, and is written once.
    op.execute(
        "create unlogged table job_piece (job_id integer not null references job(id) on delete cascade, side text not null, "
        "number integer not null, data bytea not null, primary key (job_id, side, number))"
    )
    op.execute("alter table job_piece alter column data set storage external")
    # The queue's own tables, as the pinned version of the package makes them.
    op.get_bind().connection.driver_connection.execute(SchemaManager.get_schema())


def downgrade() -> None:
    op.execute(
        "do $$ declare r record; begin "
        "for r in select tablename as n from pg_tables where tablename like 'procrastinate%' loop "
        "execute format('drop table %I cascade', r.n); end loop; "
        "for r in select oid::regprocedure as n from pg_proc where proname like 'procrastinate%' loop "
        "execute format('drop function %s cascade', r.n); end loop; "
        "for r in select typname as n from pg_type where typname like 'procrastinate%' and typtype in ('e', 'c') loop "
        "execute format('drop type %I cascade', r.n); end loop; end $$"
    )
    op.drop_table("job_piece")
    op.drop_table("job")
