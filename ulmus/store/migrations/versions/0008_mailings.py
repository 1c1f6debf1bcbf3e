"""Mailings: a letter for each reader, which sheets are lists, and what comes back."""

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
        sa.ForeignKeyConstraint(['sheet'], ['sheets.key'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('sheet'),
    )
    op.create_table(
        'mailbox_looks',
        sa.Column('connection', sa.String(length=60), nullable=False),
        sa.Column('memory', sa.JSON(), nullable=False),
        sa.Column('wrong', sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint('connection'),
    )
    op.create_table(
        'results',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('piece_id', sa.Integer(), nullable=False),
        sa.Column('what', sa.String(length=20), nullable=False),
        sa.Column('who', sa.String(length=320), nullable=False),
        sa.Column('detail', sa.String(length=2000), nullable=False),
        sa.Column('text', sa.Text(), nullable=False),
        sa.Column('at', sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(['piece_id'], ['pieces.id'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id'),
        sa.UniqueConstraint('piece_id', 'what', 'who', 'detail'),
    )


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
