"""For how long what workflows did is kept, and which kept files packed journals name."""

import gzip
import re
from pathlib import Path

import sqlalchemy as sa
from alembic import op

revision = '0017'
down_revision = '0016'


def upgrade() -> None:
    op.add_column('brands', sa.Column('keeps', sa.JSON(), nullable=False, server_default='{}'))
    op.add_column('runs', sa.Column('emptied', sa.Double(), nullable=True))
    op.create_table(
        'packed_files',
        sa.Column('sha', sa.String(64), primary_key=True),
        sa.Column('run_id', sa.Integer(), sa.ForeignKey('runs.id', ondelete='CASCADE'), primary_key=True),
    )
    op.create_index('ix_packed_files_run_id', 'packed_files', ['run_id'])
    op.create_index('runs_to_pack', 'runs', ['ended_at'], sqlite_where=sa.text('packed IS NULL'), if_not_exists=True)
    _name_files(op.get_bind())


def _name_files(connection: sa.Connection) -> None:
    """Note the kept files that journals name which were packed before."""
    folder = Path(str(connection.engine.url.database)).parent / 'journals'
    for run in connection.exec_driver_sql('SELECT id FROM runs WHERE packed IS NOT NULL').scalars().all():
        try:
            text = gzip.decompress((folder / f'{run // 1000:03d}' / f'{run}.jsonl.gz').read_bytes()).decode()
        except (OSError, EOFError, ValueError):
            continue  # lost or damaged: it says so where it is read
        for sha in set(re.findall(r'/api/files/([0-9a-f]{64})', text)):
            connection.exec_driver_sql('INSERT INTO packed_files (sha, run_id) VALUES (?, ?)', (sha, run))
