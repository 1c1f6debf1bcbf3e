"""Blocks and starts: what steps remember, spending by day, calls for runs that wait, files, runs begun by runs."""

import sqlalchemy as sa
from alembic import op

revision = '0002'
down_revision = '0001'


def upgrade() -> None:
    op.create_table('files',
    sa.Column('sha', sa.String(length=64), nullable=False),
    sa.Column('name', sa.String(length=300), nullable=False),
    sa.Column('type', sa.String(length=120), nullable=False),
    sa.Column('size', sa.Integer(), nullable=False),
    sa.Column('created_at', sa.Double(), nullable=False),
    sa.PrimaryKeyConstraint('sha')
    )
    op.create_table('spending',
    sa.Column('day', sa.String(length=10), nullable=False),
    sa.Column('workflow_id', sa.Integer(), nullable=False),
    sa.Column('cost', sa.Double(), nullable=False),
    sa.Column('tokens', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['workflow_id'], ['workflows.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('day', 'workflow_id')
    )
    op.create_table('step_memory',
    sa.Column('workflow_id', sa.Integer(), nullable=False),
    sa.Column('step', sa.String(length=40), nullable=False),
    sa.Column('data', sa.JSON(), nullable=False),
    sa.ForeignKeyConstraint(['workflow_id'], ['workflows.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('workflow_id', 'step')
    )
    op.create_table('arrivals',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('run_id', sa.Integer(), nullable=False),
    sa.Column('at', sa.Double(), nullable=False),
    sa.Column('item', sa.JSON(), nullable=False),
    sa.Column('taken', sa.Boolean(), nullable=False),
    sa.ForeignKeyConstraint(['run_id'], ['runs.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id')
    )
    with op.batch_alter_table('arrivals', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_arrivals_run_id'), ['run_id'], unique=False)

    with op.batch_alter_table('brands', schema=None) as batch_op:
        batch_op.add_column(sa.Column('limits', sa.JSON(), nullable=False, server_default='{}'))

    with op.batch_alter_table('runs', schema=None) as batch_op:
        batch_op.add_column(sa.Column('parent_id', sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column('parent_address', sa.String(length=200), nullable=False, server_default=''))
        batch_op.add_column(sa.Column('depth', sa.Integer(), nullable=False, server_default='0'))
        batch_op.create_index(batch_op.f('ix_runs_parent_id'), ['parent_id'], unique=False)
        batch_op.create_index('runs_open', ['ended_at'], unique=False)

    with op.batch_alter_table('seen', schema=None) as batch_op:
        batch_op.add_column(sa.Column('run_id', sa.Integer(), nullable=True))
        batch_op.add_column(sa.Column('at', sa.Double(), nullable=True))
        batch_op.create_index(batch_op.f('ix_seen_run_id'), ['run_id'], unique=False)

    op.execute(
        "INSERT INTO spending (day, workflow_id, cost, tokens) SELECT date(started_at, 'unixepoch'), workflow_id,"
        " sum(cost), sum(tokens) FROM runs GROUP BY 1, 2"
    )


def downgrade() -> None:
    with op.batch_alter_table('seen', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_seen_run_id'))
        batch_op.drop_column('at')
        batch_op.drop_column('run_id')

    with op.batch_alter_table('runs', schema=None) as batch_op:
        batch_op.drop_index('runs_open')
        batch_op.drop_index(batch_op.f('ix_runs_parent_id'))
        batch_op.drop_column('depth')
        batch_op.drop_column('parent_address')
        batch_op.drop_column('parent_id')

    with op.batch_alter_table('brands', schema=None) as batch_op:
        batch_op.drop_column('limits')

    with op.batch_alter_table('arrivals', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_arrivals_run_id'))

    op.drop_table('arrivals')
    op.drop_table('step_memory')
    op.drop_table('spending')
    op.drop_table('files')
