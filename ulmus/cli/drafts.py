"""The commands that measure drafts."""

from __future__ import annotations

import dataclasses
import json
from pathlib import Path
from typing import Any

import click

from ..protocols.errors import OutsideError
from .common import JSON, bytes_of, json_file, main, said


def in_fields(text: str) -> tuple[str, dict[str, Any] | None]:
    """A draft as it is read, and its fields where it is a JSON object: then one field below the other."""
    from ..core.drafting.shapes import text_of_fields
    from ..core.values import NotPlain, read_json

    if not text.lstrip().startswith("{"):
        return text, None
    try:
        fields = read_json(text)
    except NotPlain:
        return text, None
    return text_of_fields(fields), fields


@main.command()
@click.argument("draft", type=click.Path(path_type=Path))
@click.option("--rules", "rules_file", type=click.Path(path_type=Path), required=True, help="JSON file with a list of rules.")
@JSON
def rules(draft: Path, rules_file: Path, as_json: bool) -> None:
    """Measure the text in DRAFT (- for standard input) by rules; the exit status is 1 where a must-rule is broken.

    A rule is written as in a workflow file, such as {"rule": "length", "most": 280}. A DRAFT that is a JSON object is an answer in
    fields, of which a rule may be about one: {"rule": "words", "most": 8, "of": "subject"}.
    """
    from pydantic import TypeAdapter, ValidationError

    from ..core.drafting import Known, broken, measure
    from ..core.drafting.demands import contradictions
    from ..core.drafting.rules import Rule
    from ..core.workflow.file import plain_errors
    from ..protocols.languages import language_of

    try:
        read: list[Any] = TypeAdapter(list[Rule]).validate_python(json_file(rules_file))
    except ValidationError as error:
        words = "; ".join(f"{where}: {what}" for where, what in plain_errors(error)[:5])
        raise click.ClickException(f"{rules_file} holds no list of rules: {words}") from None
    text, fields = in_fields(said(draft))
    findings = measure(text, read, Known(values=fields, language_of=language_of))
    if as_json:
        click.echo(
            json.dumps({"findings": [f.model_dump() for f in findings], "contradictions": contradictions(read)}, ensure_ascii=False)
        )
    else:
        for finding in findings:
            click.echo(f"  {'kept  ' if finding.kept else 'BROKEN'}  {finding.strength:<6}  {finding.says}")
        for words in contradictions(read):
            click.echo(words, err=True)
    raise SystemExit(1 if broken(findings) else 0)


@main.command()
@click.argument("draft", type=click.Path(path_type=Path))
@click.option(
    "--source", "sources", multiple=True, required=True, type=click.Path(path_type=Path), help="A source; may be repeated."
)
@JSON
def evidence(draft: Path, sources: tuple[Path, ...], as_json: bool) -> None:
    """For each sentence of DRAFT (- for standard input), the passage of the sources that supports it best, and what stands
    in no source."""
    from ..core.evidence import evidence as found_in
    from ..protocols import documents

    texts = {}
    for source in sources:
        try:
            texts[str(source)] = documents.read(bytes_of(source), str(source)).text
        except OutsideError as error:
            raise click.ClickException(f"{source}: {error.message}") from None
    found = found_in(in_fields(said(draft))[0], texts)
    if as_json:
        told = [dataclasses.asdict(s) | {"level": s.plainly, "verdict": s.level, "unsure": s.unsure} for s in found.sentences]
        click.echo(json.dumps({"sentences": told, "unsupported": len(found.flagged)}, ensure_ascii=False))
        return
    for sentence in found.sentences:
        why = f" ({'; '.join((*sentence.reasons, *sentence.sums))})" if sentence.reasons or sentence.sums else ""
        level = "no passage found" if sentence.unsure else sentence.level
        click.echo(f"{level:<20} {sentence.score:4.2f}  {sentence.text}{why}")
        if sentence.passage:
            click.echo(f"                           {sentence.source}: {sentence.passage[:160]}")


@main.command()
@click.argument("examples", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--against", type=click.Path(path_type=Path), help="A draft to set against the examples.")
@JSON
def voice(examples: tuple[Path, ...], against: Path | None, as_json: bool) -> None:
    """Measure the style of EXAMPLES, one piece in each file, and say how far a draft is from it."""
    from ..core.drafting.voice import differences, style_of, verdict

    try:
        style = style_of([said(example) for example in examples])
    except ValueError as error:
        raise click.ClickException(str(error)) from None
    found = differences(said(against), style) if against else []
    if as_json:
        told = {
            "style": dataclasses.asdict(dataclasses.replace(style, typical=None)),
            "differences": [dataclasses.asdict(d) for d in found],
        }
        click.echo(json.dumps(told | ({"verdict": verdict(found)} if against else {}), ensure_ascii=False))
        return
    for name, value in style.middle.items():
        click.echo(f"  {name.replace('_', ' '):<16} {value:g} (± {style.spread[name]:g})")
    click.echo(f"  {'speaks as':<16} {style.person}\n  {'begins with':<16} {style.opening}")
    if against:
        click.echo(f"The draft is {verdict(found)}.")
        for difference in found:
            click.echo(f"  {difference.says}")
