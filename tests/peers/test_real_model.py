"""A real small model, served by a real server: streaming, usage, schema answers, cancelling, too long a prompt, silence.

Its weights follow no instructions, so nothing is asserted of what it says. ``make realmodel`` runs this; it is no part of the other tests.
"""

from __future__ import annotations

import os
import subprocess
import tempfile
import unittest
from pathlib import Path
from typing import Any

from tests.browser.place import free_port
from ulmus.core.workflow import Line
from ulmus.protocols import chat
from ulmus.protocols.errors import OutsideError
from ulmus.protocols.net import Web
from ulmus.runtime.execution import filled
from ulmus.steps import connection_kinds, kinds
from ulmus.steps.api import Connection, Context, Result, StepFailed

PYTHON = os.environ.get("REAL_MODEL", "")
ROOT = Path(__file__).parents[2]


@unittest.skipUnless(PYTHON, "left to make realmodel")
class RealModel(unittest.TestCase):
    url: str

    @classmethod
    def setUpClass(cls) -> None:
        port = free_port()
        folder = os.environ.get("REAL_MODEL_FOLDER") or tempfile.mkdtemp()
        cls.log = tempfile.TemporaryFile()  # noqa: SIM115 - closed when the class is done
        cls.addClassCleanup(cls.log.close)
        cls.server = subprocess.Popen(
            [PYTHON, "-m", "scripts.realmodel", str(port), folder], cwd=ROOT, stdout=subprocess.PIPE, stderr=cls.log, text=True
        )
        cls.addClassCleanup(cls.end)
        assert cls.server.stdout is not None
        if not any("listening" in line for line in cls.server.stdout):
            cls.log.seek(0)
            raise AssertionError(f"The model did not start: {cls.log.read()[-800:]!r}")
        cls.url = f"http://127.0.0.1:{port}/v1"

    @classmethod
    def end(cls) -> None:
        cls.server.terminate()
        cls.server.wait(20)
        assert cls.server.stdout is not None
        cls.server.stdout.close()

    def setUp(self) -> None:
        self.web = Web(allowed=frozenset({self.url.split("/")[2]}))
        self.addCleanup(self.web.close)
        self.heard: list[str] = []

    def context(self, limit: int | None = 1024, cancelled: Any = None, values: dict[str, Any] | None = None) -> Context:
        settings = connection_kinds()["model"].settings.model_validate(
            {"base_url": self.url, "model": "small", "context": limit, "max_seconds": 60}
        )
        return Context(
            self.web,
            lambda key, kind: Connection("model", "model", "Small", settings, {}),
            values or {},
            frozenset(values or {}),
            asked_later=True,
            progress=self.heard.append,
            cancelled=cancelled or (lambda: False),
        )

    def carry_out(self, context: Context, **settings: Any) -> Result:
        kind = kinds()["draft"]
        line = Line(id="it", kind="draft", settings={"revisions": 0, "max_tokens": 40, **settings})
        return kind.perform(filled(kind, line, context.values), context)

    def test_a_text_streams_and_says_what_it_used(self) -> None:
        try:
            usage = self.carry_out(self.context(), prompt="A sentence about beans in spring:").usage
        except StepFailed as error:  # what it says may be cut off, or go round in circles; what it took is known all the same
            usage = error.usage
        self.assertGreater(len(self.heard), 3)
        self.assertTrue(usage.calls == 1 and usage.tokens_in > 0 and 0 < usage.tokens_out <= 41, usage)

    def test_an_answer_keeps_to_its_schema(self) -> None:
        fields = [{"name": "colour", "type": "choice", "choices": ["green", "brown"]}, {"name": "count", "type": "number"}]
        result = self.carry_out(self.context(), prompt="The bean and its colour.", answer="fields", fields=fields, max_tokens=120)
        self.assertIn(result.output["colour"], ("green", "brown", "not stated"))

    def test_one_of_some_choices(self) -> None:
        result = self.carry_out(
            self.context(), prompt="Is a bean a plant?", answer="choice", choices="yes\nno", max_tokens=200, revisions=2
        )
        self.assertIn(result.output["choice"], ("yes", "no", "not stated"))

    def test_it_is_stopped_half_way_and_answers_the_next(self) -> None:
        with self.assertRaises(OutsideError):
            self.carry_out(
                self.context(cancelled=lambda: len(self.heard) > 2),
                prompt="Count from one to a thousand: one, two,",
                max_tokens=700,
            )
        self.assertLess(len(self.heard), 60)
        server = chat.Server(self.url, "", "small", 60)
        self.assertTrue(chat.complete(self.web, server, [{"role": "user", "content": "Hello"}], max_tokens=5).tokens_out)

    def test_too_long_a_prompt_is_shortened_whether_or_not_its_length_was_said(self) -> None:
        page = "The beans stood in rows by the wall, and nobody picked them. " * 200
        for limit in (1024, None):
            with self.subTest(limit=limit):
                try:
                    detail = self.carry_out(
                        self.context(limit, values={"page": {"text": page}}), prompt="Sum this up.\n<<page.text>>", max_tokens=30
                    ).detail
                except StepFailed as error:
                    detail = error.detail
                sent = sum(len(message["content"]) for message in detail["messages"])
                self.assertLess(sent, 6000)

    def test_a_silence_is_given_up_in_words(self) -> None:
        server = chat.Server(self.url, "", "small", 0.01)
        with self.assertRaises(OutsideError) as caught:
            chat.complete(self.web, server, [{"role": "user", "content": "beans and " * 300}], max_tokens=5)
        self.assertTrue(caught.exception.retryable)
        self.assertIn("in time", caught.exception.message)
