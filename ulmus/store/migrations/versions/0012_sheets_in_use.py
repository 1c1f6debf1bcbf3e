"""Views of sheets, sheets that stand in a file elsewhere, keys of a sheet; rows that change sheets are counted where they stand."""

import json

import sqlalchemy as sa
from alembic import op

revision = '0012'
down_revision = '0011'

TRIGGERS = (
    # Rows that come many at once bring the number of their change with them, and are counted once for all.
    'DROP TRIGGER rows_counted_in',
    """CREATE TRIGGER rows_counted_in AFTER INSERT ON sheet_rows WHEN NEW.touched = 0 BEGIN
        INSERT INTO tallies (what, of, state, n) VALUES ('rows', NEW.sheet, '', 1) ON CONFLICT DO UPDATE SET n = n + 1;
        INSERT INTO tallies (what, of, state, n) VALUES ('row changes', '', '', 1) ON CONFLICT DO UPDATE SET n = n + 1;
        UPDATE sheet_rows SET touched = (SELECT n FROM tallies WHERE what = 'row changes') WHERE id = NEW.id;
    END""",
    """CREATE TRIGGER rows_moved AFTER UPDATE OF sheet ON sheet_rows WHEN OLD.sheet <> NEW.sheet BEGIN
        UPDATE tallies SET n = n - 1 WHERE what = 'rows' AND of = OLD.sheet AND state = '';
        INSERT INTO tallies (what, of, state, n) VALUES ('rows', NEW.sheet, '', 1) ON CONFLICT DO UPDATE SET n = n + 1;
        INSERT INTO tallies (what, of, state, n) VALUES ('row changes', '', '', 1) ON CONFLICT DO UPDATE SET n = n + 1;
        UPDATE sheet_rows SET touched = (SELECT n FROM tallies WHERE what = 'row changes') WHERE id = NEW.id;
    END""",
)


def upgrade() -> None:
    op.create_table(
        'sheet_views',
        sa.Column('id', sa.Integer(), nullable=False),
        sa.Column('sheet', sa.String(length=60), nullable=False),
        sa.Column('name', sa.String(length=80), nullable=False),
        sa.Column('shows', sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(['sheet'], ['sheets.key'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('id'),
        sa.UniqueConstraint('sheet', 'name'),
    )
    op.create_table(
        'outside_sheets',
        sa.Column('sheet', sa.String(length=60), nullable=False),
        sa.Column('connection', sa.String(length=60), nullable=False),
        sa.Column('place', sa.Text(), nullable=False),
        sa.Column('every', sa.Double(), nullable=False),
        sa.Column('tag', sa.Text(), nullable=False),
        sa.Column('looked_at', sa.Double(), nullable=True),
        sa.Column('next_at', sa.Double(), nullable=False),
        sa.Column('says', sa.Text(), nullable=False),
        sa.Column('failed', sa.Boolean(), nullable=False),
        sa.Column('seen', sa.Integer(), nullable=False),
        sa.Column('rows', sa.Integer(), nullable=False),
        sa.Column('base', sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(['sheet'], ['sheets.key'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('sheet'),
    )
    op.create_table(
        'sheet_keys',
        sa.Column('digest', sa.String(length=64), nullable=False),
        sa.Column('sheet', sa.String(length=60), nullable=False),
        sa.Column('may', sa.String(length=10), nullable=False),
        sa.Column('name', sa.String(length=80), nullable=False),
        sa.Column('made_at', sa.Double(), nullable=False),
        sa.Column('made_by', sa.String(length=200), nullable=False),
        sa.Column('used_at', sa.Double(), nullable=True),
        sa.ForeignKeyConstraint(['sheet'], ['sheets.key'], ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('digest'),
    )
    op.create_index('keys_of_sheet', 'sheet_keys', ['sheet'])
    for trigger in TRIGGERS:
        op.execute(trigger)
    # SQLite finds a key only where its letters stand as they are.
    connection = op.get_bind()
    for id_, cells in connection.exec_driver_sql("SELECT id, cells FROM sheet_rows WHERE instr(cells, '\\u') > 0").all():
        plain = json.dumps(json.loads(cells), ensure_ascii=False).encode("utf-8", "replace").decode()
        connection.exec_driver_sql("UPDATE sheet_rows SET cells = ? WHERE id = ?", (plain, id_))
    # Rows that were moved were counted where they came from.
    op.execute("DELETE FROM tallies WHERE what = 'rows'")
    op.execute("INSERT INTO tallies SELECT 'rows', sheet, '', count(*) FROM sheet_rows GROUP BY sheet")


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
