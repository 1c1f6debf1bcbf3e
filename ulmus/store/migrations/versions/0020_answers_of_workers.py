"""Which answers of workers were taken in."""

import sqlalchemy as sa
from alembic import op

revision = '0020'
down_revision = '0019'


def upgrade() -> None:
    op.add_column('leases', sa.Column('answers', sa.JSON(), nullable=False, server_default='[]'))
