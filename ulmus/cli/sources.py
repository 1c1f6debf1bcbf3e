"""The commands that read sources."""

from __future__ import annotations

import dataclasses
import json
import sys
from pathlib import Path
from typing import Any

import click

from ..protocols.errors import OutsideError
from .common import ALLOW, JSON, bytes_of, is_url, main, outside


@main.command()
@click.argument("source")
@ALLOW
@JSON
def feed(source: str, allow: tuple[str, ...], as_json: bool) -> None:
    """Read the feed at SOURCE (an address or a file): RSS 2.0, RSS 1.0, Atom or JSON Feed."""
    from ..protocols import feeds

    found = outside(allow, lambda web: feeds.poll(web, source).feed if is_url(source) else feeds.parse(bytes_of(Path(source))))
    if as_json:
        click.echo(json.dumps(dataclasses.asdict(found), ensure_ascii=False))
        return
    click.echo(found.title)
    for item in found.items:
        click.echo(f"  {item.published[:10] or '----------'}  {item.title}\n              {item.link}")
    for problem in found.problems:
        click.echo(problem, err=True)


@main.command()
@click.argument("source")
@ALLOW
@JSON
def read(source: str, allow: tuple[str, ...], as_json: bool) -> None:
    """Read SOURCE: a page or file by its address, or a file here. Web pages give their main text; PDF, DOCX, ODT, HTML,
    Markdown and text theirs; CSV, XLSX and ODS their rows.
    """
    from ..protocols import documents, pages
    from ..protocols.net import Web, status_error

    def fetched(web: Web) -> Any:
        if not is_url(source):
            return documents.read(bytes_of(Path(source)), source)
        try:
            return pages.read(web, source)
        except OutsideError:
            got = web.fetch(source, max_bytes=documents.LARGEST, max_seconds=120)
            if got.status != 200:
                raise status_error(got, "The server") from None
            if got.content_type in ("text/html", "application/xhtml+xml"):
                raise
            return documents.read(got.body, got.url, got.content_type, got.charset)

    found = outside(allow, fetched)
    if as_json:
        click.echo(json.dumps(dataclasses.asdict(found) | {"words": len(found.text.split())}, ensure_ascii=False))
        return
    head = " ".join([found.author, getattr(found, "date", "")]).strip()
    click.echo("\n".join(part for part in (found.title, head, "", found.text) if part is not None))
    for note in getattr(found, "notes", []):
        click.echo(note, err=True)


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--fineness", type=click.Choice(["few", "some", "many"]), default="some", show_default=True)
@JSON
def chapters(file: Path, fineness: Any, as_json: bool) -> None:
    """Find the chapters of the recording whose transcript (WebVTT or SRT) is FILE; - for standard input."""
    from ..core.gather.chapters import chapters as found_in
    from ..protocols import transcripts
    from ..protocols.text import decode

    try:
        cues = transcripts.parse(sys.stdin.read() if str(file) == "-" else decode(bytes_of(file)))
    except OutsideError as error:
        raise click.ClickException(error.message) from None
    found = found_in(cues, fineness)
    if as_json:
        told = [{"at": transcripts.stamp(one.start), **dataclasses.asdict(one)} for one in found]
        click.echo(json.dumps({"chapters": told, "minutes": round((cues[-1].end - cues[0].start) / 60, 1)}, ensure_ascii=False))
        return
    for chapter in found:
        click.echo(f"{transcripts.stamp(chapter.start):>8}  {', '.join(chapter.words[:4])}: {chapter.opening} …")
