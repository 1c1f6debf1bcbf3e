"""Read models shared by the workbench, runs and approvals: lines, cells and results in full."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import Any
from urllib.parse import urlsplit

from ..core import flow, slots
from ..core.diff import changes
from ..core.workflow import Lane, Line, LineProblem, Workflow, World, sentence, take_name, takes_of, templates_of
from ..core.workflow.kinds import field_control
from ..runtime.carry import shares
from ..runtime.depending import dependents
from ..steps import kinds
from ..steps.shared.lists import HEADS
from ..store import tables
from .base import (
    CellState,
    CellView,
    ChangeView,
    FindingView,
    LineProblemView,
    LineView,
    PartView,
    ResultView,
    UsageView,
    VersionView,
)

LONGEST_BRIEF = 400


class _Blank(defaultdict[str, Any]):
    def __missing__(self, key: str) -> str:
        return ""


def problem_view(problem: LineProblem) -> LineProblemView:
    """A finding, for the page."""
    return LineProblemView(**{**vars(problem), "place": list(problem.place)})


def _longest(line: Line, world: World) -> int | None:
    """The most characters what the line makes may have: by its rule of length, or by the channel it goes out on."""
    rules = line.settings.get("rules")
    for rule in rules if isinstance(rules, list) else ():
        match rule:
            case {"rule": "length", "most": int(most)}:
                return most
    channel = world.connections.get(str(line.settings.get("channel", "")))
    return channel.limit if channel is not None else None


def line_views(
    workflow: Workflow, world: World, problems: Iterable[LineProblem] = (), costs: Mapping[str, float] | None = None
) -> list[LineView]:
    """The page's lines from top to bottom."""
    follow = dependents(workflow)
    by_step: dict[str, list[LineProblemView]] = defaultdict(list)
    for p in problems:
        by_step[p.step].append(problem_view(p))
    out: list[LineView] = []

    def put(line: Line, depth: int, parent: str, index: int) -> None:
        kind = kinds().get(line.kind)
        out.append(
            LineView(
                depth=depth,
                parent=parent,
                index=index,
                id=line.id,
                kind=line.kind,
                kind_title=kind.title if kind else line.kind,
                stage=kind.stage if kind else "",
                sentence=[PartView(what=p.what, text=p.text) for p in sentence(line, kind, world)],
                muted=line.muted,
                problems=by_step[line.id],
                dependents=follow[line.id],
                cost=(costs or {}).get(line.id, 0.0),
                limit=_longest(line, world),
            )
        )
        for n, take in enumerate(takes_of(line, kinds())):
            out.append(_take(line, take, n, depth + 1))
        for n, one in enumerate(line.steps):
            put(one, depth + 1, line.id, n)
        for m, lane in enumerate(line.lanes):
            out.append(_lane(lane, depth + 1, line.id, m))
            for n, one in enumerate(lane.steps):
                put(one, depth + 2, lane.id, n)

    put(workflow.start, 0, "", -1)
    for n, step in enumerate(workflow.steps):
        put(step, 0, "", n)
    return out


def _take(line: Line, take: Line, index: int, depth: int) -> LineView:
    words = [
        PartView(what="text", text="or, by lot: " if shares(line) else "or: "),
        PartView(what="value", text=take_name(line, take.id)),
    ]
    return LineView(
        id=take.id,
        kind="take",
        kind_title="Take",
        stage="draft",
        sentence=words,
        muted=line.muted,
        depth=depth,
        parent=line.id,
        index=index,
    )


def _lane(lane: Lane, depth: int, fork: str, index: int) -> LineView:
    words = (
        [PartView(what="text", text="If "), PartView(what="value", text=lane.when)]
        if lane.when
        else [PartView(what="text", text="Otherwise")]
    )
    return LineView(
        id=lane.id,
        kind="lane",
        kind_title="Lane",
        stage="",
        sentence=words,
        muted=lane.muted,
        depth=depth,
        parent=fork,
        index=index,
    )


def brief(kind_name: str, output: Mapping[str, Any]) -> str:
    """A result in one breath."""
    kind = kinds().get(kind_name)
    if kind is None or not kind.brief:
        return ""
    told = re.sub(r"^1 (\w+)s\b", r"1 \1", kind.brief.format_map(_Blank(str, output)))
    return f"{told}{_heads(output)}"[:LONGEST_BRIEF].strip()


def _heads(output: Mapping[str, Any]) -> str:
    """What the first few of a list are called."""
    found = output.get("items") or output.get("chapters")
    if not isinstance(found, list):
        return ""
    heads = [_head(one) for one in found[:3] if isinstance(one, dict)]
    return "".join(f" · {_short(head, 48)}" for head in heads if head)


def flow_brief(line: Line, output: Mapping[str, Any]) -> str:
    """What a flow step came to, in words."""
    if line.kind == "for_each":
        count, found = output.get("count", 0), output.get("found", output.get("count", 0))
        gone = f"{count} of {found}" if found > count else str(count)
        words = [f"{gone} item{'s' if gone != '1' else ''}"]
        words += [
            f"{output[name]} {say}" for name, say in (("failed", "failed"), ("passed_over", "passed over")) if output.get(name)
        ]
        return " · ".join(words)
    if line.kind == "fork":
        return ", ".join(str(one) for one in output.get("lanes", [])) or "no lane fitted"
    if line.kind == "repeat_until":
        rounds = output.get("rounds", 0)
        return f"{rounds} round{'s' if rounds != 1 else ''}" + ("" if output.get("came") == "yes" else ", it never was")
    if line.kind == "set_values":
        return cells_brief(output)
    if line.kind == "wait":
        return "It arrived." if output.get("came") == "yes" and output.get("item") else "The wait is over."
    return brief(line.kind, output)


def _head(one: Mapping[str, Any]) -> str:
    named = next((str(one[name]) for name in HEADS if one.get(name)), "")
    return named or next((value for value in one.values() if isinstance(value, str) and value), "")


def cells_brief(cells: Mapping[str, Any]) -> str:
    """A row in brief: the beginnings of its cells."""
    return " · ".join(_short(str(v)) for v in cells.values() if v)[:LONGEST_BRIEF]


def _short(text: str, most: int = 34) -> str:
    text = " ".join(text.split())
    if len(text) <= most:
        return text
    # Cut between words; a long word, such as an address, is cut and not left out.
    cut = text.rfind(" ", 0, most - 1)
    return f"{text[:cut]} …" if cut > 0 else text[: most - 1] + "…"


def cell_view(
    line: Line, sample: int, state: CellState, proof: tables.Proof | None, partial: str = "", stops: Any = ""
) -> CellView:
    """A proof as a cell."""
    view = CellView(step=line.id, sample=sample, state=state, partial=partial, stops=stops)
    if proof is not None:
        fill_cell(view, line, proof.ok, proof.output, proof.detail, proof.usage, proof.at)
    return view


def _counted(output: Mapping[str, Any]) -> str:
    """Of a list that was made smaller: how many of how many, in front of its brief; empty for any other."""
    count, found = output.get("count"), output.get("found")
    if not isinstance(count, int) or not isinstance(found, int) or found <= count or "items" not in output:
        return ""
    return f"{count} of {found} · "


def fill_cell(
    view: CellView, line: Line, ok: bool, output: Mapping[str, Any], detail: Mapping[str, Any], usage: Mapping[str, Any], at: float
) -> None:
    """Put a result into a cell."""
    rounds = detail.get("rounds") or []
    view.at, view.usage = at, UsageView(**usage)
    view.would = str(detail.get("would", ""))
    view.revisions = max(0, len(rounds) - 1)
    view.findings = [FindingView(**f) for f in rounds[-1]["findings"]] if rounds else []
    view.link = str(output.get("link") or "") if line.kind == "publish_post" else ""
    if str(output.get("type", "")).startswith("image/"):
        view.picture = urlsplit(str(output.get("link", ""))).path
    if not ok:
        view.message = str(output.get("message", ""))
    elif view.would == "write":
        view.brief = cells_brief(detail.get("cells", {}))
    elif view.would == "send":
        view.brief = str(output.get("text", ""))[:LONGEST_BRIEF].strip() or brief(line.kind, output)
    elif view.would == "stop":
        view.brief = str(output.get("words", ""))
    elif detail.get("ended"):
        view.brief = f"Ended here: {detail['ended']}"
    elif flow.CALLS in output:
        # An assignment that goes on: what it wants to use next.
        view.brief = str(output.get("text") or "") or "Uses " + ", ".join(str(one["tool"]) for one in output[flow.CALLS])
    elif kinds()[line.kind].stage == "flow":
        view.brief = flow_brief(line, output)
    else:
        view.brief = _counted(output) + brief(line.kind, output)


def marked(before: str, after: str) -> list[ChangeView]:
    """A version set against the one before."""
    return [ChangeView(what=c.what, text=c.text) for c in changes(before, after)]


def versions(detail: Mapping[str, Any]) -> list[VersionView]:
    """The rounds of a draft within one performance, each with its changes."""
    out: list[VersionView] = []
    for i, one in enumerate(detail.get("rounds") or []):
        before = out[-1].text if out else ""
        findings = [FindingView(**f) for f in one["findings"]]
        why = "; ".join(f.says for f in out[-1].findings if not f.kept and f.strength == "must") if out else ""
        marks = marked(before, one["text"]) if i else []
        words = f"Broke off: {one['broken_off']}" if one.get("broken_off") else f"Sent back: {why}" if why else ""
        out.append(VersionView(text=one["text"], why=words, findings=findings, changes=marks))
    return out


def given(workflow: Workflow, line: Line, values: Mapping[str, Any]) -> list[dict[str, Any]]:
    """What the line was given: each value its slots name, once, and the draft an asking line shows."""
    kind = kinds().get(line.kind)
    if kind is None:
        return []
    found: dict[str, Any] = {}
    for _, text in templates_of(kind, line.settings):
        for path in slots.parse(text).reads:
            value = slots.look_up(path, values)
            found[str(path)] = None if value is slots.MISSING else value
    for name, info in kind.settings.model_fields.items():
        if field_control(info).get("control") == "step":
            target = str(line.settings.get(name, ""))
            found[f"{target}.text"] = (values.get(target) or {}).get("text")
    return [{"path": path, "value": value} for path, value in found.items()]


def result_view(
    workflow: Workflow, line: Line, state: CellState, proof: tables.Proof | None, values: Mapping[str, Any]
) -> ResultView:
    """A proof in full."""
    view = ResultView(step=line.id, state=state, given=given(workflow, line, values))
    if proof is None:
        return view
    detail = dict(proof.detail)
    view.messages = detail.pop("messages", [])
    view.versions = versions(proof.detail)
    detail.pop("rounds", None)
    view.detail, view.usage, view.at = detail, UsageView(**proof.usage), proof.at
    if proof.ok:
        view.output = proof.output
    else:
        view.message = str(proof.output.get("message", ""))
    return view
