"""Numbers that channels give, and how often connections are asked."""

import sqlalchemy as sa
from alembic import op

revision = '0010'
down_revision = '0009'


def upgrade() -> None:
    op.create_table(
        'numbers_looks',
        sa.Column('piece_id', sa.Integer(), nullable=False),
        sa.Column('after', sa.Double(), nullable=False),
        sa.Column('due_at', sa.Double(), nullable=True),
        sa.Column('tries', sa.Integer(), nullable=False),
        sa.Column('wrong', sa.String(length=500), nullable=False),
        sa.ForeignKeyConstraint(['piece_id'], ['pieces.id'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('piece_id', 'after'),
    )
    op.create_index('numbers_looks_due', 'numbers_looks', ['due_at'])
    op.create_table(
        'uses',
        sa.Column('connection', sa.String(length=60), nullable=False),
        sa.Column('day', sa.String(length=10), nullable=False),
        sa.Column('calls', sa.Integer(), nullable=False),
        sa.Column('tokens', sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint('connection', 'day'),
    )
    op.execute("CREATE INDEX pieces_by_link ON pieces (json_extract(receipt, '$.link'))")


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
