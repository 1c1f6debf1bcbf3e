"""The API: who may do what, what it answers, and that errors are in plain words."""

from __future__ import annotations

import io
import json
import re
import unittest
from pathlib import Path
from typing import Any, get_args
from unittest import mock

from sqlalchemy import select

from tests.api.visitor import PASSWORD, WithApi
from tests.protocols.test_pictures import photo
from tests.runtime.house import page
from ulmus.protocols import documents
from ulmus.runtime import bus, files, links
from ulmus.store import tables


class Accounts(WithApi):
    def test_nobody_sees_anything_without_signing_in(self) -> None:
        stranger = self.visitor()
        rules = [r for r in self.app.url_map.iter_rules() if r.rule.startswith("/api/")]
        open_to_all = {
            "/api/openapi.json",
            "/api/",
            "/api/session",
            "/api/session/first",
            "/api/session/invited/<token>",
            "/api/session/passkey",
            "/api/session/passkey/begin",
            "/api/letters/<token>",
            "/api/letters/<token>/measure",
            "/api/letters/<token>/taken-back",
            "/api/letters/<token>/times",
            "/api/letters/<token>/files/<sha>",
            "/api/leave/<token>",
            "/api/forms/<token>",
            "/api/join/<token>",
            "/api/join/<token>/<answer>",
            "/api/data/<token>/rows",
            "/api/data/rows",
        }
        self.assertGreater(len(rules), 30)
        for rule in rules:
            path = (
                rule.rule.replace("<int:id>", "1")
                .replace("<int:number>", "1")
                .replace("<int:sample>", "1")
                .replace("<int:row>", "1")
                .replace("<int:workflow>", "1")
                .replace("<step>", "x")
                .replace("<key>", "x")
            )
            for method in (rule.methods or set()) - {"HEAD", "OPTIONS"}:
                if rule.rule in open_to_all and (method, rule.rule) != ("DELETE", "/api/session"):
                    continue
                with self.subTest(method=method, path=path):
                    body: dict[str, Any] = {"json": {}} if method != "GET" else {}
                    status = stranger.client.open(path, method=method, **body).status_code
                    self.assertEqual(status, 401, "an answer to a stranger")

    def test_changing_needs_the_pages_own_token(self) -> None:
        self.owner.csrf = "wrong"
        self.assertIn("out of date", self.owner.delete("/session", 403)["message"])

    def test_wrong_passwords_say_no_more_than_needed_and_are_counted(self) -> None:
        stranger = self.visitor()
        for email in ("owner@a.example", "nobody@a.example"):
            answer = stranger.client.post("/api/session", json={"email": email, "password": "wrong"})
            self.assertEqual(
                (answer.status_code, answer.json["message"]), (403, "That address and password do not belong together.")
            )
        for _ in range(8):
            answer = stranger.client.post("/api/session", json={"email": "owner@a.example", "password": "wrong"})
        self.assertEqual(answer.status_code, 429)
        answer = stranger.client.post("/api/session", json={"email": "owner@a.example", "password": PASSWORD})
        self.assertEqual(answer.status_code, 429)

    def test_the_cookie_is_for_the_server_only_and_sign_out_ends_it(self) -> None:
        client = self.app.test_client()
        cookie = client.post("/api/session", json={"email": "owner@a.example", "password": PASSWORD}).headers["Set-Cookie"]
        self.assertIn("HttpOnly", cookie)
        self.assertIn("SameSite=Lax", cookie)
        token = cookie.split("=", 1)[1].split(";")[0]
        with self.services.store.read() as session:
            self.assertNotIn(token, [s.id for s in session.scalars(select(tables.WebSession))])
        self.owner.delete("/session")
        self.owner.get("/today", 401)

    def test_roles(self) -> None:
        id_ = self.made(page(self.town.url))
        reader, reviewer, maker = (self.visitor(r) for r in ("reader", "reviewer", "maker"))
        reader.get("/today")
        reader.get(f"/workflows/{id_}/bench")
        self.assertIn("role “maker”", reviewer.post(f"/workflows/{id_}/live", {}, 403)["message"])
        reader.post("/approvals/1", {"verdict": "approve"}, 403)
        reader.get("/connections", 403)
        maker.post(f"/workflows/{id_}/live")
        maker.post("/connections", {"kind": "model", "name": "x", "settings": {}}, 403)

    def test_headers_that_keep_strangers_out(self) -> None:
        answer = self.owner.client.get("/api/session")
        self.assertIn("default-src 'self'", answer.headers["Content-Security-Policy"])
        self.assertIn("frame-ancestors 'none'", answer.headers["Content-Security-Policy"])
        self.assertEqual(answer.headers["X-Content-Type-Options"], "nosniff")
        self.assertEqual(answer.headers["Cache-Control"], "no-store")


class Reference(WithApi):
    def test_every_operation_can_be_read_on_a_page_without_scripts(self) -> None:
        page = self.app.test_client().get("/api/")
        self.assertEqual(page.mimetype, "text/html")
        for path, operations in self.app.api_doc["paths"].items():
            for method in operations:
                self.assertIn(f"<code>{method.upper()} {path}</code>", page.text)
        self.assertNotIn("<script", page.text)


class News(unittest.TestCase):
    def test_the_page_knows_whatever_there_can_be_news_of(self) -> None:
        source = (Path(__file__).parents[2] / "frontend" / "src" / "api" / "live.ts").read_text("utf-8")
        known = source.partition("const CONCERNS")[2].partition("};")[0]
        self.assertEqual(set(re.findall(r"^  (\w+):", known, re.MULTILINE)), set(get_args(bus.Topic)))


class Errors(WithApi):
    def test_what_is_not_there(self) -> None:
        for path in ("/workflows/99/bench", "/runs/99", "/approvals/99", "/sheets/none/rows", "/no/such/thing"):
            with self.subTest(path=path):
                self.assertIn("not here", self.owner.get(path, 404)["message"])

    def test_bodies_of_the_wrong_shape(self) -> None:
        answer = self.owner.post("/workflows/1/proofs", {"samples": "many"}, 422)
        self.assertIn("samples: Should be a list.", answer["message"])
        self.assertEqual(answer["problems"][0]["where"], "/samples")

    def test_our_own_faults_show_no_trace(self) -> None:
        with mock.patch("ulmus.api.resources.today._went_out", side_effect=ZeroDivisionError("inner detail")):
            answer = self.owner.client.get("/api/today")
        self.assertEqual(answer.status_code, 500)
        self.assertIn("made a mistake", answer.json["message"])
        self.assertNotIn("inner detail", answer.text)
        self.assertNotIn("Traceback", answer.text)

    def test_the_openapi_document_describes_what_is_there(self) -> None:
        document = self.app.api_doc
        self.assertEqual(document["openapi"][:3], "3.1")
        paths = {
            r.rule.replace("<int:", "{").replace("<", "{").replace(">", "}")
            for r in self.app.url_map.iter_rules()
            if r.rule.startswith("/api/")
        }
        self.assertEqual(paths - set(document["paths"]), {"/api/events", "/api/openapi.json", "/api/"})


class Workflows(WithApi):
    def test_one_that_has_run_is_deleted_and_what_it_let_out_stays_on_record(self) -> None:
        id_ = self.live()
        run = self.new_item(id_)
        self.until(run, "asking")
        self.assertIn("Pause it first", self.owner.delete(f"/workflows/{id_}", 409)["message"])
        self.owner.post(f"/workflows/{id_}/pause")
        self.assertIn("not over", self.owner.delete(f"/workflows/{id_}", 409)["message"])
        self.answer(run)
        self.until(run, "done")
        self.owner.post(f"/workflows/{id_}/samples", {"item": {"title": "Typed", "link": "http://a.example"}})
        told = self.owner.get(f"/runs/{run}")
        out = self.owner.get("/today")["went_out"]
        self.owner.delete(f"/workflows/{id_}")
        self.assertEqual(self.owner.get("/workflows"), [])
        self.assertNotIn(str(id_), [one["key"] for one in self.owner.get("/catalogue")["workflows"]])
        self.assertIn("was deleted", self.owner.get(f"/workflows/{id_}/bench", 404)["message"])
        # The run reads as before, its page among it; what went out is on record, and so is what was written into the sheet.
        after = self.owner.get(f"/runs/{run}")
        self.assertEqual((after["cells"], after["lines"]), (told["cells"], told["lines"]))
        self.assertEqual(self.owner.get("/today")["went_out"], out)
        self.assertEqual([one["id"] for one in self.owner.get("/runs")["runs"]], [run])
        self.assertEqual(len(self.rows()), 1)
        self.assertEqual(self.owner.get("/brands")[0]["workflows"], 0)
        # Nothing looks at its start any more, and its name is free.
        self.town.state.release("furrow-letter")
        self.engine.polling.look_at(id_)
        self.assertEqual([one["id"] for one in self.owner.get("/runs")["runs"]], [run])
        self.made(page(self.town.url))
        self.assertEqual(len(self.owner.get("/workflows")), 1)

    def test_a_file_goes_in_and_comes_out_the_same(self) -> None:
        document = page(self.town.url)
        id_ = self.owner.post("/workflows", {"document": document}, 201)["id"]
        out = json.loads(self.owner.client.get(f"/api/workflows/{id_}/file").data)
        again = self.owner.post("/workflows", {"document": out}, 201)["id"]
        bench = [self.owner.get(f"/workflows/{i}/bench")["document"] for i in (id_, again)]
        self.assertEqual(bench[0], bench[1])
        self.assertNotIn("pond-token", json.dumps(out))

    def test_a_file_with_faults_names_each(self) -> None:
        document = page(self.town.url) | {"colour": "red"}
        document["steps"][0]["id"] = "Bad Name"
        answer = self.owner.post("/workflows", {"document": document}, 422)
        self.assertEqual({p["where"] for p in answer["problems"]}, {"/colour", "/steps/0/id"})
        self.assertIn("newer Ulmus", self.owner.post("/workflows", {"document": page("") | {"version": 9}}, 422)["message"])

    def test_a_copy_has_a_name_of_its_own(self) -> None:
        id_ = self.made(page(self.town.url))
        copy = self.owner.post("/workflows", {"copy_of": id_}, 201)["id"]
        self.assertEqual(self.owner.get(f"/workflows/{copy}/bench")["name"], "News, copy")

    def test_saving_gives_what_is_wrong_and_never_overwrites(self) -> None:
        id_ = self.made(page(self.town.url))
        document = self.owner.get(f"/workflows/{id_}/bench")["document"]
        document["steps"][1]["settings"]["prompt"] = "About <<pag.text>>"
        saved = self.owner.put(f"/workflows/{id_}", {"document": document, "version": 1})
        self.assertEqual(saved["version"], 2)
        self.assertEqual((saved["problems"][0]["start"], saved["problems"][0]["end"]), (6, 18))
        self.assertIn("Someone else", self.owner.put(f"/workflows/{id_}", {"document": document, "version": 1}, 409)["message"])

    def test_half_filled_pages_can_be_saved_but_not_go_live(self) -> None:
        document = page(self.town.url, out={"channel": ""})
        id_ = self.owner.post("/workflows", {"document": document}, 201)["id"]
        answer = self.owner.post(f"/workflows/{id_}/live", {}, 409)
        self.assertEqual(answer["problems"][0]["where"], "out")

    def test_going_live_and_pausing_show_in_the_list(self) -> None:
        id_ = self.made(page(self.town.url))
        self.assertEqual(self.owner.post(f"/workflows/{id_}/live"), {"revision": 1, "following": []})
        self.assertEqual(self.owner.get("/workflows")[0]["state"], "live")
        self.assertEqual(self.owner.get("/workflows")[0]["arc"], ["gather", "draft", "ask", "publish", "record"])
        self.owner.post(f"/workflows/{id_}/pause")
        self.assertEqual(self.owner.get("/workflows")[0]["state"], "paused")
        self.owner.delete(f"/workflows/{id_}")
        self.assertEqual(self.owner.get("/workflows"), [])

    def state(self) -> str:
        return str(self.owner.get("/workflows")[0]["state"])

    def test_what_is_put_away_listens_no_more_and_comes_back_paused(self) -> None:
        id_ = self.made(page(self.town.url))
        self.owner.post(f"/workflows/{id_}/live")
        self.owner.post(f"/workflows/{id_}/away")
        self.owner.post(f"/workflows/{id_}/away")
        self.assertEqual(self.state(), "away")
        self.owner.delete(f"/workflows/{id_}/away")
        self.assertEqual(self.state(), "paused")
        self.owner.delete(f"/workflows/{id_}/away")
        self.assertEqual(self.state(), "paused")
        self.assertEqual(self.owner.post(f"/workflows/{id_}/live"), {"revision": 1, "following": []})
        with self.services.store.read() as session:
            did = list(session.scalars(select(tables.Audit.did).where(tables.Audit.did != "signed in").order_by(tables.Audit.id)))
        self.assertEqual(did[1:], ["went live", "paused", "put away", "brought back", "went live"])

    def test_what_was_never_live_comes_back_as_it_was(self) -> None:
        id_ = self.made(page(self.town.url))
        self.owner.post(f"/workflows/{id_}/away")
        self.owner.delete(f"/workflows/{id_}/away")
        self.assertEqual(self.state(), "draft")

    def test_readers_put_nothing_away(self) -> None:
        id_ = self.made(page(self.town.url))
        self.visitor("reader").post(f"/workflows/{id_}/away", {}, 403)
        self.visitor("reader").delete(f"/workflows/{id_}/away", 403)


class Bench(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.id_ = self.made(page(self.town.url))
        self.owner.post(f"/workflows/{self.id_}/samples", {"count": 2})

    def bench(self) -> Any:
        return self.owner.get(f"/workflows/{self.id_}/bench")

    def states(self) -> set[str]:
        return {c["state"] for c in self.bench()["cells"]}

    def test_lines_read_as_sentences_and_know_what_follows(self) -> None:
        lines = self.bench()["lines"]
        self.assertEqual([line["stage"] for line in lines], ["start", "gather", "draft", "ask", "publish", "record"])
        self.assertEqual(lines[1]["sentence"][1], {"what": "slot", "text": "feed.link"})
        self.assertEqual(lines[2]["dependents"], ["editor", "out", "log"])

    def test_samples_are_chosen_from_all_that_the_start_finds(self) -> None:
        told = self.owner.get(f"/workflows/{self.id_}/start/items")
        # Two are samples already; the newest stands first.
        self.assertEqual([one["kept"] for one in told["items"]][:3], [True, True, False])
        oldest = told["items"][-1]
        words = " ".join(oldest["title"].split()[:3])
        self.assertIn(
            oldest["identity"],
            [one["identity"] for one in self.owner.get(f"/workflows/{self.id_}/start/items", words=words)["items"]],
        )
        self.assertEqual(self.owner.get(f"/workflows/{self.id_}/start/items", words="nothing is called so")["items"], [])
        self.owner.post(f"/workflows/{self.id_}/samples", {"identities": [oldest["identity"]]})
        self.assertEqual(self.bench()["samples"][-1]["item"]["title"], oldest["title"])
        # What is a sample is none a second time.
        self.owner.post(f"/workflows/{self.id_}/samples", {"identities": [oldest["identity"]]}, 409)
        self.visitor("reader").get(f"/workflows/{self.id_}/start/items", 403)

    def test_proofs_are_made_and_read_in_full(self) -> None:
        self.assertEqual(self.states(), {"empty"})
        self.owner.post(f"/workflows/{self.id_}/proofs", {})
        self.wait_for(lambda: self.states() == {"fresh"}, lambda: str(self.states()))
        bench = self.bench()
        cell = next(c for c in bench["cells"] if c["step"] == "post")
        self.assertEqual(len(cell["findings"]), 3)
        self.assertGreater(cell["usage"]["cost"], 0)
        self.assertGreater(next(x for x in bench["lines"] if x["id"] == "post")["cost"], 0)
        full = self.owner.get(f"/workflows/{self.id_}/cells/{cell['sample']}/post")
        self.assertEqual([m["role"] for m in full["messages"]], ["system", "user"])
        self.assertIn("Marrowbank", full["messages"][0]["content"])
        self.assertIn("page.text", [g["path"] for g in full["given"]])
        self.assertEqual(full["output"]["text"], cell["brief"][: len(full["output"]["text"])])

    def test_the_starts_item_can_be_read_like_any_result(self) -> None:
        sample = self.bench()["samples"][0]
        full = self.owner.get(f"/workflows/{self.id_}/cells/{sample['id']}/feed")
        self.assertEqual(full["output"]["title"], sample["label"])

    def test_values_to_point_at_with_their_real_content(self) -> None:
        sample = self.bench()["samples"][0]
        values = self.owner.get(f"/workflows/{self.id_}/values/post", sample=sample["id"])
        by_path = {v["path"]: v for v in values}
        self.assertEqual(by_path["feed.title"]["value"], sample["label"])
        self.assertFalse(by_path["page.text"]["known"])
        self.assertEqual(by_path["brand.voice"]["value"], "plain")
        self.assertNotIn("editor.by", by_path)
        self.owner.post(f"/workflows/{self.id_}/proofs", {"steps": ["page"]})
        self.wait_for(lambda: "fresh" in self.states())
        values = self.owner.get(f"/workflows/{self.id_}/values/post", sample=sample["id"])
        self.wait_for(
            lambda: {v["path"]: v for v in self.owner.get(f"/workflows/{self.id_}/values/post", sample=sample["id"])}["page.text"][
                "known"
            ]
        )

    def test_at_most_eight_samples_stand_side_by_side(self) -> None:
        for n in range(8):
            self.owner.post(f"/workflows/{self.id_}/samples", {"item": {"title": f"Typed {n}", "link": "http://a.example"}})
        samples = self.bench()["samples"]
        self.assertEqual((len(samples), sum(s["shown"] for s in samples)), (10, 8))
        hidden = next(s for s in samples if not s["shown"])
        self.assertIn(
            "At most 8", self.owner.patch(f"/workflows/{self.id_}/samples/{hidden['id']}", {"shown": True}, 409)["message"]
        )
        self.owner.patch(f"/workflows/{self.id_}/samples/{samples[0]['id']}", {"shown": False})
        self.owner.patch(f"/workflows/{self.id_}/samples/{hidden['id']}", {"shown": True})
        self.owner.delete(f"/workflows/{self.id_}/samples/{samples[1]['id']}")
        self.assertEqual(len(self.bench()["samples"]), 9)

    def test_a_start_that_cannot_be_looked_at_says_so(self) -> None:
        self.fault("feed", "notfeed")
        self.assertIn("not a feed", self.owner.post(f"/workflows/{self.id_}/samples", {"count": 1}, 502)["message"])

    def test_the_catalogue_has_a_form_for_every_kind(self) -> None:
        catalogue = self.owner.get("/catalogue")
        self.assertLessEqual(
            {"feed_item", "read_page", "draft", "ask", "publish_post", "add_row", "for_each", "schedule"},
            {k["name"] for k in catalogue["kinds"]},
        )
        for kind in catalogue["kinds"]:
            for name, setting in kind["form"]["properties"].items():
                self.assertIn("control", setting, f"{kind['name']}.{name}")
        self.assertIn("shorten 400 words", [f["usage"] for f in catalogue["filters"]])


class Desk(WithApi):
    def setUp(self) -> None:
        super().setUp()
        self.run_id = self.new_item(self.live())
        self.asked = self.question(self.run_id)

    def test_everything_needed_to_decide(self) -> None:
        queue = self.owner.get("/approvals")
        self.assertEqual([a["id"] for a in queue["open"]], [self.asked.id])
        full = self.owner.get(f"/approvals/{self.asked.id}")
        self.assertEqual((full["channel"], full["limit"]), ("Pondside", 300))
        self.assertEqual(len(full["findings"]), 3)
        self.assertGreater(len(full["sources"][0]["text"]), 800)
        self.assertTrue(full["sources"][0]["link"].startswith(self.town.url))

    def test_a_text_changed_in_place_is_measured(self) -> None:
        found = self.owner.post(f"/approvals/{self.asked.id}/measure", {"text": "“" + "x" * 320 + "”"})
        self.assertEqual([f["kept"] for f in found["findings"]], [False, False, False])

    def test_sent_back_and_seen_again_with_its_changes_marked(self) -> None:
        reviewer = self.visitor("reviewer")
        self.assertIn("Write a note", reviewer.post(f"/approvals/{self.asked.id}", {"verdict": "back"}, 409)["message"])
        reviewer.post(f"/approvals/{self.asked.id}", {"verdict": "back", "note": "Make it shorter."})
        self.wait_for(lambda: bool(self.owner.get("/approvals")["open"]))
        again = self.owner.get("/approvals")["open"][0]
        full = self.owner.get(f"/approvals/{again['id']}")
        self.assertEqual(full["round"], 2)
        self.assertEqual(full["notes"][0]["note"], "Make it shorter.")
        marked = full["versions"][-1]
        self.assertIn("Reviewer: Make it shorter.", marked["why"])
        self.assertTrue({"added", "removed"} & {c["what"] for c in marked["changes"]})
        self.assertEqual("".join(c["text"] for c in marked["changes"] if c["what"] != "removed"), full["text"])
        past = self.owner.get(f"/approvals/{self.asked.id}")
        self.assertEqual((past["state"], len(past["versions"])), ("back", 1))

    def test_a_signed_link_needs_no_account_and_decides_once(self) -> None:
        stranger = self.visitor()
        token = links.sign(self.services.sealer.key, self.asked.id, self.asked.who)
        for _ in range(2):
            self.assertEqual(stranger.get(f"/letters/{token}")["state"], "open")
        self.assertEqual(len(stranger.post(f"/letters/{token}/measure", {"text": "short"})["findings"]), 3)
        stranger.post(f"/letters/{token}", {"verdict": "approve"})
        self.until(self.run_id, "done")
        self.assertIn(
            "already approved by ines@marrowbank.example",
            stranger.post(f"/letters/{token}", {"verdict": "decline"}, 409)["message"],
        )
        self.assertEqual(stranger.get(f"/letters/{token}")["state"], "approve")
        self.assertIn("not complete", stranger.get("/letters/forged.token", 410)["message"])

    def test_a_letter_shows_nothing_but_the_draft(self) -> None:
        token = links.sign(self.services.sealer.key, self.asked.id, self.asked.who)
        letter = self.visitor().get(f"/letters/{token}")
        self.assertFalse({"id", "run", "mail", "who"} & set(letter))

    def test_a_letter_shows_the_pictures_that_go_along_and_no_other_file(self) -> None:
        along, other = (files.keep(self.services, f"{n}.jpg", "image/jpeg", photo(n))["link"] for n in (80, 81))
        asked = self.question(self.new_item(self.live(out={"photo": along})))
        stranger = self.visitor()
        token = links.sign(self.services.sealer.key, asked.id, asked.who)
        place = f"/api/letters/{token}/files"
        self.assertEqual(stranger.client.get(f"{place}/{along.rsplit('/', 1)[1]}").data, photo(80))
        self.assertEqual(stranger.client.get(f"{place}/{other.rsplit('/', 1)[1]}").status_code, 404)
        self.assertEqual(stranger.client.get(f"/api/letters/forged/files/{along.rsplit('/', 1)[1]}").status_code, 410)

    def test_today_tells_what_waits_and_what_went_out(self) -> None:
        today = self.owner.get("/today")
        self.assertEqual([w["what"] for w in today["waiting"]], ["approval"])
        self.assertEqual([m["what"] for m in today["marks"]], ["asked"])
        self.owner.post(f"/approvals/{self.asked.id}", {"verdict": "approve"})
        self.until(self.run_id, "done")
        today = self.owner.get("/today")
        self.assertEqual((today["waiting"], today["sent_today"]), ([], 1))
        piece = today["went_out"][0]
        self.assertEqual((piece["piece"]["text"], piece["channel"], piece["approved_by"]), (self.asked.text, "Pondside", "Owner"))
        self.assertGreater(today["spent_today"], 0)


class Runs(WithApi):
    def finished(self) -> int:
        run_id = self.new_item(self.live())
        self.answer(run_id)
        self.until(run_id, "done")
        return run_id

    def test_a_run_is_the_page_with_one_column(self) -> None:
        run_id = self.finished()
        run = self.owner.get(f"/runs/{run_id}")
        self.assertEqual({c["state"] for c in run["cells"]}, {"fresh"})
        self.assertEqual([line["id"] for line in run["lines"]], ["feed", "page", "post", "editor", "out", "log"])
        self.assertIn("Passed by Ines", next(c for c in run["cells"] if c["step"] == "editor")["brief"])
        self.assertEqual(run["journal"]["entries"][0]["event"], "begun")
        self.assertEqual(run["journal"]["entries"][-1]["says"], "The run ended well.")
        post = self.owner.get(f"/runs/{run_id}/steps/post")
        self.assertGreater(post["usage"]["tokens_in"], 100)
        self.assertTrue(post["messages"])
        self.assertEqual(self.owner.get(f"/runs/{run_id}/steps/log")["detail"]["cells"]["By"], "Ines")
        self.assertTrue(self.owner.get(f"/runs/{run_id}/steps/feed")["output"]["title"])
        self.owner.get(f"/runs/{run_id}/steps/nothing", 404)

    def test_runs_are_found_by_words_workflow_and_state(self) -> None:
        run_id = self.finished()
        title = self.owner.get("/runs")["runs"][0]["title"]
        out = self.owner.get(f"/runs/{run_id}/steps/out")["output"]
        for query, count in (
            ({"words": out["text"].split()[2]}, 1),
            ({"words": out["link"]}, 1),
            ({"words": f"{out['link']}nowhere"}, 0),
            ({"words": title.split()[-1].upper()}, 1),
            ({"words": "zzz"}, 0),
            ({"state": "failed"}, 0),
            ({"state": "done,failed"}, 1),
            ({"workflow": 99}, 0),
            ({"before": run_id}, 0),
        ):
            with self.subTest(query=query):
                self.assertEqual(len(self.owner.get("/runs", **query)["runs"]), count)

    def test_a_failed_run_is_taken_up_by_a_maker(self) -> None:
        id_ = self.live()
        self.fault("page", "gone", 1)
        run_id = self.new_item(id_)
        self.until(run_id, "failed")
        self.assertEqual(self.owner.get("/today")["waiting"][0]["what"], "failed")
        run = self.owner.get(f"/runs/{run_id}")
        self.assertIn("nothing at this address", next(c for c in run["cells"] if c["step"] == "page")["message"])
        self.visitor("reviewer").post(f"/runs/{run_id}/take-up", {}, 403)
        self.visitor("maker").post(f"/runs/{run_id}/take-up")
        self.question(run_id)
        self.assertIn("cannot be taken up", self.owner.post(f"/runs/{run_id}/take-up", {}, 409)["message"])
        self.owner.post(f"/runs/{run_id}/cancel")
        self.assertIn("already ended", self.owner.post(f"/runs/{run_id}/cancel", {}, 409)["message"])

    def test_a_piece_in_doubt_waits_on_today_for_a_word(self) -> None:
        run_id = self.new_item(self.live())
        self.fault("network", "mute", 1)
        self.answer(run_id)
        self.until(run_id, "unsure")
        waiting = self.owner.get("/today")["waiting"][0]
        self.assertEqual(waiting["what"], "unsure")
        self.assertTrue(waiting["piece"]["text"])
        self.owner.post(f"/pieces/{waiting['id']}/decide", {"choice": "maybe"}, 422)
        self.owner.post(f"/pieces/{waiting['id']}/decide", {"choice": "sent"})
        self.until(run_id, "done")
        self.owner.post(f"/pieces/{waiting['id']}/decide", {"choice": "sent"}, 409)

    def test_a_run_can_be_kept_as_a_sample(self) -> None:
        run_id = self.finished()
        self.owner.post(f"/runs/{run_id}/keep")
        workflow = self.owner.get(f"/runs/{run_id}")["run"]["workflow"]
        self.assertEqual(len(self.owner.get(f"/workflows/{workflow}/bench")["samples"]), 1)


class RunsInOrder(WithApi):
    def test_those_that_began_last_come_first_page_by_page(self) -> None:
        id_ = self.live()
        with self.services.store.write() as session:
            revision = session.get_one(tables.WorkflowRecord, id_).revision_id
            for n, began in enumerate((5.0, 9.0, 1.0, 9.0, 7.0, 3.0)):
                run = tables.Run(
                    workflow_id=id_, revision_id=revision, title=f"{began:g}/{n}", state="done", started_at=began, changed_at=began
                )
                session.add(run)
        found: list[str] = []
        before: dict[str, Any] = {}
        while True:
            page = self.owner.get("/runs", limit=2, **before)
            found += [run["title"] for run in page["runs"]]
            if not page["more"]:
                break
            before = {"before": page["runs"][-1]["id"]}
        self.assertEqual(found, ["9/3", "9/1", "7/4", "5/0", "3/5", "1/2"])

    def test_a_copy_for_another_brand(self) -> None:
        id_ = self.live()
        copy = self.owner.post("/workflows", {"copy_of": id_, "brand": "marrowbank", "name": "Copy"}, 201)["id"]
        with self.services.store.read() as session:
            self.assertEqual(session.get_one(tables.WorkflowRecord, copy).brand, "marrowbank")


class SheetsApi(WithApi):
    def bring(self, content: str, status: int = 201, file: str = "Leads.csv", **more: str) -> Any:
        return self.owner.ask("POST", "/sheets/file", status, data={"file": (io.BytesIO(content.encode()), file), **more})

    def test_a_sheet_gets_the_columns_it_lacks_and_keeps_its_own(self) -> None:
        made = self.owner.post("/sheets", {"name": "Leads", "columns": [{"name": "Company", "type": "link"}]}, 201)
        found = self.owner.post(f"/sheets/{made['key']}/columns", {"names": ["Opening", "Company", " PS "]})
        self.assertEqual(
            [(c["name"], c["type"]) for c in found["columns"]], [("Company", "link"), ("Opening", "text"), ("PS", "text")]
        )
        self.owner.post(f"/sheets/{made['key']}/columns", {"names": [""]}, 422)
        self.owner.post(f"/sheets/{made['key']}/columns", {"names": []}, 422)

    def test_a_file_into_a_sheet_that_has_other_columns(self) -> None:
        self.bring("Name,Count\nWyle,10\n", name="Finds")
        self.assertEqual(self.bring("Town,Name\nOstrey,Amblin\n", into="finds")["added"], 1)
        self.assertEqual(next(s["columns"] for s in self.owner.get("/sheets") if s["key"] == "finds")[2]["name"], "Town")
        rows = self.owner.get("/sheets/finds/rows")["rows"]
        self.assertEqual([r["cells"] for r in rows], [{"Name": "Wyle", "Count": "10"}, {"Name": "Amblin", "Town": "Ostrey"}])
        self.assertIn("no table", self.bring("Nothing but words.", 422, "a.txt", into="finds")["message"])
        self.assertIn("empty", self.bring(" ", 422)["message"])
        self.bring("A\n1\n", 404, into="nowhere")
        self.assertEqual(self.owner.get("/sheets/finds/rows")["total"], 2)

    def test_a_sheet_from_csv_sorted_searched_changed_and_taken_out(self) -> None:
        sheet = self.bring("Name,Count\nWyle,10\nAmblin,9\n=1+1,2\n")
        self.assertEqual((sheet["key"], sheet["rows"]), ("leads", 3))
        self.owner.put(
            "/sheets/leads/columns", {"columns": [{"name": "Name", "type": "text"}, {"name": "Count", "type": "number"}]}
        )
        by_count = self.owner.get("/sheets/leads/rows", sort="Count")["rows"]
        self.assertEqual([r["cells"]["Count"] for r in by_count], ["2", "9", "10"])
        self.assertEqual(self.owner.get("/sheets/leads/rows", sort="Name", down=True)["rows"][0]["cells"]["Name"], "Wyle")
        self.assertEqual(self.owner.get("/sheets/leads/rows", words="amb 9")["total"], 1)
        row = by_count[1]
        self.owner.patch(f"/sheets/leads/rows/{row['id']}", {"cells": {"Name": "Amblin & Sons"}})
        out = self.owner.client.get("/api/sheets/leads/file/csv").get_data(as_text=True)
        self.assertIn('"Amblin & Sons","9', out)
        self.assertIn('"\'=1+1","2', out)
        for kind in ("xlsx", "ods"):
            answer = self.owner.client.get(f"/api/sheets/leads/file/{kind}")
            self.assertIn(f"leads.{kind}", answer.headers["Content-Disposition"])
            self.assertEqual(len(documents.read(answer.data, f"leads.{kind}").rows), 3)
        self.owner.get("/sheets/leads/file/exe", 422)
        self.assertEqual(self.owner.post("/sheets/leads/rows/delete", {"ids": [row["id"]]})["count"], 1)
        self.assertEqual(self.owner.post("/sheets/leads/rows", {"rows": [{"Name": "New"}]}, 201)["count"], 1)
        self.assertEqual(self.owner.get("/sheets/leads/rows", offset=2, limit=1)["rows"][0]["cells"], {"Name": "New"})

    def test_columns_with_odd_names(self) -> None:
        odd = 'Say "hi", 50 % $.x'
        self.owner.post("/sheets", {"name": "Odd", "columns": [{"name": odd, "type": "text"}]}, 201)
        self.owner.post("/sheets/odd/rows", {"rows": [{odd: "b"}, {odd: "a"}]}, 201)
        self.assertEqual([r["cells"][odd] for r in self.owner.get("/sheets/odd/rows", sort=odd)["rows"]], ["a", "b"])

    def test_what_cannot_be(self) -> None:
        self.assertIn(
            "same name", self.owner.post("/sheets", {"name": "S", "columns": [{"name": "A"}, {"name": "A"}]}, 422)["message"]
        )
        self.owner.post("/sheets/log/rows", {"csv": "A"}, 422)
        self.owner.patch("/sheets/log/rows/99", {"cells": {}}, 404)

    def test_a_row_written_by_a_run_leads_back_to_it(self) -> None:
        run_id = self.new_item(self.live())
        self.answer(run_id)
        self.until(run_id, "done")
        self.assertEqual(self.owner.get("/sheets/log/rows")["rows"][0]["run"], run_id)


class ConnectionsApi(WithApi):
    def one(self, key: str) -> Any:
        return next(c for c in self.owner.get("/connections")["connections"] if c["key"] == key)

    def test_secrets_go_in_and_never_come_out(self) -> None:
        answer = json.dumps(self.owner.get("/connections"))
        self.assertNotIn("pond-token", answer)
        self.assertEqual(self.one("pond")["secrets_set"], ["token"])

    def test_a_change_keeps_a_secret_that_is_left_empty(self) -> None:
        settings = {"endpoint": f"{self.town.url}/pondside/micropub", "limit": 280}
        self.owner.put("/connections/pond", {"kind": "posting", "name": "Pond", "settings": settings, "secrets": {"token": ""}})
        self.assertEqual(self.one("pond")["settings"]["limit"], 280)
        self.assertTrue(self.owner.post("/connections/pond/test")["ok"])

    def test_each_is_tested_with_one_press_and_leaves_nothing(self) -> None:
        for key, words in (("model", "Answered in"), ("pond", "Nothing was posted"), ("mail", "No mail was sent")):
            with self.subTest(key=key):
                told = self.owner.post(f"/connections/{key}/test")
                self.assertTrue(told["ok"], told)
                self.assertIn(words, told["says"])
        self.assertEqual((self.posts(), self.town.state.mails), ([], []))
        self.assertTrue(self.one("model")["test_ok"])

    def test_a_test_that_fails_says_what_to_do(self) -> None:
        self.fault("model", "busy")
        told = self.owner.post("/connections/model/test")
        self.assertEqual((told["ok"], "slow down" in told["says"]), (False, True))
        settings = {"endpoint": f"{self.town.url}/pondside/micropub"}
        made = self.owner.post(
            "/connections", {"kind": "posting", "name": "Wrong key", "settings": settings, "secrets": {"token": "x"}}, 201
        )
        self.assertIn("check the connection", self.owner.post(f"/connections/{made['key']}/test")["says"])

    def test_settings_that_cannot_be(self) -> None:
        answer = self.owner.post(
            "/connections", {"kind": "mail", "name": "M", "settings": {"host": "h", "port": 99999, "sender": "x"}}, 422
        )
        self.assertIn("Port: Too large", answer["message"])
        self.assertIn(
            "no such kind", self.owner.post("/connections", {"kind": "magic", "name": "M", "settings": {}}, 422)["message"]
        )

    def test_what_is_used_cannot_be_deleted(self) -> None:
        self.made(page(self.town.url))
        self.assertEqual(self.one("pond")["used_by"][0]["name"], "News")
        self.assertIn("uses this connection", self.owner.delete("/connections/pond", 409)["message"])
        self.owner.post("/connections", {"kind": "posting", "name": "Spare", "settings": {"endpoint": "http://a.example/mp"}}, 201)
        self.owner.delete("/connections/spare")
