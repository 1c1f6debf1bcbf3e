"""Figures of a large sheet: opening, scrolling, finding and sorting by typed indexes, bringing in; each beside something bare."""

from __future__ import annotations

import csv
import io
import itertools
import json
import resource
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sqlalchemy import select

from ulmus.runtime import sheets
from ulmus.runtime.services import Services
from ulmus.runtime.sheetquery import Asked, Condition
from ulmus.store import tables

ROWS = int(sys.argv[1]) if sys.argv[1:] and sys.argv[1].isdigit() else 100_000
TOWNS = ("Lyd", "Marrow", "Ashford", "Pell", "Wick", "Öd am Bach")


def rows(count: int) -> list[list[str]]:
    """Rows of eight columns, about 350 characters each."""
    words = "Some longer words about seed by the water, boats for hire, and what becomes of both. "
    return [
        [
            f"Person {n * 7919 % count}",
            f"p{n}@reader.example",
            TOWNS[n * 31 % len(TOWNS)],
            f"https://s{n}.example/about",
            f"{n * 37 % 100_000 / 100:.2f}",
            f"2026-{n % 12 + 1:02d}-{n % 28 + 1:02d}",
            f"{words}{n % 977}",
            ("yes", "no", "")[n % 3],
        ]
        for n in range(count)
    ]


HEADS = ["Name", "Mail", "Town", "Site", "Price", "Day", "Text", "Used"]


def best(work: Callable[[], Any], times: int = 3) -> float:
    """The shortest of some tries, in milliseconds."""
    took = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        took.append((time.perf_counter() - began) * 1000)
    return min(took)


def bare(body: bytes, folder: Path) -> float:
    """Reading the file and inserting its rows, with nothing else, in seconds."""
    began = time.perf_counter()
    base = sqlite3.connect(folder / "bare.db")
    base.execute("PRAGMA journal_mode=WAL")
    base.execute("CREATE TABLE rows (id INTEGER PRIMARY KEY, cells TEXT)")
    lines = csv.reader(io.StringIO(body.decode()))
    heads = next(lines)
    base.executemany("INSERT INTO rows (cells) VALUES (?)", ((json.dumps(dict(zip(heads, line, strict=True))),) for line in lines))
    base.commit()
    took = time.perf_counter() - began
    base.close()
    return took


def brought(services: Services, body: bytes) -> tuple[str, float, float]:
    """The key of the sheet that comes of a file, how long it took, and of that with the write lock (seconds)."""
    began = time.perf_counter()
    heads, each, _ = sheets.from_file(io.BytesIO(body), "large.csv")
    first = [next(each) for _ in range(1000)]
    columns = sheets.guessed(heads, first)
    draft = tables.Sheet(key="", name="", columns=columns)
    with sheets.staged(draft, itertools.chain(first, each), lambda n: None) as encoded:
        locked = time.perf_counter()
        with services.store.write() as session:
            sheet = sheets.create(session, "Large", columns)
            sheets.add_staged(session, sheet, encoded)
    ended = time.perf_counter()
    return sheet.key, ended - began, ended - locked


def main() -> None:
    """Measure, and print."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        out = io.StringIO()
        csv.writer(out).writerows([HEADS, *rows(ROWS)])
        body = out.getvalue().encode()
        del out
        plain = bare(body, folder)
        services = Services.open(folder / "house")
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        key, took, locked = brought(services, body)
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
        print(f"a sheet of {ROWS:,} rows, {len(body) / 1e6:.0f} MB as CSV")
        print(f"  bringing in          {took:6.2f} s, {took / plain:.1f} × bare reading and inserting ({plain:.2f} s); target 3 ×")
        print(f"    of that with the write lock {locked:.2f} s; memory grew by {grown:.0f} MB")
        reads = services.sheet_reads

        def asked(what: Asked) -> Callable[[], Any]:
            def work() -> int:
                reads._kept.clear()
                with services.store.read() as session:
                    sheet = session.get_one(tables.Sheet, key)
                    ids, total = reads.ids(session, sheet, what, slice(0, 200))
                    reads.rows(session, ids)
                return total

            return work

        def opened() -> None:
            with services.store.read() as session:
                session.get_one(tables.Sheet, key)
                held = sheets.held(session, key)
                found = tables.SheetRow
                list(
                    session.scalars(select(found).where(found.sheet == key).order_by(found.position).offset(held - 200).limit(200))
                )

        print(f"  the last 200 rows as they stand   {best(opened):6.1f} ms; target 300 to open")
        c = Condition
        tried = {
            "is": Asked(conditions=(c("Town", "is", "öd am bach"),)),
            "range": Asked(conditions=(c("Price", "more", "500"), c("Price", "less", "600"))),
            "range of days": Asked(conditions=(c("Day", "more", "2026-06-01"),)),
            "begins with": Asked(conditions=(c("Name", "begins", "person 99"),)),
            "contains": Asked(conditions=(c("Site", "contains", "s77"),)),
            "contains, long text": Asked(conditions=(c("Text", "contains", "both. 97"),)),
            "empty": Asked(conditions=(c("Used", "empty"),)),
            "four at once, sorted": Asked(
                "",
                (c("Town", "is", "Lyd"), c("Price", "more", "500"), c("Used", "filled"), c("Mail", "contains", "7")),
                sort="Name",
            ),
            "words in any column": Asked(words="person 777"),
            "sorted by text": Asked(sort="Name"),
            "sorted by number, down": Asked(sort="Price", down=True),
            "sorted by day": Asked(sort="Day"),
            "in groups": Asked(group="Town", sort="Price"),
        }
        for said, what in tried.items():
            work = asked(what)
            first = best(work, 1)
            reads.settle()
            count = work()
            print(f"  {said:<24} first {first:6.0f} ms, then {best(work):6.1f} ms for {count:,} rows; target 200")
        services.close()


if __name__ == "__main__":
    main()
