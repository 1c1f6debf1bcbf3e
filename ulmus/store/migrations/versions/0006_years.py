"""What keeps a house quick over the years: tallies, indexes, what changed in a sheet since; accounts that have ended."""

import sqlalchemy as sa
from alembic import op

revision = '0006'
down_revision = '0005'

TRIGGERS = (
    # How many there are of what is counted on screens; counted as it changes, never by going through a table.
    """CREATE TRIGGER runs_counted_in AFTER INSERT ON runs BEGIN
        INSERT INTO tallies (what, of, state, n) VALUES ('runs', NEW.workflow_id, NEW.state, 1)
        ON CONFLICT DO UPDATE SET n = n + 1;
    END""",
    """CREATE TRIGGER runs_counted_over AFTER UPDATE OF state ON runs WHEN OLD.state <> NEW.state BEGIN
        UPDATE tallies SET n = n - 1 WHERE what = 'runs' AND of = OLD.workflow_id AND state = OLD.state;
        INSERT INTO tallies (what, of, state, n) VALUES ('runs', NEW.workflow_id, NEW.state, 1)
        ON CONFLICT DO UPDATE SET n = n + 1;
    END""",
    """CREATE TRIGGER runs_counted_out AFTER DELETE ON runs BEGIN
        UPDATE tallies SET n = n - 1 WHERE what = 'runs' AND of = OLD.workflow_id AND state = OLD.state;
    END""",
    """CREATE TRIGGER rows_counted_in AFTER INSERT ON sheet_rows BEGIN
        INSERT INTO tallies (what, of, state, n) VALUES ('rows', NEW.sheet, '', 1) ON CONFLICT DO UPDATE SET n = n + 1;
        INSERT INTO tallies (what, of, state, n) VALUES ('row changes', '', '', 1) ON CONFLICT DO UPDATE SET n = n + 1;
        UPDATE sheet_rows SET touched = (SELECT n FROM tallies WHERE what = 'row changes') WHERE id = NEW.id;
    END""",
    """CREATE TRIGGER rows_changed AFTER UPDATE OF cells ON sheet_rows BEGIN
        INSERT INTO tallies (what, of, state, n) VALUES ('row changes', '', '', 1) ON CONFLICT DO UPDATE SET n = n + 1;
        UPDATE sheet_rows SET touched = (SELECT n FROM tallies WHERE what = 'row changes') WHERE id = NEW.id;
    END""",
    """CREATE TRIGGER rows_counted_out AFTER DELETE ON sheet_rows BEGIN
        UPDATE tallies SET n = n - 1 WHERE what = 'rows' AND of = OLD.sheet AND state = '';
    END""",
)


def upgrade() -> None:
    op.create_table(
        'tallies',
        sa.Column('what', sa.String(length=20), nullable=False),
        sa.Column('of', sa.String(length=60), nullable=False),
        sa.Column('state', sa.String(length=20), nullable=False),
        sa.Column('n', sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint('what', 'of', 'state'),
    )
    # Numbers of rows are never given twice: what a row of that number once started would count for the new one.
    with op.batch_alter_table('sheet_rows', recreate='always', table_kwargs={'sqlite_autoincrement': True}) as table:
        table.add_column(sa.Column('touched', sa.Integer(), server_default='0', nullable=False))
    op.execute("UPDATE sheet_rows SET touched = id")
    op.execute("INSERT INTO tallies SELECT 'row changes', '', '', coalesce(max(touched), 0) FROM sheet_rows")
    op.execute("INSERT INTO tallies SELECT 'rows', sheet, '', count(*) FROM sheet_rows GROUP BY sheet")
    op.execute("INSERT INTO tallies SELECT 'runs', workflow_id, state, count(*) FROM runs GROUP BY workflow_id, state")
    for trigger in TRIGGERS:
        op.execute(trigger)
    op.create_index('rows_by_change', 'sheet_rows', ['sheet', 'touched'])
    op.add_column('runs', sa.Column('idle', sa.Boolean(), server_default='0', nullable=False))
    op.create_index('runs_to_go_on', 'runs', ['ended_at', 'idle'])
    op.create_index('runs_of_workflow', 'runs', ['workflow_id', 'state'])
    op.create_index('runs_by_start', 'runs', ['workflow_id', 'started_at'])
    op.create_index('runs_in_order', 'runs', ['started_at'])
    op.create_index('runs_by_change', 'runs', ['state', 'changed_at'])
    op.create_index('runs_by_revision', 'runs', ['revision_id', 'state'])
    op.drop_index('ix_runs_workflow_id', table_name='runs')
    op.create_index('pieces_by_sending', 'pieces', ['state', 'sent_at'])
    op.create_index('pieces_of_channel', 'pieces', ['connection', 'state', 'sent_at'])
    op.create_index('pieces_of_approval', 'pieces', ['approval_id'])
    op.create_index('approvals_by_state', 'approvals', ['state', 'decided_at'])
    op.create_index('approvals_in_order', 'approvals', ['state'])
    op.create_index('approvals_of_run', 'approvals', ['run_id', 'state'])
    op.drop_index('ix_approvals_run_id', table_name='approvals')
    op.create_index('sessions_of_user', 'web_sessions', ['user_id'])
    op.add_column('users', sa.Column('ended_at', sa.Double(), nullable=True))


def downgrade() -> None:
    raise NotImplementedError("restore the copy that was made before the upgrade")
