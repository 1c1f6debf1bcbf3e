"""Starts through the API: by hand, forms, calls, schedules; and what people do with runs that ask."""

from __future__ import annotations

import hashlib
import hmac
import io
import json
import time
from typing import Any

from sqlalchemy import select

from tests.api.visitor import WithApi
from ulmus.runtime import workflows
from ulmus.runtime.calls import WINDOW, CallRefused, prove, read_body
from ulmus.store import tables

SAY = {"id": "say", "kind": "set_values", "settings": {"values": {"text": "<<start.title>>!"}}}


class Started(WithApi):
    def started(self, kind: str, steps: list[dict[str, Any]] | None = None, live: bool = True, **settings: Any) -> int:
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": f"On {kind}",
            "start": {"id": "start", "kind": kind, "settings": settings},
            "steps": steps or [SAY],
        }
        id_ = self.made(document)
        if live:
            workflows.go_live(self.engine, id_, "m")
            self.engine.polling.look_at(id_)
        return id_

    def path(self, url: str) -> str:
        return url.removeprefix("http://ulmus.example")

    def runs(self) -> list[tables.Run]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.Run).order_by(tables.Run.id)))

    def item(self, run: int) -> dict[str, Any]:
        return dict(self.engine.live(run).state.values["start"])


class ByHand(Started):
    FIELDS = [{"name": "topic", "label": "Topic", "required": True}, {"name": "n", "label": "Number", "type": "number"}]

    def test_with_its_fields(self) -> None:
        id_ = self.started("by_hand", fields=self.FIELDS)
        run = self.owner.post(f"/workflows/{id_}/start", {"values": {"topic": "Beans", "n": "3"}}, 201)["run"]
        self.until(run, "done")
        self.assertEqual((self.item(run)["topic"], self.item(run)["n"], self.item(run)["by"]), ("Beans", 3, "owner@a.example"))
        refused = self.owner.post(f"/workflows/{id_}/start", {"values": {"n": "many"}}, 422)
        self.assertEqual({p["where"] for p in refused["problems"]}, {"topic", "n"})

    def kept(self, content: bytes, name: str, status: int = 201) -> dict[str, Any]:
        form = {"file": (io.BytesIO(content), name)}
        return dict(self.owner.ask("POST", "/files", status, data=form, content_type="multipart/form-data"))

    def test_with_a_file(self) -> None:
        file = self.kept(b"Seeds and sowing.", "notes.txt")
        self.assertEqual((file["name"], file["size"]), ("notes.txt", 17))
        fields = [{"name": "notes", "label": "Notes", "type": "file", "kinds": [".txt"], "required": True}]
        read = {"id": "file", "kind": "read_file", "settings": {"file": "<<start.notes.link>>"}}
        id_ = self.started("by_hand", [read, {**SAY, "settings": {"values": {"text": "<<file.text>>"}}}], fields=fields)
        run = self.owner.post(f"/workflows/{id_}/start", {"values": {"notes": file}}, 201)["run"]
        self.until(run, "done")
        self.assertEqual(self.engine.live(run).state.values["file"]["text"], "Seeds and sowing.")
        other = self.kept(b"x", "notes.exe")
        refused = self.owner.post(f"/workflows/{id_}/start", {"values": {"notes": other}}, 422)
        self.assertIn("Only .txt", refused["problems"][0]["message"])

    def test_files_are_kept_for_makers_and_must_be_there(self) -> None:
        self.assertIn("Choose a file", self.kept(b"", "", 422)["message"])
        self.assertEqual(self.kept(bytes(17_000_000), "long.wav")["size"], 17_000_000)
        form = {"file": (io.BytesIO(b"x"), "x.txt")}
        self.visitor("reviewer").ask("POST", "/files", 403, data=form, content_type="multipart/form-data")

    def test_not_before_it_is_live_and_not_by_a_reviewer(self) -> None:
        id_ = self.started("by_hand", live=False)
        self.assertIn("not live", self.owner.post(f"/workflows/{id_}/start", {}, 409)["message"])
        self.visitor("reviewer").post(f"/workflows/{id_}/start", {}, 403)

    def test_on_a_sample_for_real(self) -> None:
        id_ = self.started("call")
        self.assertIn("sample", self.owner.post(f"/workflows/{id_}/start", {}, 422)["message"])
        self.owner.post(f"/workflows/{id_}/samples", {"item": {"title": "Typed", "body": {}}})
        sample = self.owner.get(f"/workflows/{id_}/bench")["samples"][0]["id"]
        run = self.owner.post(f"/workflows/{id_}/start", {"sample": sample}, 201)["run"]
        self.assertEqual(self.until(run, "done").title, "Typed")

    def test_what_arrived_becomes_samples(self) -> None:
        id_ = self.started("by_hand", fields=self.FIELDS)
        self.assertIn("Nothing has arrived", self.owner.post(f"/workflows/{id_}/samples", {"count": 2}, 502)["message"])
        for topic in ("Beans", "Peas"):
            self.owner.post(f"/workflows/{id_}/start", {"values": {"topic": topic}}, 201)
        self.owner.post(f"/workflows/{id_}/samples", {"count": 2})
        labels = [s["item"]["topic"] for s in self.owner.get(f"/workflows/{id_}/bench")["samples"]]
        self.assertEqual(labels, ["Peas", "Beans"])


class Forms(Started):
    FIELDS = [
        {"name": "name", "label": "Name", "required": True},
        {"name": "photo", "label": "Photo", "type": "file", "largest_mb": 1, "kinds": [".png"]},
    ]

    def setUp(self) -> None:
        super().setUp()
        self.id_ = self.started("form", heading="Ask us", fields=self.FIELDS, thanks="Thanks, <b>you</b>.", hourly=3)
        self.url = "/api/forms/" + self.owner.get(f"/workflows/{self.id_}/start")["form_url"].rsplit("/", 1)[1]
        self.stranger = self.app.test_client()

    def send(self, status: int = 200, **fields: Any) -> Any:
        answer = self.stranger.post(self.url, data=fields, content_type="multipart/form-data")
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json

    def test_a_stranger_fills_it_in_and_a_run_starts(self) -> None:
        self.assertEqual(self.stranger.get(self.url).json["heading"], "Ask us")
        self.assertEqual(self.send(name="Petra")["says"], "Thanks, <b>you</b>.")
        self.wait_for(lambda: len(self.runs()) == 1)
        self.assertEqual((self.runs()[0].title, self.item(self.runs()[0].id)["name"]), ("Petra", "Petra"))

    def test_a_file_is_kept_and_can_be_fetched_by_who_is_signed_in(self) -> None:
        self.send(name="Petra", photo=(io.BytesIO(b"\x89PNG picture"), "../boat.png"))
        photo = self.item(self.runs()[0].id)["photo"]
        self.assertEqual((photo["name"], photo["size"]), ("boat.png", 12))
        path = self.path(photo["link"]).removeprefix("/api")
        self.assertIn("picture", self.owner.client.get(f"/api{path}").get_data().decode("latin-1"))
        self.assertEqual(self.stranger.get(f"/api{path}").status_code, 401)

    def test_what_is_wrong_is_said_field_by_field_and_starts_nothing(self) -> None:
        told = self.send(422, photo=(io.BytesIO(b"x"), "boat.exe"), other="x")
        self.assertEqual({p["where"] for p in told["problems"]}, {"name", "photo", "other"})
        self.assertEqual(self.runs(), [])

    def test_a_program_that_fills_in_everything_is_thanked_and_forgotten(self) -> None:
        self.assertIn("Thanks", self.send(name="Bot", leave_this_empty="http://spam.example")["says"])
        self.assertEqual(self.runs(), [])

    def test_too_often_from_one_address(self) -> None:
        for _ in range(3):
            self.send(name="Petra")
        self.assertIn("very often", self.send(429, name="Petra")["message"])

    def test_a_paused_workflow_closes_its_form(self) -> None:
        workflows.pause(self.engine, self.id_, "m")
        self.assertFalse(self.stranger.get(self.url).json["open"])
        self.assertIn("closed", self.send(409, name="Petra")["message"])

    def test_an_address_that_was_made_up(self) -> None:
        self.assertEqual(self.stranger.get("/api/forms/NQ.made-up").status_code, 404)


class Calls(Started):
    def called(self, **settings: Any) -> Any:
        self.id_ = self.started("call", **settings)
        view = self.owner.get(f"/workflows/{self.id_}/start")
        self.secret = view["call_secret"]
        return self.path(view["call_url"])

    def post(self, url: str, body: Any = None, status: int = 202, **headers: str) -> Any:
        data = body if isinstance(body, bytes) else json.dumps(body or {}).encode()
        given = {"Content-Type": "application/json"} | {k.replace("_", "-"): v for k, v in headers.items()}
        answer = self.app.test_client().post(url, data=data, headers=given)
        self.assertEqual(answer.status_code, status, answer.text)
        return answer.json

    def signed(self, url: str, body: bytes, at: float | None = None, method: str = "POST") -> dict[str, str]:
        stamp, (path, _, query) = str(int(at or time.time())), url.partition("?")
        signed = f"v2\n{stamp}\n{method}\n{path}\n{query}\n".encode() + body
        return {
            "Ulmus_Timestamp": stamp,
            "Ulmus_Signature": "v2=" + hmac.new(self.secret.encode(), signed, hashlib.sha256).hexdigest(),
        }

    def test_json_and_form_fields_begin_a_run(self) -> None:
        url = self.called(title="<<start.body.name>>")
        run = self.post(f"{url}?from=crm", {"name": "Petra"})["run"]
        self.assertEqual(self.until(run, "done").title, "Petra")
        self.assertEqual(self.item(run)["query"], {"from": "crm"})
        run = self.post(url, b"name=Bram&x=1", Content_Type="application/x-www-form-urlencoded")["run"]
        self.assertEqual(self.item(run)["body"], {"name": "Bram", "x": "1"})

    def test_the_same_call_counts_once(self) -> None:
        url = self.called()
        self.assertTrue(self.post(url, {"a": 1}, Idempotency_Key="k1")["taken"])
        self.assertFalse(self.post(url, {"a": 1}, 200, Idempotency_Key="k1")["taken"])
        self.assertEqual(len(self.runs()), 1)

    def test_signed_calls(self) -> None:
        url = self.called(proof="signed")
        body = b'{"a": 1}'
        self.post(url, body, 401)
        self.post(url, b'{"a": 2}', 401, **self.signed(url, body))
        self.post(url, body, 401, **self.signed(url, body, time.time() - 2 * WINDOW))
        self.post(f"{url}?a=2", body, 401, **self.signed(url, body))
        self.post(url, body, 401, **self.signed(f"{url}x", body))
        self.post(url, body, 401, **self.signed(url, body, method="PUT"))
        self.post(url, body, 202, **self.signed(url, body))
        self.post(f"{url}?a=2", body, 202, **self.signed(f"{url}?a=2", body))
        self.assertEqual(len(self.runs()), 2)

    def test_callers_of_the_old_kind_are_told(self) -> None:
        url, body, stamp = self.called(proof="signed"), b'{"a": 1}', str(int(time.time()))
        old = hmac.new(self.secret.encode(), stamp.encode() + b"." + body, hashlib.sha256).hexdigest()
        told = self.post(url, body, 401, Ulmus_Timestamp=stamp, Ulmus_Signature=old)
        self.assertIn("older version", told["message"])

    def test_nothing_unsigned_changes_what_a_signed_call_is_taken_for(self) -> None:
        url, body = self.called(proof="signed"), b'{"a": 1}'
        headers = self.signed(url, body)
        self.post(url, body, 202, Idempotency_Key="one", **headers)
        self.assertFalse(self.post(url, body, 200, Idempotency_Key="two", **headers)["taken"], "one signature, one run")
        other = b'{"a": 2}'
        signed = self.signed(url, other)
        answer = self.client_post(url, other, "application/x-www-form-urlencoded", signed)
        self.assertEqual(answer.status_code, 202)
        self.assertEqual([item["body"] for item in self.items()], [{"a": 1}, {"a": 2}], "it is what was signed")

    def test_a_delivery_that_comes_again_signed_anew_begins_no_second_run(self) -> None:
        url = self.called(proof="signed", known_by="<<start.body.delivery>>")
        for n, taken in ((1, True), (2, False)):
            body = f'{{"delivery": "d-1", "try": {n}}}'.encode()
            told = self.post(url, body, 202 if taken else 200, **self.signed(url, body))
            self.assertEqual(told["taken"], taken)
        body = b'{"delivery": "d-2"}'
        self.post(url, body, 202, **self.signed(url, body))
        self.assertEqual(len(self.runs()), 2)

    def client_post(self, url: str, body: bytes, kind: str, headers: dict[str, str]) -> Any:
        return self.app.test_client().post(
            url, data=body, content_type=kind, headers={k.replace("_", "-"): v for k, v in headers.items()}
        )

    def items(self) -> list[dict[str, Any]]:
        return [self.engine.live(run.id).state.values["start"] for run in self.runs()]

    def test_a_replayed_call_is_not_taken_again(self) -> None:
        url, body = self.called(proof="signed"), b'{"a": 1}'
        headers = self.signed(url, body)
        self.post(url, body, 202, **headers)
        self.assertFalse(self.post(url, body, 200, **headers)["taken"])

    def test_the_result_as_the_answer(self) -> None:
        url = self.called(answer="result", seconds=10)
        told = self.post(url, {"title": "Beans"}, 200)
        self.assertEqual((told["state"], told["result"]), ("done", {"text": "Beans!"}))

    def test_bodies_that_cannot_be_taken(self) -> None:
        url = self.called()
        for body, status in ((b"{", 400), (b"\xff\xfe", 400), (b"[" * 5000, 400), (b'{"a":' * 60 + b"1" + b"}" * 60, 400)):
            with self.subTest(body=body[:10]):
                self.assertTrue(self.post(url, body, status)["message"])
        self.assertEqual(self.runs(), [])

    def test_addresses_that_lead_nowhere(self) -> None:
        self.post("/call/made-up", {}, 404)
        self.post("/call/run/made-up", {}, 404)

    def test_a_call_for_a_run_that_waits(self) -> None:
        wait = {"id": "back", "kind": "wait", "settings": {"how": "call"}}
        id_ = self.started("by_hand", [wait])
        run = self.owner.post(f"/workflows/{id_}/start", {}, 201)["run"]
        self.until(run, "resting")
        url = self.path(self.engine.live(run).state.values["run"]["link"])
        self.post(url, {"state": "ready"}, 202)
        self.until(run, "done")
        self.assertEqual(self.engine.live(run).state.values["back"]["item"], {"state": "ready"})
        self.post(url, {"state": "ready"}, 410)

    def test_proving_a_call(self) -> None:
        with self.assertRaises(CallRefused):
            prove("s", {"Ulmus-Timestamp": "soon", "Ulmus-Signature": "x"}, "POST", "/", "", b"", 0)
        self.assertEqual(read_body("application/json", b"[1, 2]"), {"items": [1, 2]})
        self.assertEqual(read_body("text/plain", b""), {})


class Schedules(Started):
    def test_a_schedule_in_plain_words_and_as_a_rule(self) -> None:
        plain = {"how": "nth", "times": ["09:15"], "days": ["FR"], "nth": -1}
        made = self.owner.post("/schedule", {"plain": plain, "zone": "Europe/Paris"})
        self.assertEqual(made["words"], "monthly on the last Friday at 09:15")
        self.assertEqual(len(made["next"]), 5)
        self.assertEqual(self.owner.post("/schedule", {"rule": made["rule"]})["plain"]["nth"], -1)
        self.assertIsNone(self.owner.post("/schedule", {"rule": "FREQ=YEARLY;BYMONTH=3"})["plain"])
        for wrong in (
            {"rule": "FREQ=SOMETIMES"},
            {"rule": "FREQ=DAILY", "zone": "Moon/Sea"},
            {"rule": "FREQ=DAILY", "quiet": "late"},
        ):
            with self.subTest(wrong=wrong):
                self.assertTrue(self.owner.post("/schedule", wrong, 422)["message"])

    def test_a_start_tells_its_next_times(self) -> None:
        id_ = self.started("schedule", rule="FREQ=DAILY;BYHOUR=8;BYMINUTE=0", zone="UTC")
        view = self.owner.get(f"/workflows/{id_}/start")
        self.assertEqual((len(view["next_times"]), view["listens"]), (5, "clock"))
        self.assertTrue(view["found"].startswith("Next: "))
        self.owner.post(f"/workflows/{id_}/look")


class Asking(Started):
    BAD = {
        "id": "page",
        "kind": "read_page",
        "settings": {"url": "http://127.0.0.1:1/"},
        "on_failure": {"retries": 0, "after": "ask"},
    }
    EACH = {
        "id": "all",
        "kind": "for_each",
        "settings": {"list": "a\nb", "item": "it"},
        "steps": [{**BAD, "on_failure": {"retries": 0}}],
    }

    def begun(self, steps: list[dict[str, Any]]) -> int:
        id_ = self.started("by_hand", steps)
        run: int = self.owner.post(f"/workflows/{id_}/start", {}, 201)["run"]
        return run

    def test_a_failure_is_put_before_a_person(self) -> None:
        run = self.begun([self.BAD])
        self.until(run, "stuck")
        self.assertEqual([w["what"] for w in self.owner.get("/today")["waiting"]], ["stuck"])
        view = self.owner.get(f"/runs/{run}")
        self.assertEqual((view["judge"], view["cells"][0]["state"]), ("page", "stuck"))
        self.visitor("reviewer").post(f"/runs/{run}/judge", {"address": "page", "choice": "value", "text": "by hand"})
        self.until(run, "done")
        self.assertEqual(self.engine.live(run).state.values["page"]["text"], "by hand")
        self.owner.post(f"/runs/{run}/judge", {"address": "page", "choice": "again"}, 409)

    def test_pausing_letting_go_on_and_carrying_out_again(self) -> None:
        run = self.begun([{"id": "rest", "kind": "wait", "settings": {"how": "for", "seconds": 3600}}])
        self.until(run, "resting")
        self.owner.post(f"/runs/{run}/pause")
        self.assertIn("Owner", self.until(run, "held").message)
        self.owner.post(f"/runs/{run}/pause", status=409)
        self.owner.post(f"/runs/{run}/release")
        self.until(run, "resting")
        self.owner.post(f"/runs/{run}/cancel")
        self.owner.post(f"/runs/{run}/release", status=409)
        again = self.owner.post(f"/runs/{run}/again", status=201)["run"]
        self.assertEqual(self.until(again, "resting").workflow_id, self.run_of(run).workflow_id)

    def test_items_of_a_block_are_counted_listed_and_taken_up(self) -> None:
        run = self.begun([self.EACH, SAY])
        self.until(run, "done")
        view = self.owner.get(f"/runs/{run}")
        by_step = {c["step"]: c for c in view["cells"]}
        self.assertEqual(by_step["all"]["brief"], "2 items · 2 failed")
        self.assertEqual((by_step["page"]["count"], by_step["page"]["counts"]), (2, {"failed": 2}))
        inside = self.owner.get(f"/runs/{run}/iterations/page")
        self.assertEqual([i["label"] for i in inside], ["1. a", "2. b"])
        self.assertTrue(all(i["can_take_up"] for i in inside))
        self.owner.post(f"/runs/{run}/take-up", {"address": "all:2/page"})
        self.until(run, "done")
        full = self.owner.get(f"/runs/{run}/steps/page", address="all:2/page")
        self.assertEqual(full["state"], "failed")

    def test_taking_up_with_edited_values(self) -> None:
        run = self.begun([SAY, {"id": "more", "kind": "set_values", "settings": {"values": {"text": "<<say.text>>?"}}}])
        self.until(run, "done")
        self.owner.post(f"/runs/{run}/take-up", {"address": "more", "values": {"say": {"text": "New"}}})
        self.until(run, "done")
        self.assertEqual(self.engine.live(run).state.values["more"]["text"], "New?")
        self.owner.post(f"/runs/{run}/take-up", {"address": "nowhere"}, 409)

    def test_the_bench_shows_a_block_with_its_inside(self) -> None:
        id_ = self.started("by_hand", [self.EACH, SAY], live=False)
        self.owner.post(f"/workflows/{id_}/samples", {"item": {"title": "x"}})
        self.owner.post(f"/workflows/{id_}/proofs")
        sample = self.owner.get(f"/workflows/{id_}/bench")["samples"][0]["id"]

        def cells() -> dict[str, Any]:
            return {c["step"]: c for c in self.owner.get(f"/workflows/{id_}/bench")["cells"]}

        self.wait_for(lambda: cells()["say"]["state"] == "fresh", lambda: str(cells()))
        self.assertEqual((cells()["all"]["brief"], cells()["page"]["count"]), ("2 items · 2 failed", 2))
        full = self.owner.get(f"/workflows/{id_}/cells/{sample}/page", place="all:2/page")
        self.assertEqual((full["address"], len(full["iterations"])), ("all:2/page", 2))
        lines = self.owner.get(f"/workflows/{id_}/bench")["lines"]
        self.assertEqual([line["depth"] for line in lines], [0, 0, 1, 0])
        paths = [v["path"] for v in self.owner.get(f"/workflows/{id_}/values/page", sample=sample)]
        self.assertIn("it", paths)
        after = {v["path"]: v for v in self.owner.get(f"/workflows/{id_}/values/say", sample=sample)}
        self.assertEqual(after["all.results"]["inside"], ["it", "page"])
