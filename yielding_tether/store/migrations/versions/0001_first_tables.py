"""first tables"""

from alembic import op
import sqlalchemy as sa
import sqlmodel
from sqlalchemy.dialects import postgresql

revision = '0001'
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table('blob',
    sa.Column('hash', sqlmodel.sql.sqltypes.AutoString(), nullable=False),
    sa.Column('data', sa.LargeBinary(), nullable=False),
    sa.PrimaryKeyConstraint('hash')
    )
    op.create_table('scene',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('name', sqlmodel.sql.sqltypes.AutoString(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_table('member',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('scene_id', sa.Integer(), nullable=False),
    sa.Column('key', sqlmodel.sql.sqltypes.AutoString(), nullable=False),
    sa.Column('place', sa.Integer(), nullable=False),
    sa.Column('body', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.ForeignKeyConstraint(['scene_id'], ['scene.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index(op.f('ix_member_scene_id'), 'member', ['scene_id'], unique=False)
    op.create_table('take',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('scene_id', sa.Integer(), nullable=False),
    sa.Column('name', sqlmodel.sql.sqltypes.AutoString(), nullable=False),
    sa.Column('rate_numerator', sa.Integer(), nullable=False),
    sa.Column('rate_denominator', sa.Integer(), nullable=False),
    sa.Column('first', sa.Integer(), nullable=False),
    sa.Column('last', sa.Integer(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.Column('head_id', sa.BigInteger(), nullable=True),
    sa.ForeignKeyConstraint(['scene_id'], ['scene.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index(op.f('ix_take_scene_id'), 'take', ['scene_id'], unique=False)
    op.create_table('capture',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('take_id', sa.Integer(), nullable=False),
    sa.Column('member', sqlmodel.sql.sqltypes.AutoString(), nullable=False),
    sa.Column('samples', sa.Integer(), nullable=False),
    sa.Column('joints', sa.Integer(), nullable=False),
    sa.Column('first', sa.Float(), nullable=False),
    sa.Column('step', sa.Float(), nullable=False),
    sa.Column('blob', sqlmodel.sql.sqltypes.AutoString(), nullable=False),
    sa.ForeignKeyConstraint(['blob'], ['blob.hash'], ),
    sa.ForeignKeyConstraint(['take_id'], ['take.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index(op.f('ix_capture_take_id'), 'capture', ['take_id'], unique=False)
    op.create_table('revision',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('take_id', sa.Integer(), nullable=False),
    sa.Column('parent_id', sa.BigInteger(), nullable=True),
    sa.Column('redo_id', sa.BigInteger(), nullable=True),
    sa.Column('number', sa.Integer(), nullable=False),
    sa.Column('label', sqlmodel.sql.sqltypes.AutoString(), nullable=False),
    sa.Column('name', sqlmodel.sql.sqltypes.AutoString(), nullable=True),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.Column('operation', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('proof', postgresql.JSONB(astext_type=sa.Text()), nullable=True),
    sa.Column('curves', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('tethers', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.ForeignKeyConstraint(['parent_id'], ['revision.id'], ),
    sa.ForeignKeyConstraint(['take_id'], ['take.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index('revision_take_number', 'revision', ['take_id', sa.literal_column('number desc')], unique=False)
    # Take and revision point at one another: this end comes last.
    op.create_foreign_key('take_head_fkey', 'take', 'revision', ['head_id'], ['id'])


def downgrade() -> None:
    op.drop_constraint('take_head_fkey', 'take', type_='foreignkey')
    op.drop_index('revision_take_number', table_name='revision')
    op.drop_table('revision')
    op.drop_index(op.f('ix_capture_take_id'), table_name='capture')
    op.drop_table('capture')
    op.drop_index(op.f('ix_take_scene_id'), table_name='take')
    op.drop_table('take')
    op.drop_index(op.f('ix_member_scene_id'), table_name='member')
    op.drop_table('member')
    op.drop_table('scene')
    op.drop_table('blob')
