"""Every kind that gathers, carried out against the practice town; and what its outsides do wrong."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from tests.steps.trying import Trying
from ulmus.core.workflow import Line, Workflow, World, check
from ulmus.protocols import services
from ulmus.protocols.errors import OutsideError
from ulmus.steps import kinds
from ulmus.steps.api import Context
from ulmus.steps.gather import read_record
from ulmus.steps.gather.ask_service import question_of


class Gathering(Trying):
    def company(self, name: str, page: str = "") -> str:
        return f"{self.town.url}/companies/{name}/{page}"

    def test_from_a_site_to_the_few_pages_worth_reading(self) -> None:
        links = self.carry_out("site_links", url=self.company("okonjo"))
        self.assertEqual(links.output["title"], "Okonjo & Daughters")
        self.assertTrue(all(one["same_site"] for one in links.output["items"]))
        self.town.state.habits["invent"] = 100
        chosen = self.carry_out(
            "choose_pages",
            {"links": links.output},
            links="<<links.items>>",
            purpose="Who are their customers?",
            model="model",
            most=2,
        )
        offered = {one["link"] for one in links.output["items"]}
        self.assertTrue({one["link"] for one in chosen.output["items"]} <= offered)
        self.assertEqual(chosen.output["refused"], 1)
        self.assertIn("customers", chosen.output["items"][0]["link"])
        self.assertEqual(chosen.usage.calls, 1)
        page = self.carry_out("read_page", url=chosen.output["items"][0]["link"])
        self.assertIn("hire fleets", page.output["text"])

    def test_links_from_the_map_kept_and_shortened(self) -> None:
        found = self.carry_out("site_links", url=self.company("varley", "map.xml"), source="map", keep='link ends with "news"')
        self.assertEqual([one["link"][-4:] for one in found.output["items"]], ["news"])
        self.assertEqual(found.output["found"], 6)

    def test_search_gives_one_list_for_a_prompt(self) -> None:
        found = self.carry_out("search", service="search", query="seed library allotment", most=3, by="date")
        self.assertEqual(found.output["count"], 3)
        dates = [one["date"] for one in found.output["items"]]
        self.assertEqual(dates, sorted(dates, reverse=True))
        self.assertIn("1. ", found.output["text"])
        self.assertIn("   link: http", found.output["text"])

    def test_files_from_an_address_a_store_and_the_house(self) -> None:
        report = self.carry_out("read_file", file=f"{self.town.url}/reports/seed-year.pdf")
        self.assertGreater(report.output["page_count"], 3)
        table = self.carry_out("read_file", file="tables/prices.csv", store="files")
        self.assertEqual(table.output["rows"][1]["Price"], "3.80")
        files = self.carry_out("list_files", store="files", path="briefs", keep='name ends with ".md"')
        self.assertEqual([one["name"] for one in files.output["items"]], ["style.md"])
        with self.assertRaisesRegex(OutsideError, "no address"):
            self.carry_out("read_file", file="report.pdf")

    def test_a_recording_and_its_chapters(self) -> None:
        source = f"{self.town.url}/radio/on-the-cut.vtt"
        found = self.carry_out("read_transcript", source=source, fineness="many", model="model").output
        self.assertEqual(found["speakers"], ["Nell Farraday", "Marten Quill"])
        self.assertEqual(len(found["lines"].splitlines()), found["count"])
        self.assertGreaterEqual(found["count"], 2)
        self.assertEqual(found["chapters"][0]["at"], "0:00")
        self.assertNotIn("\n", found["chapters"][0]["title"])
        plain = self.carry_out("read_transcript", source=source, fineness="many").output
        self.assertEqual([c["at"] for c in plain["chapters"]], [c["at"] for c in found["chapters"]])
        for mode in ("damaged", "down"):
            self.fault("recording", mode)
            with self.subTest(mode), self.assertRaises(OutsideError):
                self.carry_out("read_transcript", source=source)

    def test_a_data_service_asked_with_values_in_place(self) -> None:
        row = {"row": {"mail": "bram@okonjo.example", "note": 'He said "yes"'}}
        found = self.carry_out(
            "ask_service",
            row,
            service="service",
            path="/contacts",
            query={"email": "<<row.mail>>"},
            path_in="$.contacts[0].company.site",
        )
        self.assertTrue(found.output["value"].endswith("/companies/okonjo/"))
        with self.assertRaisesRegex(OutsideError, "is no JSON"):
            self.carry_out(
                "ask_service", row, service="service", path="/x", method="POST", harmless=True, body='{"note": "<<row.note>>"}'
            )
        with self.assertRaisesRegex(OutsideError, "cannot be done|405|refused"):
            self.carry_out(
                "ask_service", row, service="service", path="/contacts", method="POST", harmless=True, body='{"note": <<row.note>>}'
            )
        with self.assertRaisesRegex(OutsideError, "may change something"):
            self.carry_out("ask_service", row, service="service", path="/contacts", method="POST", body='{"note": <<row.note>>}')

    def test_a_key_is_sent_to_its_own_service_only(self) -> None:
        with self.assertRaisesRegex(OutsideError, "key is missing"):
            other = self.town.url.replace("127.0.0.1", "localhost")
            from ulmus.protocols.net import Web

            self.web, kept = Web({f"127.0.0.1:{self.town.port}", f"localhost:{self.town.port}"}), self.web
            try:
                self.carry_out("ask_service", service="service", path=f"{other}/contacts")
            finally:
                self.web.close()
                self.web = kept

    def test_a_host_that_only_begins_alike_gets_no_key(self) -> None:
        self.assertTrue(services.same_host("https://api.example/v1/x", "https://api.example/v1"))
        connection = self.connect("service", "service")
        base = connection.settings.model_copy(update={"base_url": "https://api.example/v1"})
        context = Context(self.web, lambda key, kind: replace(connection, settings=base), {})
        for other in ("https://api.example.evil.example/v1", "http://api.example/v1", "https://api.example:444/v1"):
            with self.subTest(other):
                asked = question_of("service", other, "GET", {}, "", False, {}, 30, context)
                self.assertEqual((asked.url, asked.headers), (other, {}))
                self.assertIn("Authorization", question_of("service", "/x", "GET", {}, "", False, {}, 30, context).headers)

    def test_rows_by_condition_and_by_meaning(self) -> None:
        self.rows = [
            {"Product": "Drought bean", "About": "climbs well in dry soil", "Used": ""},
            {"Product": "Sea kale", "About": "salty leaves for sandy gardens", "Used": "yes"},
            {"Product": "Boat roof planter", "About": "a wooden box for narrowboats", "Used": ""},
        ]
        found = self.carry_out("find_rows", sheet="s", keep="Used is empty").output
        self.assertEqual([one["Product"] for one in found["items"]], ["Drought bean", "Boat roof planter"])
        near = self.carry_out(
            "find_rows", {"lead": {"text": "A yard that builds narrowboats"}}, sheet="s", how="near", near="<<lead.text>>", most=1
        ).output
        self.assertEqual(near["first"]["Product"], "Boat roof planter")
        self.assertNotIn("nearness", near["text"])

    def test_calendars_and_feeds_as_lists(self) -> None:
        entries = self.carry_out("read_calendar", url=f"{self.town.url}/calendar/office.ics", ahead=2).output
        self.assertIn("Planting plan for the spring packets", [one["title"] for one in entries["items"]])
        urls = f"{self.town.url}/sites/furrow-letter/feed.rss\n{self.town.url}/nowhere\n{self.town.url}/radio/feed.rss"
        found = self.carry_out("read_feed", url=urls, most=50).output
        self.assertEqual(found["feeds"], 2)
        self.assertEqual(len(found["problems"]), 1)
        self.assertIn("A week on the Cut", [one["title"] for one in found["items"]])
        with self.assertRaises(OutsideError):
            self.carry_out("read_feed", url=f"{self.town.url}/nowhere")

    def test_outsides_that_misbehave_fail_with_words(self) -> None:
        tries: list[tuple[str, str, str, dict[str, Any]]] = [
            ("search", "down", "search", {"service": "search", "query": "seed"}),
            ("contacts", "busy", "ask_service", {"service": "service", "path": "/contacts"}),
            ("report", "down", "read_file", {"file": f"{self.town.url}/reports/canal-trade.pdf"}),
            ("files", "garbage", "list_files", {"store": "files"}),
            ("page", "down", "site_links", {"url": self.company("varley")}),
        ]
        for outside, mode, kind, settings in tries:
            self.fault(outside, mode)
            with self.subTest(kind=kind, mode=mode):
                with self.assertRaises(OutsideError) as caught:
                    self.carry_out(kind, **settings)
                self.assertGreater(len(caught.exception.message.split()), 3, caught.exception.message)
                self.assertNotIn("Traceback", caught.exception.message)


class Pages(Trying):
    def test_settings_that_cannot_work_are_told_on_their_line(self) -> None:
        def said(kind: str, **settings: Any) -> str:
            page = Workflow(name="P", start=Line(id="start", kind="by_hand"), steps=[Line(id="it", kind=kind, settings=settings)])
            return " ".join(p.message for p in check(page, kinds(), World()))

        self.assertIn("JSONPath", said("ask_service", service="s", path_in="contacts["))
        self.assertIn("have no “size”", said("search", service="s", query="x", by="size"))
        self.assertIn("too early", said("site_links", url="x", keep="words is"))
        self.assertIn("have no “size”, but link", said("site_links", url="x", keep="size is 3"))
        self.assertIn("near to", said("find_rows", sheet="s", how="near"))


class Period(Trying):
    def test_the_record_of_a_period_by_its_days(self) -> None:
        asked: list[tuple[float, float]] = []

        def record(since: float, until: float) -> dict[str, Any]:
            asked.append((since, until))
            return {"text": "told", "count": 2, "items": [{"title": "a"}], "channels": [], "cost": 0.5, "tokens": 9, "hours": 1.5}

        run = {"run": {"date": "2026-03-02", "zone": "Europe/Berlin"}}
        context = Context(self.web, self.connect, run, workspace=replace(self.workspace(), period=record))
        for settings, days in (
            ({"period": "last_month"}, ("2026-02-01", "2026-02-28")),
            ({"period": "this_month"}, ("2026-03-01", "2026-03-02")),
            ({"period": "last_week"}, ("2026-02-23", "2026-03-01")),
            ({"period": "days", "days": 2}, ("2026-03-01", "2026-03-02")),
            ({"period": "between", "since": "2026-03-29", "until": "2026-03-29T10:00"}, ("2026-03-29", "2026-03-29")),
        ):
            with self.subTest(settings):
                told = read_record.perform(read_record.RecordSettings.model_validate(settings), context).output
                self.assertEqual(((told["since"], told["until"]), told["count"]), (days, 2))
        # The day on which the clocks go forward has 23 hours.
        self.assertEqual(asked[-1][1] - asked[-1][0], 23 * 3600)
        for since, until in (("soon", "2026-01-01"), ("2026-02-01", "2026-01-01"), ("", "")):
            with self.assertRaises(OutsideError):
                read_record.perform(read_record.RecordSettings(period="between", since=since, until=until), context)
