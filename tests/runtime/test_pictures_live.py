"""Pictures in runs and proofs: made, kept, saved into a folder, posted with a text; proofs save and post nothing."""

from __future__ import annotations

from typing import Any

from tests.runtime.house import WHO, WithHouse
from ulmus.protocols import filestore
from ulmus.runtime import workflows
from ulmus.steps.connections.files import folder
from ulmus.store import tables

STEPS: list[dict[str, Any]] = [
    {
        "id": "picture",
        "kind": "picture",
        "settings": {"maker": "brushes", "prompt": "A hill behind <<start.title>>", "format": "wide"},
    },
    {
        "id": "saved",
        "kind": "save_file",
        "settings": {"store": "files", "folder": "Kits/<<start.title>>", "what": "<<picture.link>>", "name": "wide.png"},
    },
    {
        "id": "note",
        "kind": "save_file",
        "settings": {"store": "files", "folder": "Kits", "what": "Well <b>then</b>", "name": "a.html"},
    },
    {
        "id": "out",
        "kind": "publish_post",
        "settings": {"channel": "pond", "text": "See <<start.title>>", "photo": "<<picture.link>>"},
    },
]


class Kit(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        seal = self.services.sealer.seal
        with self.services.store.write() as session:
            brushes = {"base_url": f"{self.town.url}/pictures/v1", "price": 0.03}
            session.add(
                tables.Connection(
                    key="brushes", kind="pictures", name="Brushes", settings=brushes, sealed=seal({"key": "brushes-key"})
                )
            )
            store = {"url": f"{self.town.url}/files/", "user": "office"}
            session.add(
                tables.Connection(key="files", kind="files", name="Files", settings=store, sealed=seal({"password": "files-key"}))
            )
        start = {"id": "start", "kind": "by_hand"}
        self.workflow_id = self.made({"format": "ulmus-workflow", "version": 1, "name": "Kit", "start": start, "steps": STEPS})

    def stored(self, path: str) -> list[str]:
        store = folder(self.services.connect("files", "files"))
        return [entry.name for entry in filestore.listing(self.services.web, store, path)]

    def test_a_run_makes_keeps_saves_and_posts_it(self) -> None:
        workflows.go_live(self.engine, self.workflow_id, WHO)
        with self.engine.transaction() as tx:
            run = self.engine.begin(tx, self.workflow_id, {"title": "Midsummer pea"}, "Midsummer pea")
        self.until(run, "done", "failed")
        values = self.engine.live(run).state.values
        self.assertEqual((values["picture"]["width"], values["picture"]["type"]), (1536, "image/png"))
        self.assertEqual(self.stored("Kits/Midsummer pea"), ["wide.png"])
        self.assertEqual(self.stored("Kits"), ["Midsummer pea", "a.html"])
        self.assertEqual(self.posts(), ["See Midsummer pea"])
        self.assertTrue(self.town.state.posts[0]["photo"].startswith("data:image/png;base64,"))
        self.assertAlmostEqual(self.run_of(run).cost, 0.03)

    def test_a_proof_makes_the_picture_and_shows_the_rest(self) -> None:
        workflow = self.document(self.workflow_id)
        with self.services.store.write() as session:
            sample = tables.Sample(
                workflow_id=self.workflow_id, label="One", item={"title": "One"}, source="typed", shown=True, created_at=1.0
            )
            session.add(sample)
            session.flush()
        self.proofs.run(self.workflow_id, workflow, [sample], None, False)
        cells = lambda: self.proofs.columns(workflow, [sample])[sample.id].cells  # noqa: E731
        self.wait_for(lambda: cells()["out"].state in ("fresh", "failed"), lambda: str(cells()))
        self.assertEqual({c.state for c in cells().values()}, {"fresh"})
        result = cells()["saved"].result
        assert result is not None
        self.assertEqual((result.detail["would"], result.output["path"]), ("send", "Kits/One/wide.png"))
        self.assertEqual(self.posts(), [])
        self.assertNotIn("Kits", self.stored(""))
