"""From a report to an article: plan, each section in parallel with the whole source, merged, edited, titled, handed to a blog."""

from __future__ import annotations

import copy

from practice_town.reports import pdf
from tests.runtime.house import WHO, WithHouse
from ulmus.runtime import files, workflows
from ulmus.runtime.sharing import templates
from ulmus.store import tables


class Article(WithHouse):
    def test_the_template_carries_a_report_to_a_draft_on_the_blog(self) -> None:
        seal = self.services.sealer.seal
        with self.services.store.write() as session:
            blog = {"url": f"{self.town.url}/blog/app", "user": "editor"}
            session.add(
                tables.Connection(key="blog", kind="blog", name="Blog", settings=blog, sealed=seal({"password": "towpath-key"}))
            )
        document = copy.deepcopy(templates()["report-to-article"][1])
        next(s for s in document["steps"] if s["id"] == "editor")["settings"]["who"] = WHO
        workflow_id = self.made(document)
        workflows.go_live(self.engine, workflow_id, WHO)
        report = files.keep(self.services, "report.pdf", "application/pdf", pdf("towpath"))
        item = {"title": "calm", "report": report, "tone": "calm", "words": 900, "sent": ""}
        with self.engine.transaction() as tx:
            run = self.engine.begin(tx, workflow_id, item, "calm")
        self.answer(run)
        self.until(run, "done", "failed", seconds=30)
        state = self.engine.live(run).state
        self.assertEqual(state.outcome, "done", state.message)
        values = state.values
        self.assertEqual(sum(section["words"] for section in values["plan"]["items"]), 900)
        parts = values["each_section"]["results"]
        self.assertEqual(len(parts), len(values["plan"]["items"]))
        self.assertGreater(len(parts), 1)
        self.assertLessEqual(values["article"]["words"], 990)
        self.assertLessEqual(len(values["title"]["text"]), 80)
        (entry,) = self.town.state.entries
        self.assertEqual((entry["title"], entry["draft"]), (values["title"]["text"], True))
        for section in values["plan"]["items"]:
            self.assertIn(section["heading"], entry["content"])
