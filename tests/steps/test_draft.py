"""Drafts with an answer shape, from a real server over a real socket."""

from __future__ import annotations

from dataclasses import replace
from typing import Any
from unittest import mock

from tests.steps.trying import Trying
from ulmus.core.drafting import Known
from ulmus.core.drafting.rules import PLAIN_ELEMENTS
from ulmus.core.evidence import evidence
from ulmus.core.workflow import Line, Workflow, World, check
from ulmus.protocols import chat, markup
from ulmus.protocols.errors import OutsideError
from ulmus.protocols.languages import language_of
from ulmus.steps import kinds
from ulmus.steps.api import Connection, Context, Result, StepFailed

MATERIAL = (
    "<material>\nThe Marrowbank Seed Co-operative keeps and sells seed of old vegetables to gardeners. Its fourteen members grow "
    "on terraces above Ostrey. Every gardener who buys a packet in spring is asked to bring seed back in autumn.\n</material>"
)
FIELDS = [{"name": "company"}, {"name": "staff", "type": "number"}, {"name": "crops", "type": "list"}]


class Shapes(Trying):
    def test_fields_are_values_of_their_own(self) -> None:
        result = self.carry_out("draft", prompt=f"Who is this? {MATERIAL}", answer="fields", fields=FIELDS)
        self.assertEqual(set(result.output), {"company", "staff", "crops", "text", "characters", "words"})
        self.assertIsInstance(result.output["staff"], int)
        self.assertIn("company: ", result.output["text"])

    def test_an_answer_that_does_not_fit_is_asked_for_again(self) -> None:
        self.town.state.habits["format"] = 100
        seen = set()
        for n in range(8):
            settings = {"prompt": f"Who is this, {n}? {MATERIAL}", "answer": "fields", "fields": FIELDS, "revisions": 5}
            result = self.carry_out("draft", **settings)
            self.assertIn("crops", result.output)
            seen.add(len(result.detail["rounds"]))
        self.assertGreater(max(seen), 1, "no answer was ever left incomplete")

    def test_one_that_never_fits_fails_with_the_reason(self) -> None:
        self.town.state.habits["format"] = 100
        reasons = []
        for n in range(8):
            try:
                self.carry_out("draft", prompt=f"Who, {n}? {MATERIAL}", answer="fields", fields=FIELDS, revisions=0)
            except StepFailed as error:
                reasons.append(error.message)
        self.assertTrue(reasons)
        self.assertIn("“crops” is missing", reasons[0])

    def test_a_verdict_with_its_reason(self) -> None:
        choices = "high: they sell seed to gardeners\nlow: they build tractors and lorries"
        result = self.carry_out("draft", prompt=f"Is it worth writing to them? {MATERIAL}", answer="choice", choices=choices)
        self.assertEqual((result.output["choice"], result.output["text"]), ("high", "high"))
        self.assertTrue(result.output["reason"])

    def test_a_server_that_knows_no_schemas_is_told_in_words(self) -> None:
        self.fault("model", "bare")
        result = self.carry_out("draft", prompt=f"Points of this. {MATERIAL} Answer", answer="choice", choices="gardeners\nlorries")
        self.assertEqual(result.output["choice"], "gardeners")


class Models(Trying):
    context: int | None = None

    def settings(self, kind: str) -> dict[str, Any]:
        found = super().settings(kind)
        return {**found, "context": self.context} if kind == "model" else found

    def connect(self, key: str, kind: str) -> Connection:
        found = super().connect(key, kind)
        if key != "second":
            return found
        # The same town by another way in, which its faults do not reach.
        return replace(found, settings=found.settings.model_copy(update={"base_url": f"{self.town.url}/timed/v1"}))

    def test_a_second_model_is_asked_when_the_first_fails(self) -> None:
        self.fault("model", "down")
        result = self.carry_out("draft", prompt=f"One line. {MATERIAL}", model="model", fallback="second")
        self.assertIn("bean", result.output["text"])
        self.assertIn("could not be asked", result.detail["told"][0])
        self.assertEqual(result.usage.calls, 1)
        with self.assertRaises(StepFailed):
            self.carry_out("draft", prompt=f"One line. {MATERIAL}", model="model")

    def test_material_that_is_too_long_is_shortened_and_said_so(self) -> None:
        self.context = 2000
        values = {"page": {"text": "Every packet lent in spring comes back twice in autumn. " * 400}}
        found = kinds()["draft"]
        assert found.perform is not None
        settings = found.settings.model_validate({"prompt": "Sum this up.\n<<page.text>>", "max_tokens": 500})
        result = found.perform(settings, Context(self.web, self.connect, values, outside=frozenset({"page"})))
        self.assertIn("page.text was shortened from 22,400", result.detail["told"][0])
        sent = "".join(m["content"] for m in result.detail["messages"])
        self.assertLess(len(sent), 1500 * 4 + 10)
        self.assertIn("autumn. …", sent)
        self.context = None
        self.assertNotIn(
            "told", found.perform(settings, Context(self.web, self.connect, values, outside=frozenset({"page"}))).detail
        )


class Pages(Trying):
    def test_the_page_knows_what_a_shape_gives(self) -> None:
        def said(**settings: object) -> list[str]:
            draft = Line(id="lead", kind="draft", settings={"model": "m", "prompt": "p", **settings})
            use = Line(id="use", kind="set_values", settings={"values": {"a": "<<lead.company>>"}})
            page = Workflow(name="P", start=Line(id="start", kind="by_hand"), steps=[draft, use])
            return [p.message for p in check(page, kinds(), World()) if "m" not in p.place]

        self.assertFalse([m for m in said(answer="fields", fields=FIELDS) if "company" in m])
        self.assertTrue([m for m in said(answer="text") if "company" in m])
        self.assertTrue([m for m in said(answer="fields") if "made of" in m])
        self.assertTrue([m for m in said(answer="choice", choices="one") if "at least two" in m])


class AwkwardAnswers(Trying):
    """Each awkward answer is sent back with the reason, and in the end fails in words with what it cost."""

    def failure(self, mode: str, **settings: Any) -> StepFailed:
        self.fault("model", mode)
        with self.assertRaises(StepFailed) as caught:
            self.carry_out("draft", prompt=f"Write about this. {MATERIAL}", revisions=1, **settings)
        return caught.exception

    def test_refusals_circles_and_cuts_fail_with_words_and_their_cost(self) -> None:
        for mode, words in (("refusal", "the model refused"), ("loop", "it repeats itself"), ("cut", "cut off at its greatest")):
            with self.subTest(mode=mode):
                error = self.failure(mode)
                self.assertIn(words, error.message)
                self.assertEqual(error.usage.calls, 2)
                self.assertGreater(error.usage.tokens_out, 0)
                self.assertEqual(len(error.detail["rounds"]), 2)

    def test_a_refusal_that_passes_is_mended_by_asking_again(self) -> None:
        self.fault("model", "refusal", left=1)
        result = self.carry_out("draft", prompt=f"Write about this. {MATERIAL}", revisions=2)
        self.assertEqual(len(result.detail["rounds"]), 2)
        self.assertNotIn("sorry", result.output["text"])

    def test_a_server_without_a_standing_part_gets_it_with_the_prompt(self) -> None:
        self.fault("model", "nosystem")
        result = self.carry_out("draft", standing="You write for Marrowbank.", prompt=f"Write about this. {MATERIAL}")
        self.assertGreater(result.output["words"], 10)

    def test_a_server_that_takes_little_gets_less_material(self) -> None:
        self.fault("model", "short")
        long = " ".join(f"Packet {n} holds beans of the year {n} from the terraces above Ostrey." for n in range(400))
        result = self.carry_out("draft", {"page": {"text": long}}, prompt="Write about <<page.text>>", outside=("page",))
        self.assertTrue(any("was shortened from" in words for words in result.detail["told"]), result.detail.get("told"))
        self.assertGreater(result.output["words"], 10)

    def test_instructions_alone_that_are_too_long_fail_in_words(self) -> None:
        self.fault("model", "short")
        with self.assertRaises(StepFailed) as caught:
            self.carry_out("draft", prompt="Write a good piece of work, please. " * 300)
        self.assertIn("longer than the model takes", caught.exception.message)


class Habits(Trying):
    """What the practice model can be told to break is found by measuring, and mended by sending it back."""

    def test_an_invented_figure_is_found_by_the_evidence(self) -> None:
        self.town.state.habits["figure"] = 100
        text = self.carry_out("draft", prompt=f"Write about this. {MATERIAL}").output["text"]
        self.assertIn("It has grown by", text)
        worst = [one for one in evidence(text, {"page": MATERIAL}).sentences if one.missing]
        self.assertEqual([claim.kind for one in worst for claim in one.missing], ["number"])

    def test_too_many_hashtags_are_taken_out_and_told(self) -> None:
        self.town.state.habits["counts"] = 100
        rules = [{"rule": "hashtags", "least": 1, "most": 2}]
        for n in range(6):
            result = self.carry_out("draft", prompt=f"Write about this, {n}. {MATERIAL}", rules=rules, revisions=5)
            (told,) = result.detail["rounds"]
            self.assertTrue(told["findings"][0]["kept"])
            self.assertIn("taken out", told["mended"][0])
            self.assertEqual(result.detail["told"], told["mended"])

    def test_a_model_with_all_its_habits_keeps_the_rules_at_one_call_where_sentences_may_be_left_out(self) -> None:
        self.town.state.habits.update(dict.fromkeys(("length", "counts", "quotes", "emoji", "preamble"), 70))
        link = "https://a.example/seed"
        rules = [
            {"rule": "length", "most": 300},
            {"rule": "contains", "text": link},
            {"rule": "no_quotes"},
            {"rule": "only_the_piece"},
            {"rule": "no_emoji"},
            {"rule": "hashtags", "least": 1, "most": 2},
        ]
        ask = f"Write a short post about this, at most 300 characters, with the link {link} and 1 to 2 hashtags. {MATERIAL}"
        results = [self.carry_out("draft", prompt=f"{n}. {ask}", rules=rules, revisions=2, fit=True) for n in range(15)]
        self.assertLess(sum(result.usage.calls for result in results), 1.5 * len(results))
        self.assertTrue(all(finding["kept"] for result in results for finding in result.detail["rounds"][-1]["findings"]))

    def answering(self, *texts: str) -> Any:
        """The model answers these, one after another, and the last one from then on."""
        answers = [chat.Answer(text, 10, 10, True, 0.1) for text in texts]
        return mock.patch.object(chat, "complete", side_effect=[*answers, *[answers[-1]] * 9])

    def test_of_all_rounds_the_best_counts(self) -> None:
        rules = [{"rule": "length", "most": 20}, {"rule": "sentences", "most": 3}]
        worse = "Beans! Peas! Leeks! Kale! All of it is up, in every bed we have, so come by and see it all."
        with self.answering("Beans are up. Come by now.", worse), self.assertRaises(StepFailed) as caught:
            self.carry_out("draft", prompt="Write.", rules=rules, revisions=1)
        self.assertEqual(caught.exception.detail["best"], 0)
        self.assertIn("26 of 20 characters", str(caught.exception))

    def test_what_comes_no_nearer_is_not_paid_for_again(self) -> None:
        with self.answering("Beans are up."), self.assertRaises(StepFailed) as caught:
            self.carry_out("draft", prompt="Write.", rules=[{"rule": "contains", "text": "peas"}], revisions=5)
        self.assertEqual(caught.exception.usage.calls, 2)
        self.assertIn("same rules in the same way", " ".join(caught.exception.detail["told"]))

    def test_thoughts_before_the_answer_are_none_of_it(self) -> None:
        thought = '<think>They want fields.</think>\n{"company": "Marrowbank", "staff": "fourteen", "crops": ["beans"]}'
        with self.answering(thought):
            output = self.carry_out("draft", prompt="Who?", answer="fields", fields=FIELDS).output
        self.assertEqual((output["company"], output["staff"]), ("Marrowbank", 14))


class OfTheBrand(Trying):
    BRAND = {"brand": {"name": "Marrowbank", "never": "amazing\n- game changer\n\n", "always": "seed\nsow"}}

    def test_what_a_brand_never_and_always_says_is_a_rule_of_every_draft(self) -> None:
        said = ["An AMAZING seed.", "A game-changer of a pea.", "The peas are in.", "The seed is in."]
        answers = [chat.Answer(text, 10, 10, True, 0.1) for text in said]
        with mock.patch.object(chat, "complete", side_effect=answers) as asked:
            result = self.carry_out("draft", self.BRAND, prompt="Write.", revisions=5)
        self.assertEqual(result.output["text"], said[-1])
        self.assertEqual(asked.call_count, 4)
        standing = asked.call_args_list[0].args[2][0]["content"]
        self.assertIn("Do not use these words: amazing, game changer.", standing)
        self.assertIn("Say at least one of these: seed, sow.", standing)

    def test_values_need_not_say_what_pieces_say(self) -> None:
        answer = chat.Answer('{"company": "Peas & Co", "staff": 3, "crops": ["peas"]}', 10, 10, True, 0.1)
        with mock.patch.object(chat, "complete", return_value=answer):
            result = self.carry_out("draft", self.BRAND, prompt="Who?", answer="fields", fields=FIELDS)
        self.assertEqual(result.output["company"], "Peas & Co")


class Contradictions(Trying):
    def test_rules_that_cannot_all_be_kept_are_said_before_any_call(self) -> None:
        before = self.town.state.counts.get("model", 0)
        rules = [{"rule": "length", "most": 50}, {"rule": "length", "least": 200}]
        with self.assertRaises(OutsideError) as caught:
            self.carry_out("draft", prompt=f"Write about this. {MATERIAL}", rules=rules)
        self.assertIn("at least 200 and at most 50", caught.exception.message)
        self.assertEqual(self.town.state.counts.get("model", 0), before)


class Texts(Trying):
    def test_markdown_comes_with_its_html(self) -> None:
        result = self.carry_out("draft", prompt=f"Write about this. {MATERIAL}", answer="markdown")
        self.assertTrue(result.output["html"].startswith("<p>"), result.output["html"])
        self.assertNotIn("<p>", result.output["text"])

    def test_html_is_cleaned_of_what_could_act(self) -> None:
        page = '<p onclick="x()">Good <b>seed</b></p><script>alert(1)</script><a href="javascript:x()">here</a><div>a</div>'
        self.assertEqual(markup.cleaned(page, PLAIN_ELEMENTS), "<p>Good <b>seed</b></p><a>here</a>a")
        self.assertEqual(markup.from_markdown("# A <b>\n\n*b*", PLAIN_ELEMENTS), "<h1>A &lt;b&gt;</h1>\n<p><em>b</em></p>")

    def test_a_link_that_leads_nowhere_breaks_its_rule(self) -> None:
        rules = [{"rule": "contains", "text": "http://a.example/gone"}, {"rule": "links_answer", "strength": "should"}]
        known = Known(dead=lambda link: "status 404")
        result = self.carry_out("draft", prompt=f"Write about this. {MATERIAL}", rules=rules, known=known)
        self.assertFalse(result.detail["rounds"][-1]["findings"][1]["kept"])


class Parts(Trying):
    """Rules about fields are measured, mended and sent back each by itself."""

    FIELDS = [{"name": "subject", "about": "the subject"}, {"name": "body", "about": "the mail"}]

    def test_a_field_is_mended_and_one_that_cannot_be_goes_back_with_its_name(self) -> None:
        answers = [
            '{"subject": "“Beans are back”", "body": "We grew them. They are here now."}',
            '{"subject": "Beans are back", "body": "They are here."}',
        ]
        rules = [{"rule": "no_quotes", "of": "subject"}, {"rule": "sentences", "most": 1, "of": "body"}]
        given = [chat.Answer(text, 10, 10, True, 0.1) for text in answers]
        with mock.patch.object(chat, "complete", side_effect=given) as asked:
            result = self.carry_out("draft", prompt="Write.", answer="fields", fields=self.FIELDS, rules=rules)
        self.assertEqual((result.output["subject"], result.output["body"]), ("Beans are back", "They are here."))
        first = result.detail["rounds"][0]
        self.assertEqual(first["mended"], ["subject: the quotation marks round it were taken off"])
        self.assertIn("In body: It has 2 sentences", asked.call_args.args[2][-1]["content"])

    def test_a_number_and_a_language_of_the_item(self) -> None:
        rules = [
            {"rule": "words", "slots": {"most": "<<form.words>>"}},
            {"rule": "language", "code": "<<form.language>>"},
        ]
        answer = chat.Answer("Die Bohnen sind wieder da, und wir freuen uns über jeden, der sie sät.", 10, 10, True, 0.1)
        values = {"form": {"words": "at most 20", "language": "Deutsch"}}
        with mock.patch.object(chat, "complete", side_effect=[answer]):
            known = Known(language_of=language_of)
            result = self.carry_out("draft", values=values, known=known, prompt="Write.", rules=rules)
        self.assertEqual([f["says"] for f in result.detail["rounds"][0]["findings"]], ["14 words", "in German"])
        with self.assertRaisesRegex(Exception, "should come from a value"):
            self.carry_out("draft", values={"form": {"words": "few", "language": "de"}}, prompt="Write.", rules=rules)


class SecondOpinion(Trying):
    """Another model is asked once, about what code finds no passage for."""

    SOURCE = "The new gates are of green oak. Each weighs 2.8 tonnes. Boats may pass again from Friday."
    TEXT = "The doors of the lock were cut from living trees of this valley. Each weighs 2.8 tonnes."

    def drafted(self, *answers: chat.Answer | Exception) -> tuple[Result, int]:
        given = [chat.Answer(self.TEXT, 10, 10, True, 0.1), *answers]
        prompt = "Write. <<page.text>>"
        with mock.patch.object(chat, "complete", side_effect=given) as asked:
            values = {"page": {"text": self.SOURCE}}
            result = self.carry_out("draft", values=values, outside=["page"], prompt=prompt, opinion="second", model="model")
        return result, asked.call_count

    def test_it_is_asked_once_and_what_it_says_stands_with_the_draft(self) -> None:
        said = '{"items": [{"number": 1, "verdict": "supported", "passage": "The new gates are of green oak."}]}'
        result, calls = self.drafted(chat.Answer(said, 10, 10, True, 0.1))
        (opinion,) = result.detail["opinions"]
        self.assertEqual((opinion["verdict"], opinion["source"], opinion["text"]), ("supported", "page.text", self.TEXT[:64]))
        self.assertEqual((calls, result.usage.calls), (2, 2))

    def test_a_model_that_cannot_be_asked_costs_no_draft(self) -> None:
        result, _ = self.drafted(OutsideError("It is down."))
        self.assertEqual(result.output["text"], self.TEXT)
        self.assertIn("The second opinion could not be had: It is down.", result.detail["told"])

    def test_where_everything_is_found_nobody_is_asked(self) -> None:
        self.TEXT = "The new gates are of green oak. Each weighs 2.8 tonnes."
        result, calls = self.drafted()
        self.assertEqual((calls, "opinions" in result.detail), (1, False))
