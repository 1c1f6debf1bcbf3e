"""A second step at sign-in, where somebody is signed in, from where something was done, and journals that are packed."""

import sqlalchemy as sa
from alembic import op

revision = '0016'
down_revision = '0015'


def upgrade() -> None:
    op.add_column('users', sa.Column('second', sa.Text(), nullable=True))
    op.add_column('users', sa.Column('second_step', sa.Integer(), nullable=True))
    op.add_column('users', sa.Column('second_codes', sa.JSON(none_as_null=True), nullable=True))
    op.add_column('web_sessions', sa.Column('begun_at', sa.Double(), nullable=True))
    op.add_column('web_sessions', sa.Column('seen_at', sa.Double(), nullable=True))
    op.add_column('web_sessions', sa.Column('place', sa.String(60), nullable=False, server_default=''))
    op.add_column('web_sessions', sa.Column('agent', sa.String(200), nullable=False, server_default=''))
    op.add_column('audit', sa.Column('place', sa.String(60), nullable=False, server_default=''))
    op.create_index('audit_in_time', 'audit', ['at', 'id'])
    op.add_column('runs', sa.Column('packed', sa.Integer(), nullable=True))
    op.create_table(
        'api_keys',
        sa.Column('digest', sa.String(64), primary_key=True),
        sa.Column('name', sa.String(80), nullable=False),
        sa.Column('scope', sa.String(20), nullable=False),
        sa.Column('user_id', sa.Integer(), sa.ForeignKey('users.id', ondelete='CASCADE'), nullable=False),
        sa.Column('made_at', sa.Double(), nullable=False),
        sa.Column('used_at', sa.Double(), nullable=True),
        sa.Column('place', sa.String(60), nullable=False, server_default=''),
    )
