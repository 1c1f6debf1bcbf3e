"""Who is asked and how they want to be told, stacks answered together, who hears of what is wrong: over the API, also by the unkind."""

from __future__ import annotations

from typing import Any

from tests.api.visitor import WithApi
from tests.protocols.test_pictures import photo
from tests.runtime.house import WHO, page
from ulmus.runtime import files, links, workflows


class Wanted(WithApi):
    def wants(self, **more: Any) -> dict[str, Any]:
        return {
            "zone": "Europe/Paris",
            "quiet": {"days": []},
            "collect": [],
            "away_from": None,
            "away_until": None,
            "substitute": "",
            "chat": "",
            **more,
        }

    def test_one_says_how_to_be_told_and_others_may_not(self) -> None:
        who = self.owner.get("/session")["email"]
        self.owner.put(
            f"/people/{who}/wants", self.wants(collect=["08:00", "14:30"], quiet={"from": "20:00", "until": "07:00", "days": [6]})
        )
        self.assertEqual(self.owner.get(f"/people/{who}/wants")["collect"], ["08:00", "14:30"])
        reader = self.visitor("reader")
        reader.get(f"/people/{who}/wants", 403)
        reader.put(f"/people/{who}/wants", self.wants(), 403)

    def test_what_cannot_be_is_said(self) -> None:
        who = self.owner.get("/session")["email"]
        for wrong in (
            {"collect": ["8 o'clock"]},
            {"quiet": {"from": "20:00", "days": []}},
            {"quiet": {"days": [0, 1, 2, 3, 4, 5, 6]}},
            {"substitute": "nobody"},
            {"substitute": who, "away_until": 9e9},
            {"substitute": "ines@a.example"},
            {"away_from": 20.0, "away_until": 10.0},
            {"zone": "Nowhere/Land"},
            {"chat": "ines@a.example/phone <x>"},
        ):
            self.owner.put(f"/people/{who}/wants", self.wants(**wrong), 422)

    def test_who_is_told_when_something_is_wrong(self) -> None:
        rule = {"workflow": None, "what": ["failed"], "way": "push", "connection": "", "to": "ines@a.example", "at": "", "zone": ""}
        made = self.owner.post("/notices/rules", rule, 201)
        self.assertEqual([one["id"] for one in self.owner.get("/notices/rules")], [made["id"]])
        for wrong in (
            {"to": "nobody"},
            {"way": "mail"},
            {"way": "room"},
            {"at": "25:00"},
            {"what": ["nonsense"]},
            {"workflow": 10_000},
        ):
            self.owner.post("/notices/rules", {**rule, **wrong}, 422)
        maker = self.visitor("maker")
        maker.post("/notices/rules", rule, 403)
        maker.delete(f"/notices/rules/{made['id']}", 403)
        self.owner.delete(f"/notices/rules/{made['id']}")
        self.assertEqual(self.owner.get("/notices/rules"), [])

    def test_a_browser_that_says_nonsense_takes_no_pushes(self) -> None:
        self.assertGreater(len(self.owner.get("/push")["key"]), 80)
        self.owner.post(
            "/push", {"endpoint": "https://push.example/1", "keys": {"p256dh": "AAAA", "auth": "AAAA"}, "name": ""}, 422
        )

    def test_many_are_answered_each_for_itself(self) -> None:
        told = self.owner.post("/approvals/answers", {"ids": [99_998, 99_999], "verdict": "approve"})
        self.assertEqual([bool(one["wrong"]) for one in told], [True, True])


class PicturesToChoose(WithApi):
    def test_whoever_is_asked_by_a_link_sees_the_pictures_and_no_other_file(self) -> None:
        kept = [files.keep(self.services, f"{n}.jpg", "image/jpeg", photo() + bytes([n]))["link"] for n in range(3)]
        start = {"id": "hand", "kind": "by_hand", "settings": {}}
        settings = {"who": WHO, "among": {"First": kept[0], "Second": kept[1]}}
        document = {**page(self.town.url), "start": start, "steps": [{"id": "q", "kind": "ask_choice", "settings": settings}]}
        id_ = self.made(document)
        workflows.go_live(self.engine, id_, WHO)
        with self.engine.transaction() as tx:
            run = self.engine.begin(tx, id_, {}, "By hand")
        asked = self.question(run)
        token = links.sign(self.services.sealer.key, asked.id, WHO)
        stranger = self.visitor()
        shown = stranger.get(f"/letters/{token}")
        self.assertEqual([one["picture"] for one in shown["asks"]["options"]], [True, True])
        shas = [link.rpartition("/")[2] for link in kept]
        told = [stranger.client.get(f"/api/letters/{token}/files/{sha}").status_code for sha in shas]
        self.assertEqual(told, [200, 200, 404])


class ByALinkHandedOn(WithApi):
    def test_whoever_gets_a_mail_handed_on_decides_only_what_it_was_about(self) -> None:
        id_ = self.made(page(self.town.url))
        workflows.go_live(self.engine, id_, WHO)
        first, second = self.question(self.new_item(id_)), self.question(self.new_item(id_))
        token = links.sign(self.services.sealer.key, first.id, WHO)
        stranger = self.visitor()
        shown = stranger.get(f"/letters/{token}")
        self.assertEqual(shown["waiting"], 1)
        self.assertNotIn(second.text, str(shown))
        stranger.put(f"/letters/{token}/times", {"zone": "UTC", "quiet": {"days": [6]}, "collect": []})
        takes_over = {"zone": "UTC", "quiet": {"days": []}, "collect": [], "substitute": "eve@else.example", "away_until": 9e9}
        stranger.put(f"/letters/{token}/times", takes_over, 422)
        told = self.owner.get(f"/people/{WHO}/wants")
        self.assertEqual((told["substitute"], told["away_until"], told["quiet"]["days"]), ("", None, [6]))
        self.assertNotIn("substitute", stranger.get(f"/letters/{token}/times"))
