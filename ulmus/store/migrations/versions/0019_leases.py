"""Leases: which steps are carried out by workers elsewhere."""

import sqlalchemy as sa
from alembic import op

revision = '0019'
down_revision = '0018'


def upgrade() -> None:
    op.create_table(
        'leases',
        sa.Column('id', sa.String(64), primary_key=True),
        sa.Column('run_id', sa.Integer(), nullable=False),
        sa.Column('address', sa.String(300), nullable=False),
        sa.Column('kind', sa.String(40), nullable=False),
        sa.Column('published_at', sa.Double(), nullable=False),
        sa.Column('until', sa.Double(), nullable=False),
        sa.Column('worker', sa.String(120), nullable=False, server_default=''),
        sa.Column('ended_at', sa.Double(), nullable=True),
    )
    op.create_index('leases_by_end', 'leases', ['ended_at'])
