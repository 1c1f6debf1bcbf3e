"""A house that is held: it can be read and let go, and nothing else; what is wrong with its data is told."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

from tests.api.visitor import WithApi
from ulmus.api import create_app
from ulmus.api.http.base import House
from ulmus.store import copies


class Held(WithApi):
    def setUp(self) -> None:
        super().setUp()
        room = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, room, ignore_errors=True)
        self.workflow = self.live()
        self.new_item(self.workflow)
        copies.back_up(self.folder, room / "backup")
        self.new_item(self.workflow)
        self._close(self.engine, self.services)
        copies.restore(room / "backup", room / "again")
        self.folder = room / "again"
        self.open()
        self.app = create_app(House(self.services, self.engine, self.proofs, []))
        self.owner = self.visitor("owner")

    def test_it_is_read_and_nothing_is_changed_before_an_owner_lets_it_go(self) -> None:
        maker = self.visitor("maker")
        self.assertEqual(maker.get("/house")["hold"]["why"], "restored")
        self.assertEqual(len(maker.get("/workflows")), 1)
        for visitor, method, path in (
            (maker, "POST", f"/workflows/{self.workflow}/pause"),
            (self.owner, "POST", "/runs/1/cancel"),
            (self.visitor(), "POST", "/letters/x"),
        ):
            self.assertIn("held", visitor.ask(method, path, 423, json={})["message"])
        self.assertEqual(self.app.test_client().post("/call/x", json={}).status_code, 423)
        maker.get("/house/held", 403)
        maker.post("/house/let-go", {"copy": True}, 403)
        told = self.owner.get("/house/held")
        self.assertEqual((told["sends"], told["carries"][0]["runs"]), ([], 1))
        self.assertEqual((told["hands_out"][0]["name"], told["hands_out"][0]["items"]), ("News", 1))
        self.owner.post("/house/let-go", {"copy": True, "surprise": 1}, 422)
        self.owner.post("/house/let-go", {"copy": True, "run_for": [self.workflow]})
        self.assertIsNone(self.owner.get("/house")["hold"])
        self.owner.post("/house/let-go", {"copy": True}, 409)
        self.owner.get("/house/held", 409)
        maker.post(f"/workflows/{self.workflow}/pause")

    def test_what_is_wrong_with_the_data_is_told(self) -> None:
        self.assertEqual(self.owner.get("/house")["troubles"], [])
        (self.folder / "secret.key").unlink()
        self.services.health.tick(self.services.clock() + 1000)
        self.assertIn("secret.key has gone", self.visitor("reader").get("/house")["troubles"][0])
