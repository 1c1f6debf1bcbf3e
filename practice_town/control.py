"""The control page: a new feed item, faults, habits of the practice model; the same as JSON for tests."""

from __future__ import annotations

from flask import Blueprint, Response, jsonify, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from .faults import MODES
from .sites import state
from .world import SITES, articles

bp = Blueprint("control", __name__, url_prefix="/control")
HABITS = {
    "length": "Writes too long",
    "counts": "Uses more hashtags than asked for",
    "figure": "Makes up a figure",
    "quotes": "Puts the post in quotation marks",
    "emoji": "Adds an emoji",
    "preamble": "Says something before the post",
    "invent": "Chooses a link that was not offered",
    "format": "Leaves out a field, or wraps it in talk",
    "pace": "Pause between words",
}


@bp.get("")
def page() -> str:
    left = {s: len(articles(s)) - len(state().released[s]) for s in SITES}
    return render_template(
        "control.html",
        sites=SITES.values(),
        left=left,
        faults=MODES,
        on=state().faults,
        habits=HABITS,
        values=state().habits,
        said=request.args.get("said", ""),
    )


@bp.post("/release")
def release() -> AnyResponse:
    site = request.form.get("site", "furrow-letter")
    slug = state().release(site) if site in SITES else None
    title = next((a.title for a in articles(site) if a.slug == slug), "") if site in SITES else ""
    return _back(f"Published: {title}" if title else "Every article is out already.")


@bp.post("/fault")
def fault() -> AnyResponse:
    outside, mode = request.form.get("outside", ""), request.form.get("mode", "")
    if outside not in MODES or (mode and mode not in MODES[outside]):
        return Response("There is no such fault.", 400)
    left = request.form.get("left", "")
    state().set_fault(outside, mode, int(left) if left.isdigit() else None)
    return _back(f"{outside}: {MODES[outside].get(mode, 'as it should')}.")


@bp.post("/habits")
def habits() -> AnyResponse:
    with state().lock:
        for name in HABITS:
            if request.form.get(name, "").isdigit():
                state().habits[name] = min(int(request.form[name]), 200)
        state().save()
    return _back("The model’s habits are set.")


@bp.post("/backdate")
def backdate() -> Response:
    """Give posts and mails other times: a JSON object from ``uid`` to seconds since the epoch."""
    times = request.get_json(silent=True) or {}
    with state().lock:
        for post in state().posts:
            post["at"] = float(times.get(post["uid"]) or post["at"])
        for mail in state().mails:
            mail["at"] = float(times.get(mail["message_id"].strip("<>").split("@")[0]) or mail["at"])
        state().posts.sort(key=lambda p: p["at"])
        state().save()
    return jsonify({"posts": len(state().posts)})


@bp.get("/state")
def everything() -> Response:
    """What the town has kept, as JSON."""
    town = state()
    return jsonify({"posts": town.posts, "mails": town.mails, "counts": town.counts, "faults": town.faults})


def _back(said: str) -> AnyResponse:
    return redirect(url_for("control.page", said=said))
