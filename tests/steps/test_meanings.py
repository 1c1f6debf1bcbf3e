"""Nearness in meaning: asked of the model once for each text, paid for, and said where it cannot be had."""

from __future__ import annotations

from typing import Any
from unittest import mock

from tests.protocols.outside import WithTown
from ulmus.protocols import embeddings
from ulmus.protocols.errors import OutsideError
from ulmus.steps import connection_kinds
from ulmus.steps.api import Connection, Context
from ulmus.steps.shared import meanings


class Meanings(WithTown):
    def setUp(self) -> None:
        super().setUp()
        self.web.memory("meanings", meanings.MOST_KEPT).clear()

    def kept(self) -> Any:
        return self.web.memory("meanings", 0)

    def context(self, **more: Any) -> Context:
        settings = {"base_url": f"{self.town.url}/model/v1", "model": "practice-1", "prices": {"input": 2.0, "output": 4.0}}
        made = connection_kinds()["model"].settings.model_validate({**settings, "meanings": "practice-meanings", **more})
        return Context(web=self.web, connect=lambda key, kind: Connection(key, kind, "the model", made, {"key": "k"}), values={})

    def test_what_is_known_is_not_asked_again(self) -> None:
        asked = mock.Mock(side_effect=embeddings.vectors)
        with mock.patch.object(embeddings, "vectors", asked):
            first, usage = meanings.nearness(self.context(), "model", "a boat", ["a barge", "a bean"])
            self.assertGreater(first[0], first[1] + 0.3)
            self.assertEqual(usage.calls, 1)
            self.assertAlmostEqual(usage.cost, usage.tokens_in * 2.0 / 1_000_000)
            again, usage = meanings.nearness(self.context(), "model", "a boat", ["a barge", "a bean"])
            self.assertEqual((again, usage.calls, usage.cost), (first, 0, 0))
            meanings.nearness(self.context(), "model", "a boat", ["a barge", "a pea"])
        self.assertEqual([list(call.args[2]) for call in asked.call_args_list], [["a boat", "a barge", "a bean"], ["a pea"]])

    def test_another_model_means_it_otherwise(self) -> None:
        meanings.nearness(self.context(), "model", "a boat", ["a barge"])
        _, usage = meanings.nearness(self.context(meanings="another"), "model", "a boat", ["a barge"])
        self.assertEqual(usage.calls, 1)

    def test_the_same_text_twice_is_asked_once_and_is_as_near_as_can_be(self) -> None:
        found, _ = meanings.nearness(self.context(), "model", "a bean", ["a bean", "a bean", ""])
        self.assertEqual([round(one, 4) for one in found[:2]], [1.0, 1.0])
        self.assertLess(found[2], 0.01)

    def test_what_is_kept_has_a_bound(self) -> None:
        self.web._memories.pop("meanings", None)
        self.addCleanup(self.web._memories.pop, "meanings")
        with mock.patch.object(meanings, "MOST_KEPT", 25):
            meanings.nearness(self.context(), "model", "a boat", [f"number {n}" for n in range(20)])
            meanings.nearness(self.context(), "model", "a boat", [f"no. {n}" for n in range(20)])
        self.assertEqual(len(self.kept()), 25)

    def test_a_model_without_them_is_said(self) -> None:
        with self.assertRaisesRegex(OutsideError, "“the model” has no model for meanings"):
            meanings.nearness(self.context(meanings=""), "model", "a boat", ["a barge"])

    def test_a_server_in_trouble_leaves_nothing_half_known(self) -> None:
        self.fault("model", "down", 1)
        with self.assertRaises(OutsideError) as caught:
            meanings.nearness(self.context(), "model", "a boat", ["a barge"])
        self.assertTrue(caught.exception.retryable)
        self.assertEqual(len(self.kept()), 0)
        found, usage = meanings.nearness(self.context(), "model", "a boat", ["a barge"])
        self.assertEqual((len(found), usage.calls), (1, 1))
