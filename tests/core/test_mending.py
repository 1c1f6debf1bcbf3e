"""What code puts right in a draft, and what it leaves to the model."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from ulmus.core.drafting import measure
from ulmus.core.drafting.measuring import broken
from ulmus.core.drafting.mending import mend
from ulmus.core.drafting.rules import Contains, Emoji, Hashtags, Length, NoEmoji, NoQuotes, OnlyThePiece, Rule, Sentences

LINK = "https://a.example/x"
RULES: list[Rule] = [OnlyThePiece(), NoQuotes(), NoEmoji(), Hashtags(most=2), Length(most=200), Contains(text=LINK)]
PROSE = "The beans are up. The frogs are out. Come and see both on Sunday at three."


class Mending(unittest.TestCase):
    def test_what_can_be_put_right_is_and_is_told(self) -> None:
        for draft, text, told in (
            (f"Here is your post:\n\n“{PROSE}”\n\n{LINK}", f"{PROSE}\n\n{LINK}", 2),
            (f"{PROSE} 🌱\n{LINK}\n#a1 #bean #pea #frog", f"{PROSE}\n{LINK}\n#a1 #bean", 2),
            (
                f"Come to the #barn, bring a #friend and a #cake.\n{LINK}",
                f"Come to the #barn, bring a #friend and a cake.\n{LINK}",
                1,
            ),
            (f"{PROSE}\n\n#bean", f"{PROSE}\n\n{LINK}\n\n#bean", 1),
            (PROSE, f"{PROSE} {LINK}", 1),
            (f"🐸 {PROSE}\n{LINK}", f"{PROSE}\n{LINK}", 1),
        ):
            with self.subTest(draft=draft):
                mended = mend(draft, RULES)
                self.assertEqual(mended.text, text)
                self.assertEqual(len(mended.told), told, mended.told)
                self.assertEqual(broken(measure(mended.text, RULES)), [])

    def test_only_so_many_emoji_go_as_are_too_many(self) -> None:
        self.assertEqual(mend("Rain 🌧️ and sun 🌞 again 🌈", [Emoji(most=1)]).text, "Rain 🌧️ and sun again")

    def test_whole_last_sentences_go_only_where_that_is_wanted(self) -> None:
        rules: list[Rule] = [Length(most=75), Contains(text=LINK), Hashtags(most=2)]
        draft = f"{PROSE}\n\n{LINK}\n#bean"
        self.assertEqual(mend(draft, rules).text, draft)
        mended = mend(draft, rules, fit=True)
        self.assertEqual(mended.text, f"The beans are up. The frogs are out.\n\n{LINK}\n#bean")
        self.assertIn("left out to fit", mended.told[0])
        # What must be said stays, though it comes last; and something stays at all.
        rules = [Sentences(most=2), Contains(text="Sunday at three")]
        self.assertEqual(mend(PROSE, rules, fit=True).text, "The beans are up. Come and see both on Sunday at three.")
        self.assertEqual(mend(PROSE, [Length(most=10)], fit=True).text, PROSE)

    def test_no_rule_that_was_kept_is_lost(self) -> None:
        # The link would make it too long: it is left to the model.
        rules: list[Rule] = [Length(most=len(PROSE) + 5), Contains(text=LINK)]
        self.assertEqual(mend(PROSE, rules).text, PROSE)

    @given(st.text(st.sampled_from("Ab .!\n#@“”\"'🌱:/") | st.characters(codec="utf-8"), max_size=150), st.booleans())
    def test_whatever_comes_it_is_never_worse(self, draft: str, fit: bool) -> None:
        rules = RULES[1:]
        before = {f.rule for f in measure(draft, rules) if not f.kept}
        after = {f.rule for f in measure(mend(draft, rules, fit=fit).text, rules) if not f.kept}
        self.assertLessEqual(after, before)


if __name__ == "__main__":
    unittest.main()
