"""What came back, set against the takes that wrote it: which opening was answered more often."""

from __future__ import annotations

from typing import Any

from tests.api.visitor import WithApi
from tests.runtime.house import WHO
from ulmus.runtime import results, workflows
from ulmus.store import tables


class ByTake(WithApi):
    def setUp(self) -> None:
        super().setUp()
        fields = [{"name": "to", "label": "To"}]
        draft = {
            "model": "model",
            "prompt": "One sentence. The bean gave a full crop.",
            "takes": [{"name": "Plain", "prompt": "Plainly. The pea stood two dry summers."}],
            "shared": True,
        }
        letter = {"server": "mail", "to": "<<topic.to>>", "subject": "Beans", "text": "<<post.text>>"}
        self.id_ = self.made(
            {
                "format": "ulmus-workflow",
                "version": 1,
                "name": "Letters",
                "start": {"id": "topic", "kind": "by_hand", "settings": {"fields": fields}},
                "steps": [
                    {"id": "post", "kind": "draft", "settings": draft},
                    {"id": "editor", "kind": "ask", "settings": {"draft": "post", "who": WHO}},
                    {"id": "letter", "kind": "send_letter", "settings": letter},
                ],
            }
        )
        with self.services.store.write() as session:
            workflows.add_sample(session, self.id_, {"title": "One", "to": "a@b.example"}, "typed", 1.0)
        workflows.go_live(self.engine, self.id_, WHO)

    def live(self) -> list[dict[str, Any]]:
        return [t["live"] for t in self.owner.get(f"/workflows/{self.id_}/takes/post")["tallies"]]

    def test_answers_and_presses_are_counted_for_the_take_that_wrote_with_their_bounds(self) -> None:
        self.assertEqual([one["answered"] for one in self.live()], [None, None])
        sent: dict[bool, list[bool]] = {True: [], False: []}
        for n in range(8):
            run = self.engine.runs.push(self.id_, {"to": f"lead{n}@b.example"})
            assert run is not None
            self.answer(run)
            self.until(run, "done")
            with self.services.store.read() as session:
                rows = session.query(tables.JournalEntry).filter(tables.JournalEntry.run_id == run)
                (done,) = [e.event for e in rows if e.event["event"] == "done" and e.event["address"] == "post"]
            answered = n % 2 == 0
            sent[done["detail"]["take"] == "Plain"].append(answered)
            with self.services.store.write() as session:
                for _ in range(2 if answered else 0):
                    # Somebody who answers twice has answered.
                    results.note(session, self.piece(run).id, "answer", f"lead{n}@b.example", 1.0, detail=str(_))
        self.assertTrue(sent[True] and sent[False], "both had their turn")
        own, plain = self.live()
        for told, found in ((own, sent[False]), (plain, sent[True])):
            self.assertEqual((told["answered"]["of"], told["answered"]["did"]), (len(found), sum(found)))
            self.assertLessEqual(told["answered"]["low"], sum(found) / len(found))
            self.assertGreaterEqual(told["answered"]["high"], sum(found) / len(found))
            self.assertEqual(told["pressed"]["did"], 0)
