"""Read models shared by the workbench, runs and approvals: lines, cells and results in full."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from typing import Any, Literal
from urllib.parse import urlsplit

from ..core import flow, slots
from ..core.diff import changes
from ..core.drafting import best_round
from ..core.pieces import in_brief
from ..core.workflow import (
    Lane,
    Line,
    LineProblem,
    Workflow,
    World,
    is_shared,
    points_at,
    sentence,
    take_name,
    takes_of,
    templates_of,
)
from ..core.workflow.briefs import brief, counted, row_in_brief
from ..core.workflow.controls import Rules, with_control
from ..core.workflow.kinds import BlockSpec, KindSpec, SendSpec
from ..core.workflow.plans import CallInPlan, FormPlan, HandPlan
from ..runtime.dependencies import dependents
from ..runtime.execution import plan_of
from ..steps import kinds
from ..store import tables
from .models import (
    CellState,
    CellView,
    ChangeView,
    FindingView,
    LineProblemView,
    LineView,
    OpinionView,
    PartView,
    ResultView,
    UsageView,
    VersionView,
)
from .pieces import piece_view, proof_piece


def is_pushed(start: Line) -> bool:
    """Whether a start waits for somebody to set it off."""
    return start.kind in kinds() and isinstance(plan_of(start), HandPlan | FormPlan | CallInPlan)


def problem_view(problem: LineProblem) -> LineProblemView:
    """A finding, for the page."""
    return LineProblemView(**{**vars(problem), "place": list(problem.place), "columns": list(problem.columns)})


def _longest(line: Line, world: World) -> int | None:
    """The most characters what the line makes may have: by its rule of length, or by the channel it goes out on."""
    kind = kinds().get(line.kind)
    if kind is None:
        return None
    rules = with_control(kind.settings, Rules)
    most = Rules.longest(line.settings.get(rules.name)) if rules is not None else None
    if most is not None or not isinstance(kind, SendSpec):
        return most
    channels = (world.connections.get(key) for _, key in points_at(kind, line.settings, "connection"))
    return next((channel.takes.length for channel in channels if channel is not None), None)


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
                holds=held_by(kind),
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


def held_by(kind: KindSpec[Any] | None) -> Literal["", "steps", "lanes"]:
    """What a line of a kind holds."""
    return "" if not isinstance(kind, BlockSpec) else "lanes" if kind.has_lanes else "steps"


def _take(line: Line, take: Line, index: int, depth: int) -> LineView:
    words = [
        PartView(what="text", text="or, by lot: " if is_shared(line, kinds()) else "or: "),
        PartView(what="value", text=take_name(line, kinds(), take.id)),
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
        holds="steps",
    )


def cell_view(
    line: Line, sample: int, state: CellState, proof: tables.Proof | None, world: World, partial: str = "", stops: Any = ""
) -> CellView:
    """A proof as a cell."""
    view = CellView(step=line.id, sample=sample, state=state, partial=partial, stops=stops)
    if proof is not None:
        fill_cell(view, line, proof.ok, proof.output, proof.detail, proof.usage, proof.at)
        if (piece := proof_piece(line, proof, world)) is not None:
            view.piece = in_brief(piece.piece, piece.takes)
            view.brief = view.piece.text or view.brief
    return view


def fill_cell(
    view: CellView, line: Line, ok: bool, output: Mapping[str, Any], detail: Mapping[str, Any], usage: Mapping[str, Any], at: float
) -> None:
    """Put a result into a cell."""
    rounds = detail.get("rounds") or []
    view.at, view.usage = at, UsageView(**usage)
    view.would = str(detail.get("would", ""))
    view.revisions = max(0, len(rounds) - 1)
    view.findings = [FindingView(**f) for f in best_round(detail).get("findings", [])]
    kind = kinds()[line.kind]
    view.link = str(output.get("link") or "") if isinstance(kind, SendSpec) else ""
    if str(output.get("type", "")).startswith("image/"):
        view.picture = urlsplit(str(output.get("link", ""))).path
    if not ok:
        view.message = str(output.get("message", ""))
    elif view.would == "write":
        view.brief = row_in_brief(detail.get("cells", {}))
    elif view.would == "send" and isinstance(kind, SendSpec):
        piece = piece_view(kind.form, detail.get("piece") or output, "", World())
        view.piece = piece.brief if piece is not None else None
        view.brief = (view.piece.text if view.piece is not None else "") or brief(kind, output)
    elif view.would == "stop":
        view.brief = str(output.get("words", ""))
    elif detail.get("ended"):
        view.brief = f"Ended here: {detail['ended']}"
    elif flow.CALLS in output:
        # An assignment that goes on: what it wants to use next.
        view.brief = str(output.get("text") or "") or "Uses " + ", ".join(str(one["tool"]) for one in output[flow.CALLS])
    else:
        view.brief = counted(output) + brief(kind, output)


def marked(before: str, after: str) -> list[ChangeView]:
    """A version set against the one before."""
    return [ChangeView(what=c.what, text=c.text) for c in changes(before, after)]


def versions(detail: Mapping[str, Any]) -> list[VersionView]:
    """The rounds of a draft within one performance, each with its changes."""
    out: list[VersionView] = []
    best = best_round(detail)
    for i, one in enumerate(detail.get("rounds") or []):
        before = out[-1].text if out else ""
        findings = [FindingView(**f) for f in one["findings"]]
        why = "; ".join(f.says for f in out[-1].findings if not f.kept and f.strength == "must") if out else ""
        marks = marked(before, one["text"]) if i else []
        words = f"Broke off: {one['broken_off']}" if one.get("broken_off") else f"Sent back: {why}" if why else ""
        parts = [words, f"Put right here: {'; '.join(one['mended'])}" if one.get("mended") else ""]
        parts += ["Kept: it broke the least" if one is best and "best" in detail else ""]
        words = ". ".join(part for part in parts if part)
        said = [OpinionView(**opinion) for opinion in detail.get("opinions") or []] if one is best else []
        out.append(VersionView(text=one["text"], why=words, findings=findings, changes=marks, opinions=said))
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
    for _, target in points_at(kind, line.settings, "step"):
        found[f"{target}.text"] = (values.get(target) or {}).get("text")
    return [{"path": path, "value": value} for path, value in found.items()]


def result_view(
    workflow: Workflow, line: Line, state: CellState, proof: tables.Proof | None, values: Mapping[str, Any], world: World
) -> ResultView:
    """A proof in full."""
    view = ResultView(step=line.id, state=state, given=given(workflow, line, values))
    if proof is None:
        return view
    detail = dict(proof.detail)
    view.messages = detail.pop("messages", [])
    view.versions = versions(proof.detail)
    detail.pop("rounds", None)
    detail.pop("piece", None)
    view.detail, view.usage, view.at = detail, UsageView(**proof.usage), proof.at
    if proof.ok:
        view.output, view.piece = proof.output, proof_piece(line, proof, world)
    else:
        view.message = str(proof.output.get("message", ""))
    return view
