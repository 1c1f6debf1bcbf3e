"""What the town remembers: posts, mail, which articles are out, and which faults are switched on.

Kept in one JSON file, so that the town can be stopped and started like the real outside.
"""

from __future__ import annotations

import json
import os
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from .world import SITES, Article, articles, slug_of

DAY = 86400.0


@dataclass
class Network:
    """How Pondside is: a kind network at first. One that is unkind keeps doubles, lists late (in seconds), lists without keys,
    gives no pages or shorter ones, has no dates, takes JSON or forms only, answers without a Location, or only accepts
    (then posts appear after so many seconds). `takes_time` is how long it takes to answer, half before and half after the post
    is there."""

    keeps_doubles: bool = False
    late: float = 0.0
    keys: bool = True
    pages: bool = True
    most: int = 100
    dates: bool = True
    takes: str = "both"
    location: bool = True
    accepts: float = 0.0
    moves: int = 0
    takes_time: float = 0.0
    media: bool = False


class State:
    """The town's memory. Thread-safe."""

    def __init__(self, path: Path | None = None) -> None:
        self.path = path
        self.lock = threading.RLock()
        self.posts: list[dict[str, Any]] = []
        self.mails: list[dict[str, Any]] = []
        self.letters: list[dict[str, Any]] = []
        self.leads: list[dict[str, Any]] = []
        self.changes: list[dict[str, Any]] = []
        self.messages: list[dict[str, Any]] = []
        self.entries: list[dict[str, Any]] = []
        self.offers: list[dict[str, Any]] = []
        self.granted: dict[str, Any] = {"access": {}, "refresh": {}, "codes": {}, "seconds": 3600}
        self.faults: dict[str, dict[str, Any]] = {}
        names = ("length", "counts", "quotes", "emoji", "preamble", "format", "figure", "invent", "pace")
        self.habits: dict[str, Any] = dict.fromkeys(names, 0)
        self.released: dict[str, dict[str, float]] = {}
        self.written: list[dict[str, Any]] = []
        """Articles that somebody wrote on the control page."""
        self.changed: dict[str, dict[str, Any]] = {}
        """What was changed in articles that are out, and when, by site and slug (``site/slug``)."""
        self.spoken: list[dict[str, Any]] = []
        """Episodes that somebody had read on the control page, the newest last."""
        self.counts: dict[str, int] = {}
        self.calls: list[dict[str, Any]] = []
        self.jobs: dict[str, dict[str, Any]] = {}
        self.told: dict[str, dict[str, Any]] = {}
        """Whom the hub tells of what is new, by where it calls."""
        self.on_release: list[Callable[[str], None]] = []
        self.calendar = ""
        self.network = Network()
        self.media: list[tuple[str, bytes]] = []
        self.token = "pond-token"
        self.takes_time = 0.0
        """Seconds that what changes something takes, half of them before it is there and half after."""
        if path is not None and path.exists():
            self.__dict__.update(json.loads(path.read_text("utf-8")))
        if not self.released:
            self._first_articles()

    def _first_articles(self) -> None:
        now = time.time()
        for site in SITES.values():
            out = articles(site.slug)[: -site.held_back]
            ages = [0.06, 0.2, 1.2, *(1.2 + 1.6 * n for n in range(1, len(out)))]
            self.released[site.slug] = {a.slug: now - age * DAY for a, age in zip(reversed(out), ages, strict=False)}

    @contextmanager
    def working(self) -> Iterator[None]:
        """Hold the memory while something is changed in it, which takes its time before and after."""
        time.sleep(self.takes_time / 2)
        with self.lock:
            yield
        time.sleep(self.takes_time / 2)

    def save(self) -> None:
        """Write the memory down; callers hold the lock."""
        if self.path is None:
            return
        keep = (
            "posts",
            "mails",
            "letters",
            "leads",
            "changes",
            "messages",
            "entries",
            "offers",
            "granted",
            "faults",
            "habits",
            "released",
            "written",
            "changed",
            "spoken",
            "counts",
            "calls",
            "jobs",
            "told",
        )
        new = self.path.with_suffix(".new")
        new.write_text(json.dumps({name: getattr(self, name) for name in keep}), "utf-8")
        os.replace(new, self.path)

    def release(self, site: str) -> str | None:
        """Publish the next article of `site`; gives its slug, or ``None`` where all are out."""
        with self.lock:
            for article in articles(site):
                if article.slug not in self.released[site]:
                    self.released[site][article.slug] = time.time()
                    self.save()
                    break
            else:
                return None
        self._tell(site)
        return article.slug

    def articles(self, site: str) -> list[Article]:
        """All articles of `site`, out or not, as they read now."""
        own = [
            Article(site, n, w["slug"], w["title"], w["author"], tuple(w["tags"]), tuple(w["paragraphs"]))
            for n, w in enumerate(self.written, start=1001)
            if w["site"] == site
        ]
        return [self._as_changed(one) for one in (*articles(site), *own)]

    def _as_changed(self, article: Article) -> Article:
        told = self.changed.get(f"{article.site}/{article.slug}")
        return replace(article, title=told["title"], paragraphs=tuple(told["paragraphs"])) if told else article

    def write(self, site: str, title: str, author: str, tags: Sequence[str], paragraphs: Sequence[str]) -> str:
        """Publish an article somebody wrote; gives its slug, which no other has."""
        with self.lock:
            taken, base, n = {a.slug for a in self.articles(site)}, slug_of(title), 2
            slug = base
            while slug in taken:
                slug, n = f"{base}-{n}", n + 1
            told = {"site": site, "slug": slug, "title": title, "author": author, "tags": list(tags)}
            self.written.append({**told, "paragraphs": list(paragraphs)})
            self.released[site][slug] = time.time()
            self.save()
        self._tell(site)
        return slug

    def change(self, site: str, slug: str, title: str, paragraphs: Sequence[str]) -> None:
        """Change an article that is out: it keeps its address and its date, and is said to be updated."""
        with self.lock:
            self.changed[f"{site}/{slug}"] = {"title": title, "paragraphs": list(paragraphs), "at": time.time()}
            self.save()
        self._tell(site)

    def speak(self, title: str, paragraphs: Sequence[str]) -> None:
        """Publish an episode in which a text is read."""
        with self.lock:
            self.spoken.append({"title": title, "paragraphs": list(paragraphs), "at": time.time(), "slug": slug_of(title)})
            taken = [one["slug"] for one in self.spoken]
            if taken.count(taken[-1]) > 1:
                self.spoken[-1]["slug"] += f"-{len(taken)}"
            self.save()

    def _tell(self, site: str) -> None:
        for hear in self.on_release:
            threading.Thread(target=hear, args=(site,), daemon=True).start()

    def times_tried(self, what: str) -> int:
        """How often something was tried, this time included."""
        with self.lock:
            self.counts[what] = self.counts.get(what, 0) + 1
            return self.counts[what]

    def fault(self, outside: str) -> str:
        """The fault in force for `outside` (empty where none); one that was set for once is used up by asking."""
        with self.lock:
            self.counts[outside] = self.counts.get(outside, 0) + 1
            current = self.faults.get(outside)
            if not current:
                return ""
            left = current.get("left")
            if left is not None:
                current["left"] = left - 1
                if left <= 1:
                    del self.faults[outside]
            self.save()
            return str(current["mode"])

    def mode(self, outside: str) -> str:
        """The fault in force for `outside`, which asking does not use up."""
        with self.lock:
            return str(self.faults.get(outside, {}).get("mode", ""))

    def set_fault(self, outside: str, mode: str, left: int | None) -> None:
        """Switch a fault on (for `left` requests, or until switched off) or, with an empty mode, off."""
        with self.lock:
            self.faults.pop(outside, None)
            if mode:
                self.faults[outside] = {"mode": mode, "left": left}
            self.save()
