"""The log, line by line with its run and step; and the report of a fault, without what is secret."""

from __future__ import annotations

import io
import json
import logging
import tempfile
import zipfile
from pathlib import Path

from tests.runtime.house import WithHouse
from ulmus.runtime import faultreport, logs
from ulmus.store import tables


class Lines(WithHouse):
    def setUp(self) -> None:
        super().setUp()
        logging.disable(logging.NOTSET)
        self.addCleanup(logging.disable, logging.CRITICAL)
        self.out = io.StringIO()
        self.handler = logging.StreamHandler(self.out)
        self.handler.addFilter(logs.Placed())
        log = logging.getLogger("ulmus")
        level = log.level
        log.setLevel(logging.INFO)
        log.addHandler(self.handler)
        self.addCleanup(log.setLevel, level)
        self.addCleanup(log.removeHandler, self.handler)

    def test_each_line_of_a_step_names_its_run_and_its_address(self) -> None:
        self.handler.setFormatter(logs.Json())
        run = self.new_item(self.live())
        self.until(run, "asking")
        lines = [json.loads(line) for line in self.out.getvalue().splitlines()]
        steps = {line["step"]: line for line in lines if line.get("run") == run}
        self.assertIn("post", steps)
        self.assertRegex(steps["post"]["message"], r"^draft in \d+\.\d\d s$")
        self.assertEqual((steps["post"]["level"], steps["post"]["logger"]), ("info", "ulmus"))

    def test_words_name_them_too_and_other_lines_do_not(self) -> None:
        self.handler.setFormatter(logs.Words())
        log = logging.getLogger("ulmus")
        with logs.at(7, "all:2/post"):
            log.warning("something is odd")
        log.warning("something else is")
        first, second = self.out.getvalue().splitlines()
        self.assertTrue(first.endswith("ulmus [run 7, all:2/post]: something is odd"), first)
        self.assertTrue(second.endswith("ulmus: something else is"), second)

    def test_an_error_is_one_object_with_its_trace(self) -> None:
        self.handler.setFormatter(logs.Json())
        try:
            raise ValueError("line one\nline two")
        except ValueError:
            logging.getLogger("ulmus").exception("it broke: %s", "ü")
        (line,) = self.out.getvalue().splitlines()
        told = json.loads(line)
        self.assertEqual((told["level"], told["message"]), ("error", "it broke: ü"))
        self.assertIn("ValueError: line one", told["error"])
        self.assertNotIn("run", told)


class Report(WithHouse):
    def gathered(self) -> tuple[dict[str, str], str]:
        to = Path(tempfile.mkdtemp()) / "report.zip"
        names = faultreport.gather(self.services.store, self.services.sealer, to)
        with zipfile.ZipFile(to) as file:
            self.assertEqual(file.namelist(), names)
            parts = {name: file.read(name).decode() for name in names}
        with self.assertRaises(FileExistsError):
            faultreport.gather(self.services.store, self.services.sealer, to)
        return parts, "".join(parts.values())

    def test_it_tells_what_fails_and_holds_no_secret(self) -> None:
        services = self.services
        with services.store.write() as session:
            sealed = services.sealer.seal({"token": "deep-secret-token", "password": "longer deep-secret-token"})
            session.add(tables.Connection(key="hidden", kind="posting", name="Hidden", settings={}, sealed=sealed, test_ok=False))
        (services.store.folder / "ulmus.log").write_text(
            "sent with deep-secret-token to ines@marrowbank.example\nAuthorization: Bearer abc.def.ghi\nkey=open-sesame&x=1\n"
        )
        self.fault("page", "down")
        run = self.new_item(self.live())
        self.until(run, "failed")
        parts, whole = self.gathered()
        for secret in ("deep-secret-token", "longer", "abc.def.ghi", "open-sesame", "ines@", services.sealer.key.decode()):
            self.assertNotIn(secret, whole)
        failing = json.loads(parts["failing.json"])["runs"]
        self.assertEqual([one["id"] for one in failing], [run])
        self.assertEqual(failing[0]["step"], "page")
        counts = json.loads(parts["counts.json"])
        self.assertEqual(counts["runs by state"], {"failed": 1})
        self.assertEqual(counts["connections by kind"]["posting"]["did not answer"], 1)
        about = json.loads(parts["about.json"])
        self.assertGreater(about["database_bytes"], 10_000)
        self.assertIn("Flask", about["packages"])

    def test_it_holds_no_text_that_was_drafted(self) -> None:
        run = self.new_item(self.live())
        self.until(run, "asking")
        draft = self.question(run).text
        self.assertNotIn(draft[:40], self.gathered()[1])

    def test_a_house_that_never_logged_has_an_empty_log(self) -> None:
        self.assertEqual(self.gathered()[0]["log.txt"], "")


class Without(WithHouse):
    def test_the_longest_secret_goes_first_and_short_ones_stay(self) -> None:
        self.assertEqual(logs.without("abcdef abcd ab", ["abcd", "abcdef", "ab"]), "••• ••• ab")
        self.assertEqual(logs.without("password=a b", []), "password=••• b")
        self.assertEqual(logs.without("authorization: Basic aGk= then", []), "authorization: Basic ••• then")
