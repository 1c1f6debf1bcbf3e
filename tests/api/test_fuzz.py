"""No call, however made up, is answered with a fault of our own; a short cut of `make fuzz`."""

from __future__ import annotations

import os
import time
from unittest import mock

from sqlalchemy import select

from tests.api.fuzzing import Fuzz
from tests.api.visitor import WithApi
from ulmus.api.security import auth
from ulmus.runtime import links, workflows
from ulmus.store import tables

CALLS = int(os.environ.get("FUZZ_CALLS", "300"))
SEED = int(os.environ.get("FUZZ_SEED", "7"))
SLOW = 30.0
OUTSIDE = (502, 503, 504)


class Fuzzed(WithApi):
    def test_no_call_meets_a_fault_of_ours(self) -> None:
        id_ = self.live()
        run = self.new_item(id_)
        self.question(run)
        workflows.capture(self.engine, id_)
        document = self.document(id_).model_dump(mode="json")
        key = self.services.sealer.key
        known = {
            "id": [id_, run, 1, 2, 3, 999],
            "workflow": [id_, 999],
            "sample": [1, 2, 99],
            "step": ["post", "page", "feed", "editor", "nothing"],
            "key": ["log", "pond", "marrowbank", "model", "nobody"],
            "row": [1, 2],
            "token": [links.sign(key, 1, "ines@marrowbank.example"), links.sign_key(key, "form", id_), "x.y"],
            "document": [document, document | {"name": "Another"}, {**document, "steps": []}],
            "sha": ["0" * 64],
            "version": [1, 2],
            "text": [str(document["steps"][1]["settings"]["prompt"]), "A post of some words. It has two sentences."],
            "kind": ["draft", "read_page", "posting", "csv", "nothing"],
            "texts": ["FREQ=DAILY", "https://a.example/x", "a.b"],
        }
        fuzz = Fuzz(self.app, SEED, known)
        wrong, counts = [], dict[int, int]()
        people = [self.visitor(role) for role in ("owner", "owner", "maker", "reviewer", "reader")] + [self.visitor()]
        with mock.patch.object(auth, "TRIES", 10**9), mock.patch.object(auth, "TRIES_OF_PLACE", 10**9):
            for n in range(CALLS):
                visitor = people[n % len(people)]
                began = time.monotonic()
                method, path, sent, status, said = fuzz.call(visitor)
                took = time.monotonic() - began
                counts[status] = counts.get(status, 0) + 1
                if (status >= 500 and status not in OUTSIDE) or took > SLOW:
                    wrong.append(f"{n}: {method} {path} {str(sent)[:400]!r} → {status} in {took:.1f} s: {said}")
                if n % 50 == 0:
                    self.revive(people)
        print(f"\n{CALLS} calls by {len(fuzz.operations)} operations: {dict(sorted(counts.items()))}")
        self.assertEqual(wrong, [], "\n".join(wrong[:20]))

    def revive(self, people: list[auth.Any]) -> None:
        """Accounts and sessions as they were, whatever a call did to them."""
        with self.services.store.write() as session:
            for user in session.scalars(select(tables.User)):
                role = user.email.partition("@")[0]
                if role in auth.ROLES:
                    user.role, user.ended_at, user.password = role, None, self.hashes["p"]
        for visitor, role in zip(people, ("owner", "owner", "maker", "reviewer", "reader"), strict=False):
            if visitor.client.get("/api/today").status_code == 401:
                visitor.sign_in(f"{role}@a.example")
