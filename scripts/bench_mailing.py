"""Figures of mailings: letters through one connection to a real server, and twenty thousand readers prepared."""

from __future__ import annotations

import os
import sys
import tempfile
import time
import tracemalloc
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from pydantic_core import to_json
from sqlalchemy import func, select

from scripts.bench_engine import ended, made
from scripts.tell import tell
from tests.peers.servers import POSTFIX, Postfix
from ulmus.core import mailings as core
from ulmus.core import pieces, slots
from ulmus.core.workflow import Line
from ulmus.protocols import letters, mail
from ulmus.readmodels import calendar
from ulmus.runtime import execution, mailings, sheets
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services, world
from ulmus.runtime.workspace import workspace
from ulmus.steps.api import Context
from ulmus.store import tables

LETTERS, READERS = 1000, 20_000
TEXT = "Dear <<reader.Name>> of <<reader.Town>>,\n\n" + "A line about **seed**, and *when* to sow it.\n\n" * 12


@contextmanager
def house(readers: int, port: int) -> Iterator[tuple[Services, Engine]]:
    """A house with a list of readers, and a mail server at a port."""
    with tempfile.TemporaryDirectory() as name:
        services = Services.open(Path(name), frozenset({f"127.0.0.1:{port}"}))
        settings = {"host": "127.0.0.1", "port": port, "starttls": False, "sender": "a@a.example"}
        with services.store.write() as session:
            session.add(tables.Connection(key="mail", kind="mail", name="mail", settings=settings))
            sheet = sheets.create(session, "Readers", [{"name": n, "type": "text"} for n in ("Name", "Email", "Town")])
            rows = [{"Name": f"Reader {n}", "Email": f"r{n}@lead.example", "Town": f"Town {n % 40}"} for n in range(readers)]
            sheets.add_rows(session, sheet, rows)
        engine = Engine(services)
        engine.start(polling=False)
        try:
            yield services, engine
        finally:
            engine.stop()
            services.close()


LINE = Line(
    id="out",
    kind="send_mailing",
    settings={"server": "mail", "sheet": "readers", "address": "Email", "subject": "For <<reader.Name>>", "text": TEXT},
)


def one_connection() -> None:
    """A thousand letters of a mailing through one connection to Postfix, against a bare loop on a line that is kept open, which makes
    each letter and sends it."""
    if not Path(POSTFIX).exists() or os.getuid() != 0:
        print("mailing: needs Postfix, and root to run it")
        return
    server = Postfix()
    try:
        mailer = mail.Mailer("127.0.0.1", server.port, False, "", "", "a@a.example", "A", idle=mail.Idle())
        page = letters.page(TEXT, "Seed", "markdown")
        letter = pieces.Letter(to=("b@lead.example",), subject="Seed", text=TEXT, html=page)
        began = time.perf_counter()
        for n in range(LETTERS):
            mail.send(mailer, mail.compose(mailer, letter, f"k{n}", 0.0, {}))
        bare = LETTERS / (time.perf_counter() - began)
        at_rest(server)
        ready = [mail.ready(mailer, mail.compose(mailer, letter, f"r{n}", 0.0, {})) for n in range(LETTERS)]
        began = time.perf_counter()
        for one in ready:
            mail.send(mailer, one)
        made_before = LETTERS / (time.perf_counter() - began)
        at_rest(server)
        with house(LETTERS, server.port) as (services, engine):
            workflow_id = made(services, engine, [LINE], {"fields": []})
            began = time.perf_counter()
            run = engine.runs.push(workflow_id, {"title": "x"})
            assert run is not None
            while not ended(services, run):
                time.sleep(0.1)
            rate = LETTERS / (time.perf_counter() - began)
            with services.store.read() as session:
                sent = session.scalar(select(func.count()).where(tables.MailingLetter.state == "sent"))
    finally:
        server.stop()
    says = f"{rate:.0f}/s, bare loop {bare:.0f}/s, of letters made beforehand {made_before:.0f}/s"
    tell(f"letters of a mailing through one connection ({sent} sent)", rate / bare, "x", 0.9, says, least=True)


def at_rest(server: Postfix) -> None:
    """Wait until the server has delivered what it took, which it does at the same time."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        if not any(path.is_file() for part in ("incoming", "active") for path in (server.folder / "queue" / part).rglob("*")):
            return
        time.sleep(0.1)


def prepared() -> None:
    """Twenty thousand readers: all filled in and queued, against bare rendering of as many letters."""
    with house(READERS, 9) as (services, _engine):
        rows = [{"Name": f"Reader {n}", "Email": f"r{n}@lead.example", "Town": f"Town {n % 40}"} for n in range(READERS)]
        page = letters.page(TEXT.replace("<<", "⟪").replace(">>", "⟫"), "Seed", "markdown").replace("⟪", "<<").replace("⟫", ">>")
        templates = [slots.parse(text) for text in ("For <<reader.Name>>", TEXT, page)]
        began = time.perf_counter()
        for row in rows:
            for template, place in zip(templates, ("text", "text", "html"), strict=True):
                slots.render(template, {core.READER: row}, place)  # type: ignore[arg-type]
        bare = time.perf_counter() - began
        context = Context(services.web, services.connect, {}, workspace=workspace(services))
        execution.piece(LINE, context)  # a server that stands has loaded what it needs
        began = time.perf_counter()
        outgoing = execution.piece(LINE, context)
        with services.store.write() as session:
            piece = tables.Piece(key="k", kind="send_mailing", connection="mail", content=outgoing.content, state="held")
            piece.queued_at = piece.due_at = 0.0
            session.add(piece)
            session.flush()
            mailings.put(session.connection(), piece, outgoing.readers)
        composer = core.Composer(pieces.Mailing.model_validate(outgoing.content))
        for reader in outgoing.readers:
            composer.letter(reader.address, reader.fields, "https://ulmus.example/leave/x")
        took = time.perf_counter() - began
        del outgoing, composer
        tracemalloc.start()
        outgoing = execution.piece(LINE, context)
        with services.store.write() as session:
            mailings.put(session.connection(), session.get_one(tables.Piece, piece.id), outgoing.readers)
        peak = tracemalloc.get_traced_memory()[1] / 1e6
        tracemalloc.stop()
    tell(f"{READERS:,} readers prepared: read, queued and filled in", took / bare, "x", 3.0, f"{took:.2f} s, bare {bare:.2f} s")
    tell("its memory at the most", peak, "MB", 100)


def calendar_of_a_thousand() -> None:
    """A week with a thousand pieces, as the API answers it."""
    with house(1, 9) as (services, engine):
        workflow_id = made(services, engine, [LINE.model_copy(update={"muted": True})], {"fields": []})
        now = services.clock()
        with services.store.write() as session:
            revision = session.get_one(tables.WorkflowRecord, workflow_id).revision_id or 0
            for n in range(LETTERS):
                run = tables.Run(
                    workflow_id=workflow_id, revision_id=revision, title=f"Run {n}", state="waiting", started_at=now, changed_at=now
                )
                session.add(run)
                session.flush()
                at = now + (n - 500) * 600
                piece = tables.Piece(key=f"k{n}", run_id=run.id, address="out", kind="publish_post", connection=f"c{n % 5}")
                piece.content, piece.state = {"text": f"Post {n}. " * 20}, "sent" if at < now else "queued"
                piece.queued_at = piece.due_at = piece.goes_at = at
                piece.sent_at = at if at < now else None
                session.add(piece)
        times = []
        for _ in range(7):
            began = time.perf_counter()
            with services.store.read() as session:
                view = calendar.between(session, engine, world(session), now - 4 * 86_400, now + 4 * 86_400, None, now)
                body = to_json(view)
            times.append((time.perf_counter() - began) * 1000)
    tell(
        f"a week of {len(view.pieces):,} pieces, worked out and written", sorted(times)[3], "ms", 300, f"{len(body) / 1000:.0f} kB"
    )


def main() -> None:
    """All of them, or those named."""
    for part in (one_connection, prepared, calendar_of_a_thousand):
        if not sys.argv[1:] or part.__name__ in sys.argv[1:]:
            part()


if __name__ == "__main__":
    main()
