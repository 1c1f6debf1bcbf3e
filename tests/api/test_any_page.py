"""Whatever is done to a page, and whatever stands in its settings: it can be opened, and what is wrong is said in words."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from typing import Any

from tests.api.visitor import WithApi
from tests.short import WHOLE, some
from ulmus.core.workflow.kinds import StartSpec
from ulmus.runtime import workflows
from ulmus.runtime.sharing import templates
from ulmus.steps import kinds

SEED = 20261125
CHANGES = ("add", "move", "up", "down", "in", "out", "duplicate", "remove", "rename", "add_lane", "remove_lane", "start", "mute")
SHAPES: tuple[Any, ...] = (None, True, 7, "<<x.y | z>>", [1], [{}], {"a": 1}, {"a": None}, "")
ITEM = {"title": "One", "link": "http://a.example/one", "text": "Words.", "names": "bean\npea"}


def lines_of(document: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Every line and lane of a document but its start."""
    for one in (*document.get("steps", []), *document.get("lanes", [])):
        yield one
        yield from lines_of(one)


class AnyPage(WithApi):
    """Nothing answers with a fault of ours: `see` looks at all a workbench shows."""

    def ask_for(self, method: str, path: str, body: Any = None, **query: Any) -> Any:
        answer = self.owner.client.open(
            f"/api{path}", method=method, headers={"X-CSRF-Token": self.owner.csrf}, json=body, query_string=query
        )
        self.assertNotEqual(answer.status_code, 500, f"{method} {path} {json.dumps(body)[:600]}")
        if answer.status_code >= 400:
            self.assertTrue(answer.json["message"], "a refusal has words")
        return answer.json

    def begun(self, **body: Any) -> tuple[str, int]:
        id_ = self.owner.post("/workflows", body, 201)["id"]
        with self.services.store.write() as session:
            sample = workflows.add_sample(session, id_, ITEM, "typed", 1.0).id
        return f"/workflows/{id_}", sample

    def see(self, path: str, sample: int, line: str) -> None:
        self.ask_for("GET", f"{path}/cells/{sample}/{line}")
        self.ask_for("GET", f"{path}/values/{line}", sample=str(sample))
        self.ask_for("GET", f"{path}/offers", line=line, words="draft")
        self.ask_for("GET", f"{path}/forecast")

    def test_random_changes_leave_a_page_that_opens(self) -> None:
        chance = random.Random(SEED)
        for key in chance.sample(sorted(templates()), 5):
            path, sample = self.begun(template=key)
            for _ in range(16 if WHOLE else 8):
                bench = self.owner.get(f"{path}/bench")
                names = [line["id"] for line in bench["lines"]]
                self.change(chance, path, bench, names)
                self.see(path, sample, chance.choice(names))

    def change(self, chance: random.Random, path: str, bench: dict[str, Any], names: list[str]) -> None:
        what = chance.choice(CHANGES)
        if what == "mute":
            document = bench["document"]
            found = list(lines_of(document))
            if found:
                one = chance.choice(found)
                one["muted"] = not one.get("muted")
                self.ask_for("PUT", path, {"document": document, "version": bench["version"]})
            return
        starts = what == "start"
        kind = chance.choice(sorted(k.name for k in kinds().values() if isinstance(k, StartSpec) == starts))
        body = {"version": bench["version"], "what": what, "kind": kind, "line": chance.choice([*names, ""])}
        where = {"parent": chance.choice([*names, ""]), "index": chance.randint(-1, 4), "name": chance.choice(["x", "a b", "é"])}
        self.ask_for("POST", f"{path}/edits", {**body, **where})

    def test_settings_of_any_shape_are_told_and_not_tripped_over(self) -> None:
        chance = random.Random(SEED)
        empty = {"format": "ulmus-workflow", "version": 1, "name": "Odd", "start": {"id": "start", "kind": "by_hand"}, "steps": []}
        path, sample = self.begun(document=empty)
        version = self.owner.get(f"{path}/bench")["version"]
        for spec in some(kinds().values(), 5):
            for n, name in enumerate(spec.settings.model_fields):
                line = {"id": "odd", "kind": spec.name, "settings": {name: chance.choice(SHAPES)}}
                document = {**empty, "start": line} if isinstance(spec, StartSpec) else {**empty, "steps": [line]}
                with self.subTest(kind=spec.name, setting=name, shape=line["settings"][name]):
                    self.ask_for("PUT", path, {"document": document, "version": version})
                    bench = self.owner.get(f"{path}/bench")
                    version = bench["version"]
                    self.assertTrue(next(one["sentence"] for one in bench["lines"] if one["id"] == "odd"))
                    self.ask_for("GET", f"{path}/cells/{sample}/odd")
                    self.ask_for("GET", f"{path}/forecast")
                    if n % 4 == 0:
                        self.see(path, sample, "odd")
                        self.ask_for("GET", f"{path}/file")
