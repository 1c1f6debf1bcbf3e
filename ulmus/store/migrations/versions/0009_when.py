"""When pieces go out: at a time, at a place of their channel's timetable, not after."""

import sqlalchemy as sa
from alembic import op

revision = '0009'
down_revision = '0008'


def upgrade() -> None:
    op.add_column('pieces', sa.Column('goes_at', sa.Double(), nullable=True))
    op.add_column('pieces', sa.Column('goes_by', sa.Double(), nullable=True))
    op.add_column('pieces', sa.Column('waived', sa.Boolean(), server_default='0', nullable=False))
    op.create_index('pieces_to_go', 'pieces', ['connection', 'goes_at'])
    op.create_table(
        'timetables',
        sa.Column('connection', sa.String(length=60), nullable=False),
        sa.Column('rule', sa.Text(), nullable=False),
        sa.Column('zone', sa.String(length=60), nullable=False),
        sa.Column('a_day', sa.Integer(), nullable=True),
        sa.Column('apart', sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(['connection'], ['connections.key'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('connection'),
    )


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
