"""Pages that follow another for another client, and what a brand has of its own."""

import sqlalchemy as sa
from alembic import op

revision = '0014'
down_revision = '0013'


def upgrade() -> None:
    op.add_column('workflows', sa.Column('follows', sa.Integer(), nullable=True))
    op.create_index('workflows_following', 'workflows', ['follows'])
    op.add_column('brands', sa.Column('own', sa.JSON(), server_default='{}', nullable=False))
