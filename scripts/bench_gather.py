"""Gathering: pages and PDFs against the libraries that read them, chapters of a long recording, many sites at once."""

from __future__ import annotations

import io
import logging
import math
import re
import socket
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any
from unittest import mock

from practice_town import reports
from practice_town.app import create_app
from practice_town.state import State
from practice_town.world import SITES, articles
from scripts.bench_engine import ended, made, memory, town
from scripts.tell import tell
from ulmus.core.gather.chapters import chapters
from ulmus.core.gather.cues import Cue
from ulmus.core.workflow import Line
from ulmus.protocols import pages
from ulmus.protocols.documents.pdf import read_pdf
from ulmus.runtime import outsides
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services

LEADS, EACH, SITES_AT_ONCE, ANSWER = 200, 4, 32, 0.5
ROUNDS = 7


def main() -> None:
    """Run everything."""
    page_to_text()
    pdf()
    recording()
    lead_sites()


def _beside(mine: Callable[[], Any], theirs: Callable[[], Any]) -> tuple[float, float]:
    """The median seconds of both, taken in turns."""
    times: tuple[list[float], list[float]] = ([], [])
    for _ in range(ROUNDS):
        for work, out in zip((mine, theirs), times, strict=True):
            began = time.perf_counter()
            work()
            out.append(time.perf_counter() - began)
    return statistics.median(times[0]), statistics.median(times[1])


def page_to_text() -> None:
    """Every page of the town: what a step does against the extraction library alone."""
    import trafilatura

    app = create_app(State())
    client = app.test_client()
    sources = []
    for site in SITES:
        for article in articles(site):
            answer = client.get(f"/sites/{site}/{article.slug}")
            if answer.status_code == 200:
                sources.append(answer.get_data(as_text=True))
    pages.load()

    def theirs() -> None:
        for source in sources:
            trafilatura.bare_extraction(
                source, url="https://a.example/", with_metadata=True, include_comments=False, favor_recall=True
            )

    mine, library = _beside(lambda: [pages.from_html(source, "https://a.example/") for source in sources], theirs)
    tell(
        f"page to main text, {len(sources)} pages, against the library",
        mine / library,
        "x",
        1.3,
        f"{mine / len(sources) * 1000:.1f} ms a page",
    )


def pdf() -> None:
    """A PDF of 100 pages against the library alone."""
    from pypdf import PdfReader

    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    body = reports.pdf("seed-year.pdf", pages=100)
    count = len(PdfReader(io.BytesIO(body)).pages)

    def theirs() -> None:
        for page in PdfReader(io.BytesIO(body)).pages:
            page.extract_text()

    mine, library = _beside(lambda: read_pdf(body), theirs)
    tell(f"a PDF of {count} pages, against the library", mine / library, "x", 1.3, f"{mine:.2f} s")


def recording() -> None:
    """The chapters of a recording of three hours."""
    lines = [s for site in SITES for a in articles(site) for p in a.paragraphs for s in re.split(r"(?<=[.!?]) ", p)]
    cues: list[Cue] = []
    at = 0.0
    while at < 3 * 3600:
        text = lines[len(cues) % len(lines)]
        length = len(text.split()) / 2.5
        cues.append(Cue(at, at + length, "", text))
        at += length
    chapters(cues[:50], "some")
    began = time.perf_counter()
    found = chapters(cues, "many")
    tell(f"chapters of three hours, {len(cues)} cues, {len(found)} chapters", time.perf_counter() - began, "s", 1)


def lead_sites() -> None:
    """200 leads' sites of four pages, 32 sites at a time and one request at a time to each, every page after half a second."""
    usual = socket.getaddrinfo

    def near(host: Any, *more: Any, **named: Any) -> Any:
        return usual("127.0.0.1" if str(host).endswith(".example") else host, *more, **named)

    with town() as url, tempfile.TemporaryDirectory() as name:
        port = url.rpartition(":")[2]
        hosts = [f"lead{n}.example:{port}" for n in range(LEADS)]
        services = Services.open(Path(name), frozenset(hosts))
        polite = mock.patch.object(outsides.Outsides, "_at_once", lambda self, key: 1 if key.startswith("host:") else 64)
        with mock.patch.object(socket, "getaddrinfo", near), polite:
            engine = Engine(services)
            engine.start(polling=False)
            try:
                milliseconds = int(ANSWER * 1000)
                inside = [
                    Line(id=f"page_{n}", kind="read_page", settings={"url": f"http://<<lead>>/timed/page/{n}?ms={milliseconds}"})
                    for n in range(EACH)
                ]
                block = {"list": "<<start.sites>>", "item": "lead", "parallel": SITES_AT_ONCE}
                fields = {"fields": [{"name": "sites", "label": "s", "type": "long"}]}
                workflow_id = made(services, engine, [Line(id="all", kind="for_each", settings=block, steps=inside)], fields)
                before = memory()
                began = time.perf_counter()
                run = engine.runs.push(workflow_id, {"sites": "\n".join(hosts), "title": "x"})
                assert run is not None
                while not ended(services, run):
                    time.sleep(0.05)
                took = time.perf_counter() - began
                values = engine.live(run).state.values["all"]
                grown = memory() - before
            finally:
                engine.stop()
                services.close()
    # One request at a time to a site: a site takes its pages one after another, and the last 32 places are not all filled.
    ideal = math.ceil(LEADS / SITES_AT_ONCE) * EACH * ANSWER
    what = f"{values['count']} leads' sites ({values['failed']} failed), against the ideal {ideal:.1f} s"
    tell(what, took / ideal, "x", 1.15, f"{took:.1f} s, memory +{grown:.0f} MB")


if __name__ == "__main__":
    main()
