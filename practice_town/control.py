"""The control page: a new feed item, faults, habits of the practice model; the same as JSON for tests."""

from __future__ import annotations

from flask import Blueprint, Response, jsonify, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from .faults import MODES
from .sites import out, state
from .world import SITES, articles, paragraphs_of

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
    town = state()
    left = {s: sum(a.slug not in town.released[s] for a in articles(s)) for s in SITES}
    chosen = request.args.get("change", "")
    changing = next((a for s in SITES for a, _ in out(s) if f"{s}/{a.slug}" == chosen), None)
    return render_template(
        "control.html",
        sites=SITES.values(),
        left=left,
        published=[(s, out(s.slug)[:30]) for s in SITES.values()],
        changing=changing,
        faults=MODES,
        on=town.faults,
        habits=HABITS,
        values=town.habits,
        said=request.args.get("said", ""),
    )


@bp.post("/release")
def release() -> AnyResponse:
    site = request.form.get("site", "furrow-letter")
    slug = state().release(site) if site in SITES else None
    title = next((a.title for a in articles(site) if a.slug == slug), "") if site in SITES else ""
    return _back(f"Published: {title}" if title else "Every article is out already.")


@bp.post("/write")
def write() -> AnyResponse:
    """Publish an article that somebody wrote."""
    site, title, paragraphs = request.form.get("site", ""), _title(), paragraphs_of(request.form.get("text", ""))
    if site not in SITES or not title or not paragraphs:
        return _back("An article has a title and a text.")
    tags = [tag.strip() for tag in request.form.get("tags", "").split(",") if tag.strip()]
    state().write(site, title, request.form.get("author", "").strip()[:80] or "A reader", tags, paragraphs)
    return _back(f"Published: {title}")


@bp.post("/change")
def change() -> AnyResponse:
    """Change an article that is out."""
    site, _, slug = request.form.get("article", "").partition("/")
    title, paragraphs = _title(), paragraphs_of(request.form.get("text", ""))
    if site not in SITES or slug not in state().released[site]:
        return _back("That article is not out.")
    if not title or not paragraphs:
        return _back("An article has a title and a text.")
    state().change(site, slug, title, paragraphs)
    return _back(f"Changed: {title}")


@bp.post("/speak")
def speak() -> AnyResponse:
    """Publish an episode in which a text is read."""
    title, paragraphs = _title(), paragraphs_of(request.form.get("text", ""))
    if not title or not paragraphs:
        return _back("An episode has a title, and something is said in it.")
    state().speak(title, paragraphs)
    return _back(f"On the air: {title}")


def _title() -> str:
    return " ".join(request.form.get("title", "").split())[:200]


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
