"""What was done to rows, by whom and by which run."""

import sqlalchemy as sa
from alembic import op

revision = '0011'
down_revision = '0010'


def upgrade() -> None:
    op.create_table(
        'row_changes',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('sheet', sa.String(length=60), nullable=False),
        sa.Column('row_id', sa.Integer(), nullable=False),
        sa.Column('at', sa.Double(), nullable=False),
        sa.Column('what', sa.String(length=10), nullable=False),
        sa.Column('who', sa.String(length=200), nullable=False),
        sa.Column('run_id', sa.Integer(), nullable=True),
        sa.Column('address', sa.String(length=200), nullable=False),
        sa.Column('key', sa.String(length=64), nullable=False),
        sa.Column('before', sa.JSON(), nullable=False),
        sa.Column('after', sa.JSON(), nullable=False),
        sa.Column('place', sa.Integer(), nullable=False),
        sa.Column('undone_by', sa.String(length=200), nullable=False),
        sa.ForeignKeyConstraint(['sheet'], ['sheets.key'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id'),
    )
    op.create_index('changes_of_row', 'row_changes', ['row_id'])
    op.create_index('changes_of_run', 'row_changes', ['run_id'])
    op.create_index('changes_by_effect', 'row_changes', ['key'])
    op.create_index('changes_of_sheet', 'row_changes', ['sheet', 'what', 'at'])


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
