"""The command line, as a user calls it: what it prints, what it refuses, and its exit status."""

from __future__ import annotations

import contextlib
import json
import os
import socket
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any, NamedTuple

from click.testing import CliRunner

from tests.protocols.outside import WithTown
from tests.runtime.house import furnish, page, reachable
from ulmus.cli import main
from ulmus.runtime import inviting
from ulmus.runtime.engine import Engine
from ulmus.runtime.services import Services
from ulmus.store import packed, tables


class Told(NamedTuple):
    """What a command told, and its exit status."""

    status: int
    stdout: str
    stderr: str


class CommandLine(WithTown):
    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.allow = [word for place in reachable(self.town) for word in ("--allow", place)]

    def call(self, *arguments: str, status: int = 0, stdin: str = "") -> Told:
        """What a command tells: in this process, but for those that serve, which have one of their own."""
        told = self._apart(arguments, stdin) if arguments[0] in ("serve", "demo") else self._here(arguments, stdin)
        self.assertEqual(told.status, status, f"{arguments}\n{told.stdout}\n{told.stderr}")
        self.assertNotIn("Traceback", told.stderr)
        return told

    def _here(self, arguments: tuple[str, ...], stdin: str) -> Told:
        with contextlib.chdir(self.folder):
            told = CliRunner().invoke(main, arguments, input=stdin, prog_name="ulmus")
        if told.exception is not None and not isinstance(told.exception, SystemExit):
            raise told.exception
        return Told(told.exit_code, told.stdout, told.stderr)

    def _apart(self, arguments: tuple[str, ...], stdin: str) -> Told:
        told = subprocess.run(
            [sys.executable, "-m", "ulmus.cli", *arguments],
            input=stdin,
            capture_output=True,
            text=True,
            cwd=self.folder,
            env={**os.environ, "PYTHONPATH": str(Path(__file__).parents[1])},
        )
        return Told(told.returncode, told.stdout, told.stderr)

    def json(self, *arguments: str, status: int = 0, stdin: str = "") -> Any:
        return json.loads(self.call(*arguments, "--json", status=status, stdin=stdin).stdout)

    def file(self, name: str, content: Any) -> str:
        path = self.folder / name
        path.write_bytes(
            content if isinstance(content, bytes) else (content if isinstance(content, str) else json.dumps(content)).encode()
        )
        return str(path)

    def test_every_command_has_help_worth_reading(self) -> None:
        listed = self.call("--help").stdout
        for command in (
            "serve",
            "demo",
            "town",
            "check",
            "run",
            "feed",
            "read",
            "chapters",
            "rules",
            "evidence",
            "voice",
            "render",
            "due",
            "user",
            "docs",
        ):
            self.assertIn(command, listed)
            self.assertGreater(len(self.call(command, "--help").stdout), 120, command)

    # -- check --------------------------------------------------------------------------------------

    def test_check_a_good_file(self) -> None:
        file = self.file("w.json", page(self.town.url))
        self.assertIn("Nothing is wrong", self.call("check", file).stdout)
        self.assertEqual(self.json("check", file), {"ok": True, "problems": []})

    def test_check_tells_each_fault_with_its_place(self) -> None:
        document = page(self.town.url, post={"prompt": "<<pge.text>>"})
        told = self.json("check", self.file("w.json", document), status=1)
        self.assertEqual((told["problems"][0]["where"], told["problems"][0]["start"]), ("post/prompt", 0))
        self.assertIn("Did you mean “page”?", self.call("check", self.file("w.json", document), status=1).stderr)

    def test_check_files_that_are_none(self) -> None:
        for content in ("", "[]", "{", '{"format": "x"}', b"\xff\xfe\x00"):
            with self.subTest(content=content):
                self.assertFalse(self.json("check", self.file("w.json", content), status=1)["ok"])
        self.assertIn("cannot be read", self.call("check", "nowhere.json", status=1).stderr)

    # -- feed and read ------------------------------------------------------------------------------

    def test_feed_by_address_and_from_a_file(self) -> None:
        url = f"{self.town.url}/sites/furrow-letter/feed.atom"
        by_address = self.json("feed", url, *self.allow)
        self.assertEqual((by_address["title"], len(by_address["items"])), ("The Furrow Letter", 10))
        body = self.web.fetch(url).body
        self.assertEqual(len(self.json("feed", self.file("f.xml", body))["items"]), 10)
        self.assertIn(by_address["items"][0]["title"], self.call("feed", url, *self.allow).stdout)

    def test_feed_refuses_private_addresses_unless_allowed(self) -> None:
        told = self.call("feed", f"{self.town.url}/sites/furrow-letter/feed.rss", "--json", status=1)
        self.assertIn("private address", told.stderr)
        self.assertEqual(told.stdout, "")

    def test_feed_that_is_none(self) -> None:
        self.assertIn("not a feed", self.call("feed", self.file("f.xml", "<html></html>"), status=1).stderr)

    def test_read_a_page(self) -> None:
        url = f"{self.town.url}/sites/cutside-courier/lock-seven-reopens-after-a"
        told = self.json("read", url, *self.allow)
        self.assertEqual(told["title"], "Lock seven reopens after a winter of new gates")
        self.assertGreater(told["words"], 300)
        self.assertIn("green oak", self.call("read", url, *self.allow).stdout)
        self.assertIn("No running text", self.call("read", self.file("p.html", "<html><body></body></html>"), status=1).stderr)

    # -- render -------------------------------------------------------------------------------------

    def test_read_files_of_other_kinds(self) -> None:
        from practice_town import reports

        pdf = self.file("r.pdf", reports.pdf("seed-year.pdf"))
        self.assertIn("seed library", self.call("read", pdf).stdout)
        self.assertGreater(len(self.json("read", pdf)["pages"]), 3)
        self.assertEqual(self.json("read", self.file("t.csv", "a,b\n1,2\n"))["rows"], [{"a": "1", "b": "2"}])
        found = self.json("read", f"{self.town.url}/reports/canal-trade.pdf", *self.allow)
        self.assertEqual(found["kind"], "pdf")
        self.assertIn("password", self.call("read", self.file("l.pdf", reports.pdf("locked.pdf")), status=1).stderr)

    def test_chapters_of_a_transcript(self) -> None:
        from practice_town.recordings import episodes, srt, vtt

        episode = episodes()["on-the-cut"]
        file = self.file("e.vtt", vtt(episode))
        told = self.json("chapters", file, "--fineness", "many")
        self.assertGreater(len(told["chapters"]), 1)
        self.assertEqual(told["chapters"][0]["at"], "0:00")
        self.assertIn("0:00", self.call("chapters", "-", stdin=srt(episode)).stdout)
        self.assertIn("no transcript", self.call("chapters", self.file("x.vtt", "hello"), status=1).stderr)

    def test_rules_evidence_and_voice(self) -> None:
        draft = self.file("d.txt", "The gates weigh 3 tonnes. They are of green oak, says Otto Finch. #oak #lock")
        rules = self.file("r.json", [{"rule": "hashtags", "most": 1}, {"rule": "words", "most": 40, "strength": "should"}])
        found = self.json("rules", draft, "--rules", rules, status=1)["findings"]
        self.assertEqual([f["kept"] for f in found], [False, True])
        self.assertIn("BROKEN", self.call("rules", draft, "--rules", rules, status=1).stdout)
        fields = self.file("fields.json", {"subject": "Far too many words for a subject", "body": "We are open."})
        of_one = self.file("of.json", [{"rule": "words", "most": 4, "of": "subject"}, {"rule": "words", "most": 4, "of": "body"}])
        told = self.json("rules", fields, "--rules", of_one, status=1)["findings"]
        self.assertEqual([(f["kept"], f["of"]) for f in told], [(False, "subject"), (True, "body")])
        self.assertIn("holds no list", self.call("rules", draft, "--rules", self.file("x.json", [{"rule": "x"}]), status=1).stderr)
        source = self.file(
            "s.md", "# Gates\n\nThe gates weigh 3 tonnes each. They are made of green oak and close by themselves.\n"
        )
        told = self.json("evidence", draft, "--source", source)
        self.assertEqual(told["sentences"][0]["level"], "supported")
        self.assertIn("Otto Finch", [c["text"] for s in told["sentences"] for c in s["missing"]])
        self.assertIn("Otto Finch stands in no source", self.call("evidence", draft, "--source", source).stdout)
        examples = [self.file(f"e{n}.txt", f"Frost on night {n}. Cover the peas.\n#frost") for n in range(3)]
        told = self.json("voice", *examples, "--against", draft)
        self.assertEqual(told["style"]["middle"]["hashtags"], 1.0)
        self.assertIn("verdict", told)
        self.assertIn("speaks as", self.call("voice", *examples).stdout)

    def test_render_for_each_place(self) -> None:
        values = self.file("v.json", {"lead": {"name": "A & B", "tags": [1, 2]}})
        for place, text, wanted in (
            ("text", "Hi <<lead.name>>", "Hi A & B"),
            ("html", "Hi <<lead.name>>", "Hi A &amp; B"),
            ("json", '{"n": <<lead.name>>, "t": <<lead.tags>>}', '{"n": "A & B", "t": [1, 2]}'),
            ("url", "?n=<<lead.name>>", "?n=A%20%26%20B"),
        ):
            with self.subTest(place=place):
                self.assertEqual(self.json("render", text, "--values", values, "--as", place)["text"], wanted)
        self.assertEqual(self.json("render", "-", "--values", values, stdin="<<lead.no>>x"), {"text": "x", "missing": ["lead.no"]})

    def test_render_refuses_wrong_slots_and_values(self) -> None:
        values = self.file("v.json", {"a": 1})
        self.assertIn("at 3:", self.call("render", "hi <<a", "--values", values, status=1).stderr)
        self.assertIn("not JSON", self.call("render", "x", "--values", self.file("b.json", "{"), status=1).stderr)
        self.assertIn("one JSON object", self.call("render", "x", "--values", self.file("l.json", "[]"), status=1).stderr)

    # -- due ----------------------------------------------------------------------------------------

    def test_due_times_in_a_zone(self) -> None:
        rule = "FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0"
        told = self.json("due", rule, "--zone", "Europe/Paris", "--after", "2026-03-28T12:00", "--count", "2")
        self.assertEqual(told["due"], ["2026-03-29T03:30:00+02:00", "2026-03-30T02:30:00+02:00"])
        self.assertEqual(len(self.call("due", "FREQ=HOURLY", "--count", "3").stdout.splitlines()), 3)
        self.assertIn("Never again", self.call("due", "FREQ=DAILY;UNTIL=20200101T000000").stdout)
        for arguments, words in (
            (("FREQ=X",), "RFC 5545"),
            (("FREQ=DAILY", "--zone", "Nowhere"), "no time zone"),
            (("FREQ=DAILY", "--after", "soon"), "not a time"),
        ):
            self.assertIn(words, self.call("due", *arguments, status=1).stderr)

    # -- run ----------------------------------------------------------------------------------------

    def furnished(self) -> list[str]:
        services = Services.open(self.folder / "data")
        furnish(services, self.town.url, self.town.smtp_port)
        services.close()
        return ["--data", str(self.folder / "data"), *self.allow]

    def test_run_to_the_end_with_yes(self) -> None:
        told = self.json("run", self.file("w.json", page(self.town.url)), "--approve", "yes", *self.furnished())
        self.assertEqual(told["state"], "done")
        self.assertEqual([s["state"] for s in told["steps"]], ["done"] * 5)
        self.assertEqual([p["content"] for p in self.town.state.posts], [told["steps"][3]["output"]["text"]])

    def test_its_journal_is_shown_packed_or_not_and_a_report_gathered(self) -> None:
        options = self.furnished()
        self.json("run", self.file("w.json", page(self.town.url)), "--approve", "yes", *options)
        here = options[:2]
        told = self.call("runs", "show", "1", *here).stdout
        self.assertRegex(told, r"^Run 1, “.+”: done\n")
        self.assertIn("Approved by", told)
        services = Services.open(self.folder / "data")
        self.assertTrue(packed.pack(services.store, 1))
        services.close()
        self.assertEqual(self.call("runs", "show", "1", *here).stdout, told)
        events = self.json("runs", "show", "1", *here)
        self.assertEqual((events[0]["event"], events[-1]["event"]), ("begun", "ended"))
        self.assertIn("no run 7", self.call("runs", "show", "7", *here, status=1).stderr)
        packed.path_of(self.folder / "data", 1).unlink()
        self.assertIn("Put it back from a backup", self.call("runs", "show", "1", *here, status=1).stderr)
        self.assertIn("about.json", self.call("fault-report", "report.zip", *here).stdout)
        self.assertIn("there already", self.call("fault-report", "report.zip", *here, status=1).stderr)

    def test_run_with_no_publishes_nothing(self) -> None:
        told = self.json("run", self.file("w.json", page(self.town.url)), "--approve", "no", *self.furnished())
        self.assertEqual(told["state"], "declined")
        self.assertEqual(self.town.state.posts, [])

    def test_run_asks_at_the_terminal_and_takes_a_note(self) -> None:
        item = self.file(
            "item.json", {"title": "Given", "link": f"{self.town.url}/sites/cutside-courier/lock-seven-reopens-after-a"}
        )
        file = self.file("w.json", page(self.town.url))
        told = self.call("run", file, "--item", item, *self.furnished(), stdin="n\nMake it shorter.\ny\n")
        self.assertIn("done", told.stdout)
        self.assertEqual(len(self.town.state.posts), 1)

    def test_run_that_fails_says_why_and_has_a_status(self) -> None:
        self.fault("page", "gone")
        told = self.json("run", self.file("w.json", page(self.town.url)), "--approve", "yes", *self.furnished(), status=1)
        self.assertEqual(told["state"], "failed")
        self.assertIn("nothing at this address", told["message"])

    def test_run_with_gaps_or_beside_a_server_is_refused(self) -> None:
        file = self.file("w.json", page(self.town.url))
        self.assertIn("not here yet", self.call("run", file, "--data", str(self.folder / "empty"), *self.allow, status=1).stderr)
        options = self.furnished()
        services = Services.open(self.folder / "data")
        engine = Engine(services)
        engine.start(polling=False)
        self.addCleanup(services.close)
        self.addCleanup(engine.stop)
        self.assertIn("Another Ulmus", self.call("run", file, *options, status=1).stderr)

    # -- accounts -----------------------------------------------------------------------------------

    def test_data_is_backed_up_looked_through_and_restored(self) -> None:
        self.call("user", "add", "i@a.example", "--name", "I", "--password", "a good password", "--data", "house")
        Services.open(self.folder / "house").close()
        self.assertIn("is a backup of house", self.call("backup", "copy", "--data", "house").stdout)
        self.assertIn("there already", self.call("backup", "copy", "--data", "house", status=1).stderr)
        self.assertIn("no data", self.call("backup", "copy2", "--data", "nowhere", status=1).stderr)
        self.assertIn("a whole backup", self.call("verify", "copy").stdout)
        self.assertIn("in order", self.call("verify", "--data", "house").stdout)
        self.assertIn("It is held", self.call("restore", "copy", "--data", "again").stdout)
        self.assertIn("already", self.call("restore", "copy", "--data", "again", status=1).stderr)
        (self.folder / "copy" / "ulmus.db").write_bytes(b"torn")
        self.assertIn("damaged", self.call("verify", "copy", status=1).stderr)

    def test_data_that_cannot_be_opened_says_why_and_how_to_go_on(self) -> None:
        Services.open(self.folder / "house").close()
        (self.folder / "house" / "secret.key").unlink()
        self.assertIn("no secret.key", self.call("serve", "--data", "house", "--port", "0", status=1).stderr)
        self.assertIn("type the secrets again", self.call("new-key", "--data", "house", "--yes").stdout)
        Services.open(self.folder / "house").close()
        (self.folder / "house" / "ulmus.db").write_bytes(b"nothing of the kind" * 1000)
        self.assertIn("damaged", self.call("serve", "--data", "house", "--port", "0", status=1).stderr)
        (self.folder / "file").write_text("x")
        self.assertIn("is a file", self.call("serve", "--data", "file", "--port", "0", status=1).stderr)

    def test_where_nothing_can_be_written_it_says_so(self) -> None:
        serve = f"ulimit -f 16; exec {sys.executable} -m ulmus.cli serve --data full --port 0"
        env = {**os.environ, "PYTHONPATH": str(Path(__file__).parents[1])}
        told = subprocess.run(["sh", "-c", serve], cwd=self.folder, capture_output=True, text=True, env=env, timeout=60)
        self.assertEqual(told.returncode, 1)
        self.assertRegex(told.stderr, r"Error: The disk (is full|with full fails)")

    def test_a_demonstration_on_a_taken_port_says_so_once_and_ends(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as taken:
            port = str(taken.getsockname()[1])
            told = self.call("demo", "--data", "demo", "--port", port, status=1)
        self.assertEqual(told.stderr.strip(), f"Error: Port {port} is taken. Choose another with --port, or end what uses it.")
        self.assertFalse((self.folder / "demo").exists())

    def test_a_link_lets_somebody_in_again_whose_device_and_password_are_gone(self) -> None:
        here = ["--data", str(self.folder / "data")]
        self.call("user", "add", "m@a.example", "--name", "Mara", "--password", "long enough", *here)
        services = Services.open(self.folder / "data")
        self.addCleanup(services.close)
        with services.store.write() as session:
            session.query(tables.User).one().second = services.sealer.seal({"secret": "x"})
        link = self.call("user", "link", "M@a.example", "--public-url", "https://u.example/", "--without-second-step", *here).stdout
        self.assertRegex(link, r"^https://u\.example/\?invited=\S+\n$")
        with services.store.read() as session:
            found = inviting.invited(session, services.sealer.key, link.strip().partition("=")[2])
            self.assertEqual((found.email, found.second), ("m@a.example", None))
        self.assertIn("no account", self.call("user", "link", "x@a.example", *here, status=1).stderr)

    def test_accounts_are_added_once(self) -> None:
        options = ["--name", "Mara", "--data", str(self.folder / "data")]
        self.assertIn("can sign in as owner", self.call("user", "add", "m@a.example", "--password", "long enough", *options).stdout)
        self.assertIn(
            "account already", self.call("user", "add", "M@a.example", "--password", "long enough", *options, status=1).stderr
        )
        self.assertIn("at least 10", self.call("user", "add", "n@a.example", "--password", "short", *options, status=1).stderr)
