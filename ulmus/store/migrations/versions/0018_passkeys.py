"""Passkeys: signing in by a device."""

import sqlalchemy as sa
from alembic import op

revision = '0018'
down_revision = '0017'


def upgrade() -> None:
    op.create_table(
        'passkeys',
        sa.Column('id', sa.String(1400), primary_key=True),
        sa.Column('user_id', sa.Integer(), sa.ForeignKey('users.id', ondelete='CASCADE'), nullable=False),
        sa.Column('public', sa.Text(), nullable=False),
        sa.Column('count', sa.Integer(), nullable=False),
        sa.Column('name', sa.String(80), nullable=False),
        sa.Column('place', sa.String(260), nullable=False),
        sa.Column('made_at', sa.Double(), nullable=False),
        sa.Column('used_at', sa.Double(), nullable=True),
    )
    op.create_index('passkeys_of_user', 'passkeys', ['user_id'])
