"""Whose connections and sheets are, which brands a member is kept to, keys for assistants, and lines to hubs of feeds.

What the pages of one brand alone name becomes that brand's; everything else stays the house's.
"""

import json
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = '0015'
down_revision = '0014'
EVERYBODYS = ('model', 'search', 'pictures')


def upgrade() -> None:
    op.add_column('users', sa.Column('brands', sa.JSON(none_as_null=True), nullable=True))
    op.add_column('connections', sa.Column('brand', sa.String(60), nullable=True))
    op.add_column('sheets', sa.Column('brand', sa.String(60), nullable=True))
    op.create_table(
        'assistant_keys',
        sa.Column('digest', sa.String(64), primary_key=True),
        sa.Column('name', sa.String(80), nullable=False),
        sa.Column('brand', sa.String(60), nullable=True),
        sa.Column('made_at', sa.Double(), nullable=False),
        sa.Column('made_by', sa.String(200), nullable=False),
        sa.Column('used_at', sa.Double(), nullable=True),
    )
    op.create_table(
        'hub_lines',
        sa.Column('workflow_id', sa.Integer(), sa.ForeignKey('workflows.id', ondelete='CASCADE'), primary_key=True),
        sa.Column('hub', sa.Text(), nullable=False),
        sa.Column('topic', sa.Text(), nullable=False),
        sa.Column('asked_at', sa.Double(), nullable=False),
        sa.Column('until', sa.Double(), nullable=True),
        sa.Column('told_at', sa.Double(), nullable=True),
        sa.Column('says', sa.String(500), nullable=False),
    )
    bind = op.get_bind()
    used: dict[str, set[str | None]] = {}
    for brand, document in bind.exec_driver_sql('SELECT brand, document FROM workflows'):
        for name in _texts(json.loads(document)):
            used.setdefault(name, set()).add(brand)
    kept = [('sheets', 'SELECT key FROM sheets'), ('connections', f'SELECT key FROM connections WHERE kind NOT IN {EVERYBODYS}')]
    for table, all_of in kept:
        for (key,) in list(bind.exec_driver_sql(all_of)):
            if len(whose := used.get(key, set())) == 1 and None not in whose:
                bind.exec_driver_sql(f'UPDATE {table} SET brand = ? WHERE key = ?', (*whose, key))


def _texts(value: Any) -> Iterator[str]:
    if isinstance(value, str):
        yield value
    elif isinstance(value, dict):
        for one in value.values():
            yield from _texts(one)
    elif isinstance(value, list):
        for one in value:
            yield from _texts(one)
