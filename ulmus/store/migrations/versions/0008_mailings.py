"""Mailings: a letter for each reader, and which sheets are lists."""

import sqlalchemy as sa
from alembic import op

revision = '0008'
down_revision = '0007'


def upgrade() -> None:
    op.create_table(
        'mailing_letters',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('piece_id', sa.Integer(), nullable=False),
        sa.Column('key', sa.String(length=40), nullable=False),
        sa.Column('address', sa.String(length=500), nullable=False),
        sa.Column('folded', sa.String(length=320), nullable=False),
        sa.Column('fields', sa.JSON(), nullable=False),
        sa.Column('row', sa.Integer(), nullable=False),
        sa.Column('state', sa.String(length=20), nullable=False),
        sa.Column('message', sa.Text(), nullable=False),
        sa.Column('tries', sa.Integer(), nullable=False),
        sa.Column('tried_at', sa.Double(), nullable=True),
        sa.Column('sent_at', sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(['piece_id'], ['pieces.id'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id'),
    )
    op.create_index('letters_to_go', 'mailing_letters', ['piece_id', 'state', 'tries', 'tried_at'])
    op.create_index('letters_by_address', 'mailing_letters', ['folded'])
    op.create_index('letters_by_key', 'mailing_letters', ['key'])
    op.create_table(
        'mailing_lists',
        sa.Column('sheet', sa.String(length=60), nullable=False),
        sa.Column('address', sa.String(length=120), nullable=False),
        sa.Column('state', sa.String(length=120), nullable=False),
        sa.Column('join', sa.String(length=64), nullable=False),
        sa.Column('server', sa.String(length=60), nullable=False),
        sa.Column('mailbox', sa.String(length=60), nullable=False),
        sa.Column('words', sa.Text(), nullable=False),
        sa.Column('looked_to', sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(['sheet'], ['sheets.key'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('sheet'),
    )


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
