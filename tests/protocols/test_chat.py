"""The chat-completions protocol: streams, whole answers, usage, and every way a server can fail."""

from __future__ import annotations

import itertools
import json
import socket
import time
import unittest
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from tests.protocols.outside import WithTown, answering, raw
from ulmus.protocols import chat, embeddings
from ulmus.protocols.errors import OutsideError
from ulmus.protocols.net import Enough

TALK = [
    {
        "role": "user",
        "content": "Write at most 120 characters about this.\n<material>\n"
        + "The seed library at Ostrey lends six packets to every grower in spring. Each borrower brings back twice the weight in autumn. "
        * 2
        + "\n</material>",
    }
]


def stream(*chunks: Any, done: bool = True) -> bytes:
    lines = [f"data: {c if isinstance(c, str) else json.dumps(c)}\n\n" for c in chunks]
    return "".join(lines + (["data: [DONE]\n\n"] if done else [])).encode()


def delta(text: str, finish: str | None = None) -> dict[str, Any]:
    return {"choices": [{"index": 0, "delta": {"content": text}, "finish_reason": finish}]}


class Practice(WithTown):
    def ask(self, **more: Any) -> chat.Answer:
        return chat.complete(
            self.web, chat.Server(f"{self.town.url}/model/v1", "key", "practice-1", more.pop("max_seconds", 20)), TALK, **more
        )

    def test_an_answer_streams_in_and_is_counted(self) -> None:
        parts: list[str] = []
        answer = self.ask(on_text=parts.append)
        self.assertGreater(len(parts), 3)
        self.assertEqual(parts[-1].strip(), answer.text)
        self.assertTrue(all(b.startswith(a) for a, b in itertools.pairwise(parts)))
        self.assertTrue(answer.counted)
        self.assertGreater(answer.tokens_in, 20)
        self.assertLessEqual(len(answer.text), 120)

    def test_the_same_question_gives_the_same_answer(self) -> None:
        self.assertEqual(self.ask().text, self.ask().text)

    def test_a_server_that_cannot_stream_is_used_all_the_same(self) -> None:
        self.fault("model", "plain")
        answer = self.ask()
        self.assertTrue(answer.text)
        self.assertFalse(answer.counted)
        self.assertGreater(answer.tokens_out, 0)

    def test_answers_in_the_shape_of_a_schema(self) -> None:
        schema = {
            "type": "object",
            "properties": {
                "title": {"type": "string"},
                "tone": {"enum": ["calm", "loud"]},
                "points": {"type": "array", "items": {"type": "string"}},
            },
        }
        data = json.loads(self.ask(schema=schema).text)
        self.assertEqual(set(data), {"title", "tone", "points"})
        self.assertEqual(data["tone"], "calm")

    def test_each_misbehaviour_has_its_words(self) -> None:
        for mode, words, again in (
            ("busy", "slow down", True),
            ("down", "fault of its own", True),
            ("garbage", "not an answer", True),
            ("empty", "empty answer", True),
            ("half", "broke off half way", True),
        ):
            with self.subTest(mode=mode):
                self.fault("model", mode)
                with self.assertRaisesRegex(OutsideError, words) as caught:
                    self.ask()
                self.assertEqual(caught.exception.retryable, again)

    def test_it_says_when_to_come_back(self) -> None:
        self.fault("model", "busy")
        with self.assertRaises(OutsideError) as caught:
            self.ask()
        self.assertEqual(caught.exception.retry_after, 2.0)

    def test_one_that_never_answers(self) -> None:
        self.fault("model", "never")
        with self.assertRaisesRegex(OutsideError, "did not answer in time"):
            self.ask(max_seconds=0.4)

    def test_it_can_be_stopped_while_it_writes(self) -> None:
        self.town.state.habits["pace"] = 30
        seen: list[str] = []
        with self.assertRaisesRegex(OutsideError, "Stopped"):
            self.ask(on_text=seen.append, cancelled=lambda: len(seen) > 2)
        self.assertLess(len(seen), 8)


class OtherServers(WithTown):
    def ask(self, body: bytes, kind: str = "text/event-stream", status: str = "200 OK") -> chat.Answer:
        server, web = raw(self, answering(body, f"Content-Type: {kind}\r\n", status))
        return chat.complete(web, chat.Server(server.url, "", "m", 5), TALK)

    def test_a_stream_without_an_end_mark_but_with_a_reason_to_stop(self) -> None:
        self.assertEqual(self.ask(stream(delta("Hello"), delta(" you", "stop"), done=False)).text, "Hello you")

    def test_comments_and_empty_lines_between_events(self) -> None:
        body = b": keep alive\n\nevent: x\r\ndata:" + json.dumps(delta("Hi")).encode() + b"\r\n\r\ndata: [DONE]\r\n\r\n"
        self.assertEqual(self.ask(body).text, "Hi")

    def test_usage_after_the_last_word(self) -> None:
        body = stream(delta("Hi", "stop"), {"choices": [], "usage": {"prompt_tokens": 7, "completion_tokens": 2}})
        answer = self.ask(body)
        self.assertEqual((answer.tokens_in, answer.tokens_out, answer.counted), (7, 2, True))

    def test_a_stream_that_breaks_off(self) -> None:
        with self.assertRaisesRegex(OutsideError, "broke off half way"):
            self.ask(stream(delta("Hel"), done=False))

    def test_events_that_are_no_json(self) -> None:
        for bad in ("{not json", "[1, 2]", '{"choices": [3]}'):
            with self.subTest(bad=bad), self.assertRaisesRegex(OutsideError, "not an answer"):
                self.ask(stream(bad))

    def test_whole_answers_of_the_wrong_shape(self) -> None:
        for body in (b"{}", b'{"choices": []}', b"[]", b"null", b"{"):
            with self.subTest(body=body), self.assertRaisesRegex(OutsideError, "not an answer"):
                self.ask(body, "application/json")

    def test_a_wrong_key_says_so_and_is_not_tried_again(self) -> None:
        with self.assertRaisesRegex(OutsideError, "does not accept the key") as caught:
            self.ask(b"{}", "application/json", "401 Unauthorized")
        self.assertFalse(caught.exception.retryable)

    def test_an_endless_answer_is_cut(self) -> None:
        def endless(line: socket.socket) -> None:
            line.sendall(b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n")
            piece = stream(delta("word " * 2000), done=False)
            for _ in range(2000):
                line.sendall(piece)

        server, web = raw(self, endless)
        answer = chat.complete(web, chat.Server(server.url, "", "m", 20), TALK, max_tokens=100)
        self.assertTrue(answer.cut)
        self.assertLess(len(answer.text), 16_000)

    def test_one_that_falls_silent_is_given_up_and_what_had_come_is_kept(self) -> None:
        def silent(line: socket.socket) -> None:
            line.sendall(b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n" + stream(delta("Half of it"), done=False))
            time.sleep(6)

        server, web = raw(self, silent)
        began = time.monotonic()
        with self.assertRaisesRegex(chat.Broken, "sent nothing more for 1 seconds") as caught:
            chat.complete(web, chat.Server(server.url, "", "m", 1), TALK)
        self.assertLess(time.monotonic() - began, 5)
        self.assertEqual((caught.exception.text, caught.exception.retryable), ("Half of it", True))
        self.assertGreater(caught.exception.tokens_in, 0)

    def test_one_that_writes_slowly_is_waited_for(self) -> None:
        def slow(line: socket.socket) -> None:
            line.sendall(b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n")
            for word in ["It", "takes", "longer", "than", "the", "silence", "it", "may", "keep"]:
                line.sendall(stream(delta(word + " "), done=False))
                time.sleep(0.3)
            line.sendall(stream(delta("", "stop")))

        server, web = raw(self, slow)
        self.assertIn("longer than", chat.complete(web, chat.Server(server.url, "", "m", 1), TALK).text)

    def test_in_the_end_it_is_given_up(self) -> None:
        def drips(line: socket.socket) -> None:
            line.sendall(b"HTTP/1.1 200 OK\r\nContent-Type: text/event-stream\r\n\r\n")
            for _ in range(60):
                line.sendall(stream(delta("drip "), done=False))
                time.sleep(0.1)

        server, web = raw(self, drips)
        with mock.patch.object(chat, "WIDEST", 1.5), self.assertRaisesRegex(chat.Broken, "kept sending for more than 1.5 seconds"):
            chat.complete(web, chat.Server(server.url, "", "m", 1), TALK)

    def test_the_key_and_the_wish_to_stream_are_sent(self) -> None:
        server, web = raw(self, answering(stream(delta("Hi", "stop")), "Content-Type: text/event-stream\r\n"))
        chat.complete(web, chat.Server(server.url + "v1/", "s3cret", "m", 5), TALK, temperature=0.1, max_tokens=9)
        request = server.requests[0].decode()
        self.assertTrue(request.startswith("POST /v1/chat/completions "))
        self.assertIn("Bearer s3cret", request)
        body = json.loads(request.split("\r\n\r\n", 1)[1])
        self.assertEqual((body["stream"], body["temperature"], body["max_tokens"], body["model"]), (True, 0.1, 9, "m"))


class Meanings(WithTown):
    def server(self) -> chat.Server:
        return chat.Server(f"{self.town.url}/model/v1", "k", "practice-meanings", 2)

    def test_texts_of_one_meaning_point_the_same_way_however_many_there_are(self) -> None:
        texts = ["a barge in the canal", "beans in dry soil", *(f"number {n}" for n in range(150))]
        found, tokens = embeddings.vectors(self.web, self.server(), ["a boat in a lock", *texts])
        self.assertEqual((len(found), len({len(one) for one in found})), (153, 1))
        self.assertGreater(tokens, 100)

        def angle(a: list[float], b: list[float]) -> float:
            return sum(x * y for x, y in zip(a, b, strict=True))

        self.assertGreater(angle(found[0], found[1]), angle(found[0], found[2]) + 0.3)

    def test_a_server_without_them_says_so(self) -> None:
        self.fault("model", "bare")
        with self.assertRaisesRegex(OutsideError, "has no embeddings. Compare words"):
            embeddings.vectors(self.web, self.server(), ["x"])

    def test_what_is_no_vector_is_worth_another_try(self) -> None:
        for answer in (
            b"<!doctype html>",
            b'{"data": []}',
            b'{"data": [{"index": 0, "embedding": ["a"]}]}',
            b'{"data": [{"index": 0, "embedding": []}]}',
            b'{"data": [{"index": 0, "embedding": [NaN]}]}',
        ):
            server, web = raw(self, answering(answer))
            with self.subTest(answer=answer), self.assertRaisesRegex(OutsideError, "no vector") as caught:
                embeddings.vectors(web, chat.Server(server.url, "", "m", 2), ["x"])
            self.assertTrue(caught.exception.retryable)


class Streams(unittest.TestCase):
    """Events come in pieces of any size; what is said does not depend on where they are cut."""

    EVENTS = (
        b': a comment\n\ndata: {"choices": [{"delta": {"content": "Beans \xe2\x80\x93 "}}]}\r\n\r\n'
        b'event: note\ndata: {"choices": [{"delta": {"content": "and peas."}, "finish_reason": null}]}\n\n'
        b'data: {"choices": [{"delta": {"tool_calls": [{"index": 0, "id": "c1", "function": {"name": "look"}}]}}]}\n\n'
        b'data: {"choices": [{"delta": {"tool_calls": [{"index": 0, "function": {"arguments": "{\\"q\\": 1}"}}]}}]}\n\n'
        b'data: {"choices": [{"delta": {}, "finish_reason": "length"}]}\n\n'
        b'data: {"choices": [], "usage": {"prompt_tokens": 7, "completion_tokens": 3}}\n\ndata: [DONE]\n\n'
    )

    def said(self, pieces: list[bytes]) -> tuple[Any, ...]:
        told: list[str] = []
        stream = chat._Stream(told.append, 100_000)
        try:
            for piece in pieces:
                stream.take(piece)
        except Enough:
            pass
        said = stream.whole()
        return said.text, said.usage, said.calls, said.cut, told

    @given(st.lists(st.integers(0, len(EVENTS)), max_size=12))
    def test_wherever_they_are_cut(self, cuts: list[int]) -> None:
        at = [0, *sorted(cuts), len(self.EVENTS)]
        pieces = [self.EVENTS[a:b] for a, b in itertools.pairwise(at)]
        text, usage, calls, cut, told = self.said(pieces)
        self.assertEqual(text, "Beans – and peas.")
        self.assertEqual((usage["prompt_tokens"], cut), (7, True))
        self.assertEqual(calls, [chat.Call("c1", "look", '{"q": 1}')])
        self.assertEqual(told, ["Beans – ", "Beans – and peas."])

    def test_nothing_after_the_end_is_waited_for(self) -> None:
        stream = chat._Stream(None, 100_000)
        with self.assertRaises(Enough):
            stream.take(self.EVENTS)

    def test_what_broke_off_is_no_answer(self) -> None:
        stream = chat._Stream(None, 100_000)
        stream.take(self.EVENTS[: self.EVENTS.index(b'"length"') - 40])
        with self.assertRaisesRegex(OutsideError, "broke off half way"):
            stream.whole()

    @given(st.binary(max_size=300))
    def test_no_bytes_break_it(self, noise: bytes) -> None:
        stream = chat._Stream(None, 100_000)
        try:
            stream.take(b"data: " + noise + b"\n\n")
            stream.whole()
        except (Enough, OutsideError):
            pass
