"""Addresses that are written to as one of a mailing no more."""

import sqlalchemy as sa
from alembic import op

revision = '0007'
down_revision = '0006'


def upgrade() -> None:
    op.create_table(
        'leavers',
        sa.Column('address', sa.String(length=320), nullable=False),
        sa.Column('mailing', sa.String(length=200), nullable=False),
        sa.Column('why', sa.String(length=20), nullable=False),
        sa.Column('at', sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint('address'),
    )


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
