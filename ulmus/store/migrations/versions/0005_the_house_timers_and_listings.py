"""The house's identity, timers, backlogs, how soon channels list; rules broken and let out all the same."""

import sqlalchemy as sa
from alembic import op

revision = '0005'
down_revision = '0004'


def upgrade() -> None:
    op.create_table(
        'house',
        sa.Column('name', sa.String(length=40), nullable=False),
        sa.Column('value', sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint('name'),
    )
    op.create_table(
        'timers',
        sa.Column('run_id', sa.Integer(), nullable=False),
        sa.Column('address', sa.String(length=300), nullable=False),
        sa.Column('due', sa.Double(), nullable=False),
        sa.Column('made_at', sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(['run_id'], ['runs.id'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('run_id', 'address'),
    )
    op.create_index('timers_by_time', 'timers', ['due'])
    op.create_table(
        'backlog',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('workflow_id', sa.Integer(), nullable=False),
        sa.Column('identity', sa.String(length=500), nullable=False),
        sa.Column('item', sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(['workflow_id'], ['workflows.id'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id'),
    )
    op.create_index('ix_backlog_workflow_id', 'backlog', ['workflow_id'])
    op.create_table(
        'listings',
        sa.Column('connection', sa.String(length=60), nullable=False),
        sa.Column('lag', sa.Double(), nullable=False),
        sa.Column('seen', sa.Integer(), nullable=False),
        sa.Column('at', sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint('connection'),
    )
    # Columns that may be empty, or have a default, are added in place: nothing is copied, and nothing cascades.
    op.add_column('approvals', sa.Column('broken', sa.JSON(), server_default='[]', nullable=False))
    op.add_column('approvals', sa.Column('despite', sa.JSON(), server_default='[]', nullable=False))
    op.add_column('samples', sa.Column('identity', sa.String(length=500), server_default='', nullable=False))
    op.add_column('pieces', sa.Column('generation', sa.Integer(), nullable=True))
    op.add_column('pieces', sa.Column('tried_at', sa.Double(), nullable=True))


def downgrade() -> None:
    op.drop_column('pieces', 'tried_at')
    op.drop_column('pieces', 'generation')
    op.drop_column('samples', 'identity')
    op.drop_column('approvals', 'despite')
    op.drop_column('approvals', 'broken')
    op.drop_table('listings')
    op.drop_table('backlog')
    op.drop_index('timers_by_time', table_name='timers')
    op.drop_table('timers')
    op.drop_table('house')
