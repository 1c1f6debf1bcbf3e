"""Several people asked, what they want, deadlines and what then, notices of what is wrong, browsers that take pushes."""

from typing import Any

import sqlalchemy as sa
from alembic import op

revision = '0013'
down_revision = '0012'

NEW: tuple[sa.Column[Any], ...] = (
    sa.Column('people', sa.JSON(), server_default='[]', nullable=False),
    sa.Column('needs', sa.String(length=10), server_default='one', nullable=False),
    sa.Column('ways', sa.JSON(), server_default='{}', nullable=False),
    sa.Column('edit', sa.JSON(), nullable=True),
    sa.Column('asks', sa.JSON(), server_default='{}', nullable=False),
    sa.Column('goes_at', sa.Double(), nullable=True),
    sa.Column('deadline', sa.JSON(), server_default='{}', nullable=False),
    sa.Column('deadline_at', sa.Double(), nullable=True),
    sa.Column('due_at', sa.Double(), nullable=True),
    sa.Column('lapsed_at', sa.Double(), nullable=True),
    sa.Column('brief', sa.JSON(), nullable=True),
    sa.Column('taken', sa.JSON(), nullable=True),
    sa.Column('taken_until', sa.Double(), nullable=True),
)


def upgrade() -> None:
    for column in NEW:
        op.add_column('approvals', column.copy())
    op.create_index('approvals_due', 'approvals', ['state', 'due_at'])
    op.create_index('approvals_taken', 'approvals', ['taken_until'])
    op.execute("UPDATE approvals SET people = json_array(json_object('who', who, 'told_at', created_at))")
    op.create_table(
        'people',
        sa.Column('who', sa.String(length=200), nullable=False),
        sa.Column('away_from', sa.Double(), nullable=True),
        sa.Column('away_until', sa.Double(), nullable=True),
        sa.Column('substitute', sa.String(length=200), server_default='', nullable=False),
        sa.Column('chat', sa.String(length=200), server_default='', nullable=False),
        sa.Column('zone', sa.String(length=60), server_default='', nullable=False),
        sa.Column('quiet', sa.JSON(), server_default='{}', nullable=False),
        sa.Column('collect', sa.JSON(), server_default='[]', nullable=False),
        sa.PrimaryKeyConstraint('who'),
    )
    op.create_table(
        'notices',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('key', sa.String(length=200), nullable=False),
        sa.Column('what', sa.String(length=30), nullable=False),
        sa.Column('workflow_id', sa.Integer(), nullable=True),
        sa.Column('words', sa.Text(), nullable=False),
        sa.Column('link', sa.Text(), nullable=False),
        sa.Column('raised_at', sa.Double(), nullable=False),
        sa.Column('mended_at', sa.Double(), nullable=True),
        sa.PrimaryKeyConstraint('id'),
    )
    op.create_index('notices_standing', 'notices', ['mended_at'])
    op.create_index('notices_by_time', 'notices', ['raised_at'])
    op.create_table(
        'notice_rules',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('workflow_id', sa.Integer(), nullable=True),
        sa.Column('what', sa.JSON(), nullable=False),
        sa.Column('way', sa.String(length=10), nullable=False),
        sa.Column('connection', sa.String(length=60), nullable=False),
        sa.Column('to', sa.String(length=200), nullable=False),
        sa.Column('at', sa.String(length=5), nullable=False),
        sa.Column('zone', sa.String(length=60), nullable=False),
        sa.Column('since', sa.Double(), nullable=False),
        sa.Column('told_until', sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(['workflow_id'], ['workflows.id'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id'),
    )
    op.create_index('ix_notice_rules_workflow_id', 'notice_rules', ['workflow_id'])
    op.create_table(
        'push_lines',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('user_id', sa.Integer(), nullable=False),
        sa.Column('endpoint', sa.Text(), nullable=False),
        sa.Column('keys', sa.JSON(), nullable=False),
        sa.Column('name', sa.String(length=200), nullable=False),
        sa.Column('made_at', sa.Double(), nullable=False),
        sa.Column('failed', sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(['user_id'], ['users.id'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id'),
        sa.UniqueConstraint('endpoint'),
    )
    op.create_index('ix_push_lines_user_id', 'push_lines', ['user_id'])


def downgrade() -> None:
    for table in ('push_lines', 'notice_rules', 'notices', 'people'):
        op.drop_table(table)
    op.drop_index('approvals_taken', table_name='approvals')
    op.drop_index('approvals_due', table_name='approvals')
    for column in NEW:
        op.drop_column('approvals', column.name)
