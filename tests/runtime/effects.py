"""The effect trial: seventy posts in flight, the process killed (SIGKILL), again and again, on a network that is not kind.

The network keeps whatever it is sent, twice where it is sent twice. What went out is counted at the network: nothing lost,
nothing doubled. On one that lists keys at once and in pages nobody is asked; on others no more is unsure than was in flight
at a kill, and what turns out to be there later is found without a person. ``make effecttrial`` does it with 200 kills.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from typing import Any

from sqlalchemy import func, select

from tests.runtime.house import WHO, WithHouse, reachable
from ulmus.runtime import sheets, workflows
from ulmus.store import tables

SEED = 20261127
IN_FLIGHT = 70
TAKES = 0.6
"""Seconds the network takes to answer."""

WORKER = """
import sys, time
from pathlib import Path
from ulmus.runtime import outbox
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
settle, looked_for, unsure_every = map(float, sys.argv[3:6])
outbox.LOOKED_FOR, outbox.UNSURE_EVERY, outbox.UNSURE_LEAST = looked_for, unsure_every, unsure_every
services = Services.open(Path(sys.argv[1]), frozenset(sys.argv[2].split(",")))
engine = Engine(services)
engine.outbox.settle = settle
for _ in range(100):
    try:
        engine.start(polling=False)
        break
    except RuntimeError:
        time.sleep(0.02)
print("up", flush=True)
time.sleep(3600)
"""


class Trial(WithHouse):
    """A house in a process of its own, which is killed."""

    kills = 4
    looked_for, unsure_every = 120.0, 30.0

    def setUp(self) -> None:
        super().setUp()
        self.worker: subprocess.Popen[bytes] | None = None
        self.addCleanup(self.kill)

    def begin(self, steps: list[dict[str, Any]], fields: list[dict[str, str]], item: dict[str, str]) -> None:
        """A run of a page with these lines, begun by hand and not gone on with yet."""
        document = {
            "format": "ulmus-workflow",
            "version": 1,
            "name": "Many",
            "limits": {"steps": 1_000_000},
            "start": {"id": "start", "kind": "by_hand", "settings": {"fields": fields}},
            "steps": steps,
        }
        self.id_ = self.made(document)
        workflows.go_live(self.engine, self.id_, WHO)
        self.engine.stop()
        with self.services.transaction() as tx:
            self.run_id = self.engine.begin(tx, self.id_, {**item, "title": "x"}, "x")
        self.services.close()

    def begin_worker(self) -> None:
        arguments = [sys.executable, "-c", WORKER, str(self.folder), ",".join(reachable(self.town))]
        arguments += [str(2 * TAKES), str(self.looked_for), str(self.unsure_every)]
        self.worker = subprocess.Popen(arguments, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        assert self.worker.stdout is not None
        self.worker.stdout.readline()

    def kill(self) -> None:
        if self.worker is not None:
            os.kill(self.worker.pid, signal.SIGKILL)
            self.worker.wait()
            assert self.worker.stdout is not None
            self.worker.stdout.close()
            self.worker = None

    def count(self, *states: str) -> int:
        with self.services.store.read() as session:
            return session.scalar(select(func.count()).where(tables.Piece.state.in_(states))) or 0


class EffectTrial(Trial):
    """Subclasses say how many kills, and how the network is."""

    network: dict[str, Any] = {}

    def setUp(self) -> None:
        super().setUp()
        unkind = {"keeps_doubles": True, "takes_time": TAKES, **self.network}
        for name, value in unkind.items():
            setattr(self.town.state.network, name, value)
        with self.services.store.write() as session:
            pond = session.get_one(tables.Connection, "pond")
            # What its lists are worth is not stated, and has to be seen.
            pond.settings = {"endpoint": pond.settings["endpoint"], "limit": 300, "at_once": IN_FLIGHT // 2}
            second = tables.Connection(
                key="pond_b", kind="posting", name="Pondside too", settings=pond.settings, sealed=pond.sealed
            )
            session.add(second)
        post: dict[str, Any] = {"kind": "publish_post", "on_failure": {"retries": 10, "wait": 0.05}}
        each = {"list": "<<start.names>>", "item": "it", "parallel": IN_FLIGHT // 2}
        lanes = []
        for name, channel in (("a", "pond"), ("b", "pond_b")):
            out = {**post, "id": f"out_{name}", "settings": {"channel": channel, "text": "<<it>>"}}
            lanes.append({"id": name, "steps": [{"id": f"all_{name}", "kind": "for_each", "settings": each, "steps": [out]}]})
        # So many that the last kill still meets all places taken.
        count = 40 + 55 * self.kills
        self.expected = [f"Post {n}" for n in range(count)]
        both = {"id": "both", "kind": "fork", "settings": {"which": "every"}, "lanes": lanes}
        self.begin([both], [{"name": "names", "label": "Names", "type": "long"}], {"names": "\n".join(self.expected)})

    def killed(self) -> list[int]:
        """The trial's kills; how many pieces were in flight at each."""
        chance, flying = random.Random(SEED), []
        for n in range(self.kills):
            before = len(self.town.state.posts)
            self.begin_worker()
            # What the last kill left is settled, new ones have gone out, and as many as may be are on their way.
            end = time.monotonic() + 15
            while time.monotonic() < end:
                if len(self.town.state.posts) > before + 20 and self.count("intent") >= IN_FLIGHT - 5:
                    break
                time.sleep(0.01)
            time.sleep(chance.uniform(0.0, 1.5 * TAKES))
            self.kill()
            flying.append(self.count("intent"))
            if (n + 1) % 20 == 0:
                print(f"kill {n + 1}: {len(self.town.state.posts)} posts, {flying[-1]} in flight", flush=True)
        return flying

    def doubled(self) -> dict[str, int]:
        counted = Counter(post["uid"] for post in self.town.state.posts)
        return {key: n for key, n in counted.items() if n > 1}

    def texts(self) -> list[str]:
        return sorted(post["content"] for post in self.town.state.posts)


class OnAKindList(EffectTrial):
    """It lists keys at once, and in pages."""

    def test_nothing_is_lost_or_doubled_and_nobody_is_asked(self) -> None:
        flying = self.killed()
        self.begin_worker()
        self.wait_for(lambda: self.run_of(self.run_id).ended_at is not None, lambda: str(self.count("sent")), 60 + 2 * self.kills)
        self.kill()
        self.assertEqual(self.doubled(), {})
        self.assertEqual(self.texts(), sorted(2 * self.expected))
        with self.services.store.read() as session:
            events = session.connection().exec_driver_sql('SELECT count(*) FROM journal WHERE event LIKE \'%"event":"unsure"%\'')
            self.assertEqual(events.scalar_one(), 0)
        print(
            f"in flight at the kills: {min(flying)} to {max(flying)}; {len(self.town.state.posts)} posts, none lost, none doubled"
        )


class OnALateList(EffectTrial):
    """It lists a post only after a while, and nobody has said so."""

    network = {"late": 4.0}
    looked_for, unsure_every = 1.0, 1.0

    def test_nothing_is_doubled_and_what_is_there_is_found(self) -> None:
        flying = self.killed()
        self.begin_worker()
        most = sum(flying)
        self.wait_for(
            lambda: self.count("queued", "intent", "accepted") == 0 and self.count("unsure") <= most and len(self.texts()) > 0,
            lambda: str(self.count("unsure")),
            120 + 4 * self.kills,
        )
        self.assertLessEqual(self.count("unsure"), most)
        there = {post["uid"] for post in self.town.state.posts}

        def known() -> bool:
            with self.services.store.read() as session:
                unsure = set(session.scalars(select(tables.Piece.key).where(tables.Piece.state == "unsure")))
            return not unsure & there

        self.wait_for(known, lambda: "what is there is found by itself", 60)
        self.kill()
        self.assertEqual(self.doubled(), {})
        print(f"in flight at the kills: {min(flying)} to {max(flying)}; {self.count('unsure')} unsure in the end, none doubled")


SHAPE = '{"text": <<text>>, "place": <<place>>, "reference": <<key>>}'


class OfAllKinds(Trial):
    """Every kind of piece at once. What the other side can be asked about settles itself; of what it cannot be asked about, no more
    is unsure than was in flight at the kills, and nothing goes out twice."""

    kills = 3
    many = 40

    def setUp(self) -> None:
        super().setUp()
        self.town.state.takes_time = 0.3
        town, few = self.town.url, {"at_once": 4}
        market = {"base_url": f"{town}/market/api", "path": "/offers", "shape": SHAPE, "places": "Lock = lock-9", "buttons": ""}
        market |= {"seen_at": "/offers", "seen_in": "$.offers[*].reference", "shows_within": 0.2}
        here: dict[str, tuple[str, dict[str, Any], dict[str, str]]] = {
            "review": ("blog", {"url": f"{town}/blog/app", "user": "editor", "lists_within": 0.2}, {"password": "towpath-key"}),
            "market": ("listing", market, {"key": "market-key"}),
            "files": ("files", {"url": f"{town}/files", "user": "office"}, {"password": "files-key"}),
            "outreach": ("service", {"base_url": f"{town}/outreach/api", "shows_within": 0.2}, {"key": "contacts-key"}),
            "team": ("room", {"shape": '{"message": {"body": <<message>>}}'}, {"address": f"{town}/room/room-b7f2"}),
            "post": ("mail", {"host": "127.0.0.1", "port": self.town.smtp_port, "starttls": False, "sender": "a@a.example"}, {}),
        }
        with self.services.store.write() as session:
            for key, (kind, settings, secrets) in here.items():
                sealed = self.services.sealer.seal(secrets)
                session.add(tables.Connection(key=key, kind=kind, name=key, settings=settings | few, sealed=sealed))
        seen = {"seen_at": "/leads?email=<<it>>", "seen_in": "$.leads[*].email", "seen_is": "<<it>>"}
        lead = {"service": "outreach", "path": "/leads", "body": '{"email": <<it>>}', "unasked": True, **seen}
        lines: dict[str, tuple[str, dict[str, Any]]] = {
            "article": ("publish_article", {"channel": "review", "title": "<<it>>", "text": "The text of <<it>>."}),
            "offer": ("publish_listing", {"channel": "market", "text": "<<it>>", "place": "Lock"}),
            "file": ("save_file", {"store": "files", "folder": "Out", "name": "<<it>>.txt", "what": "The text of <<it>>."}),
            "lead": ("act_at_service", lead),
            "message": ("message_room", {"room": "team", "text": "<<it>>"}),
            "letter": ("send_letter", {"server": "post", "to": "b@b.example", "subject": "<<it>>", "text": "T"}),
        }
        each = {"list": "<<start.names>>", "item": "it", "parallel": 64}
        lanes = []
        for name, (kind, settings) in lines.items():
            out = {"id": name, "kind": kind, "settings": settings, "on_failure": {"retries": 10, "wait": 0.05}}
            lanes.append(
                {"id": f"lane_{name}", "steps": [{"id": f"all_{name}", "kind": "for_each", "settings": each, "steps": [out]}]}
            )
        every = {"id": "every", "kind": "fork", "settings": {"which": "every"}, "lanes": lanes}
        self.names = [f"n{n}@a.example" for n in range(self.many)]
        self.begin([every], [{"name": "names", "label": "Names", "type": "long"}], {"names": "\n".join(self.names)})

    def there(self) -> dict[str, list[str]]:
        """What the town has of each kind, by name."""
        town = self.town.state
        files = self.town.files / "Out"
        return {
            "article": [entry["title"] for entry in town.entries],
            "offer": [offer["text"] for offer in town.offers],
            "file": [path.stem for path in files.iterdir()] if files.exists() else [],
            "lead": [lead["email"] for lead in town.leads],
            "message": [message["body"] for message in town.messages],
            "letter": [mail["subject"] for mail in town.mails],
        }

    def test_nothing_goes_out_twice_and_what_can_be_asked_about_settles_itself(self) -> None:
        chance, flying = random.Random(SEED), 0
        for _ in range(self.kills):
            before = sum(map(len, self.there().values()))
            self.begin_worker()
            end = time.monotonic() + 20
            while time.monotonic() < end and sum(map(len, self.there().values())) < before + 30:
                time.sleep(0.02)
            time.sleep(chance.uniform(0.0, 0.4))
            self.kill()
            flying += self.count("intent")
        unsure = self.decided()
        for name, found in self.there().items():
            with self.subTest(kind=name):
                self.assertEqual([one for one, n in Counter(found).items() if n > 1], [], "none twice")
                self.assertEqual(sorted(found), sorted(self.names), "none lost")
        self.assertEqual(set(unsure) - {"message_room", "send_letter"}, set(), "these can be asked about")
        self.assertLessEqual(unsure.total(), flying)
        print(f"{6 * self.many} of six kinds, {flying} in flight at the kills, {unsure.total()} unsure, none lost, none twice")

    def decided(self) -> Counter[str]:
        """Go on to the end, with a person who looks where nobody else can tell, and says so with one press each; gives how many
        there were of each kind."""
        self.open()
        self.engine.outbox.settle = 0.7
        asked: Counter[str] = Counter()
        end = time.monotonic() + 240
        while self.run_of(self.run_id).ended_at is None:
            if time.monotonic() > end:
                self.fail(f"{self.count('sent')} sent, {self.count('unsure')} unsure, {self.count('intent')} under way")
            with self.services.store.read() as session:
                waiting = list(session.scalars(select(tables.Piece).where(tables.Piece.state == "unsure")))
            for piece in waiting:
                there = self.there()["message" if piece.kind == "message_room" else "letter"]
                name = piece.content.get("subject") or piece.content.get("text")
                self.engine.outbox.decide(piece.id, "sent" if name in there else "again", "Mara")
                asked[piece.kind] += 1
            time.sleep(0.2)
        return asked


class OfAMailing(Trial):
    """A mailing that is killed in the middle: nobody gets two letters, nobody is left out but the one whose letter was in flight,
    which is named and decided by one press."""

    kills = 4
    many = 150

    def setUp(self) -> None:
        super().setUp()
        self.town.state.takes_time = 0.02
        with self.services.store.write() as session:
            sheet = sheets.create(session, "Readers", [{"name": name, "type": "text"} for name in ("Name", "Email")])
            self.readers = [f"r{n}@readers.example" for n in range(self.many)]
            sheets.add_rows(session, sheet, [{"Name": address, "Email": address} for address in self.readers])
        told = {
            "server": "mail",
            "sheet": "readers",
            "address": "Email",
            "subject": "For <<reader.Name>>",
            "text": "<<start.what>>",
        }
        out = {"id": "out", "kind": "send_mailing", "settings": told}
        self.begin([out], [{"name": "what", "label": "What", "type": "long"}], {"what": "*News*"})

    def letters(self, state: str) -> list[str]:
        with self.services.store.read() as session:
            return list(session.scalars(select(tables.MailingLetter.folded).where(tables.MailingLetter.state == state)))

    def test_nobody_gets_two_and_one_letter_at_most_is_in_doubt_for_each_kill(self) -> None:
        chance = random.Random(SEED)
        for _ in range(self.kills):
            before = len(self.town.state.mails)
            self.begin_worker()
            end = time.monotonic() + 20
            while time.monotonic() < end and len(self.town.state.mails) < before + self.many // (2 * self.kills):
                time.sleep(0.005)
            time.sleep(chance.uniform(0.0, 0.05))
            self.kill()
        self.open()
        self.until(self.run_id, "unsure", "done", seconds=60)
        unsure = self.letters("unsure")
        self.assertLessEqual(len(unsure), self.kills)
        got = Counter(mail["to"] for mail in self.town.state.mails)
        self.assertEqual([address for address, n in got.items() if n > 1], [], "nobody twice")
        self.assertLessEqual(set(self.readers) - set(got), set(unsure), "nobody left out that is not named")
        if unsure:
            with self.services.store.read() as session:
                piece = session.scalars(select(tables.Piece)).one()
            self.assertIn(unsure[0], piece.message)
            self.engine.outbox.decide(piece.id, "again", "Mara")
        self.until(self.run_id, "done", seconds=30)
        got = Counter(mail["to"] for mail in self.town.state.mails)
        self.assertEqual(set(got), set(self.readers))
        self.assertLessEqual({address for address, n in got.items() if n > 1}, set(unsure), "only whom a person let have it again")
        print(f"{self.many} readers, {self.kills} kills, {len(unsure)} in doubt")
