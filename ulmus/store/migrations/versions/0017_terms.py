"""For how long what workflows did is kept, and which kept files packed journals name."""

import sqlalchemy as sa
from alembic import op

revision = '0017'
down_revision = '0016'


def upgrade() -> None:
    op.add_column('brands', sa.Column('keeps', sa.JSON(), nullable=False, server_default='{}'))
    op.add_column('runs', sa.Column('emptied', sa.Double(), nullable=True))
    op.create_table(
        'packed_files',
        sa.Column('sha', sa.String(64), primary_key=True),
        sa.Column('run_id', sa.Integer(), sa.ForeignKey('runs.id', ondelete='CASCADE'), primary_key=True),
    )
    op.create_index('ix_packed_files_run_id', 'packed_files', ['run_id'])
