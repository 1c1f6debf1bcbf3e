"""Liked and disliked examples of brands."""

import sqlalchemy as sa
from alembic import op

revision = '0004'
down_revision = '0003'


def upgrade() -> None:
    with op.batch_alter_table('brands', schema=None) as batch_op:
        batch_op.add_column(sa.Column('examples', sa.JSON(), server_default='{}', nullable=False))


def downgrade() -> None:
    with op.batch_alter_table('brands', schema=None) as batch_op:
        batch_op.drop_column('examples')
