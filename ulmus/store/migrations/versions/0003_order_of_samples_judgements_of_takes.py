"""The order of samples, and judgements of takes."""

import sqlalchemy as sa
from alembic import op

revision = '0003'
down_revision = '0002'


def upgrade() -> None:
    op.create_table('judgements',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('workflow_id', sa.Integer(), nullable=False),
    sa.Column('step', sa.String(length=40), nullable=False),
    sa.Column('sample_id', sa.Integer(), nullable=False),
    sa.Column('chosen', sa.String(length=64), nullable=False),
    sa.Column('among', sa.JSON(), nullable=False),
    sa.Column('by', sa.String(length=200), nullable=False),
    sa.Column('at', sa.Double(), nullable=False),
    sa.ForeignKeyConstraint(['sample_id'], ['samples.id'], ondelete='CASCADE'),
    sa.ForeignKeyConstraint(['workflow_id'], ['workflows.id'], ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('id')
    )
    with op.batch_alter_table('judgements', schema=None) as batch_op:
        batch_op.create_index(batch_op.f('ix_judgements_workflow_id'), ['workflow_id'], unique=False)

    with op.batch_alter_table('samples', schema=None) as batch_op:
        batch_op.add_column(sa.Column('place', sa.Integer(), server_default='0', nullable=False))



def downgrade() -> None:
    with op.batch_alter_table('samples', schema=None) as batch_op:
        batch_op.drop_column('place')

    with op.batch_alter_table('judgements', schema=None) as batch_op:
        batch_op.drop_index(batch_op.f('ix_judgements_workflow_id'))

    op.drop_table('judgements')
