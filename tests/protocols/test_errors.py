"""How outsides fail is told apart by codes, whoever asks."""

import unittest

from ulmus.protocols import errors, feeds
from ulmus.protocols.errors import OutsideError
from ulmus.protocols.net import Fetched, Web, status_error


def tree(of: type[OutsideError]) -> list[type[OutsideError]]:
    return [of, *(inner for one in of.__subclasses__() if one.__module__ == errors.__name__ for inner in tree(one))]


class Codes(unittest.TestCase):
    def test_every_class_has_a_code_of_its_own_and_says_what_it_is(self) -> None:
        found = tree(OutsideError)
        self.assertEqual(len({one.code for one in found}), len(found))
        for one in found:
            self.assertIn(f"``{one.code}``", str(errors.__doc__))
            self.assertTrue(one.__doc__)

    def test_statuses_are_told_apart(self) -> None:
        expected = {
            401: "misconfigured",
            403: "refused",
            404: "not_found",
            410: "not_found",
            413: "too_large",
            429: "rate_limited",
            500: "failed",
            503: "unreachable",
        }
        for status, code in expected.items():
            error = status_error(Fetched("http://a.example", status, {}, b""), "It")
            self.assertEqual(error.code, code, status)
            self.assertEqual(error.retryable, status in (429, 500, 503), status)


class FromOutside(unittest.TestCase):
    def code_of(self, call: object) -> str:
        with self.assertRaises(OutsideError) as caught:
            call()  # type: ignore[operator]
        return caught.exception.code

    def test_who_does_not_answer_who_may_not_and_who_answers_nonsense(self) -> None:
        self.assertEqual(self.code_of(lambda: Web().fetch("http://127.0.0.1:1/")), "refused_address")
        self.assertEqual(self.code_of(lambda: Web(["127.0.0.1:1"]).fetch("http://127.0.0.1:1/")), "unreachable")
        self.assertEqual(self.code_of(lambda: Web().fetch("nowhere at all")), "misconfigured")
        self.assertEqual(self.code_of(lambda: feeds.parse(b"<html><p>no feed</p></html>")), "bad_answer")
