"""Having a model turn a description into a page, or what is said of a page into changes of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from ..core.cost import Usage, price
from ..core.drafting.answers import AnswerError, read_json
from ..core.workflow import Workflow, World, changing, sketch
from ..protocols import chat
from ..protocols.errors import BadAnswer
from ..steps import kinds
from ..steps.shared.models import server_of
from .services import Services, world

TRIES = 2


def sketch_page(services: Services, description: str, blank: Workflow, model: str, who: str) -> tuple[sketch.Sketch, Usage]:
    """The page a model makes of `description`, on the model connection called `model` (empty for the first there is).

    Raises `OutsideError` where there is no model, or it gives no page after a second try.
    """
    around = _around(services)
    messages = sketch.messages(description, kinds(), around)

    def page(answer: Mapping[str, Any]) -> sketch.Sketch:
        return sketch.page_of(answer, blank, kinds(), around, who, description)

    return _asked(services, model, messages, sketch.answer_schema(kinds()), page)


def change_page(services: Services, said: str, page: Workflow, model: str, who: str, at: str = "") -> tuple[sketch.Sketch, Usage]:
    """The page as it would be by what is `said` of it; with `at`, only with lines added behind that one. Raises as `sketch_page`."""
    around = _around(services)
    messages = changing.messages(said, page, kinds(), around)

    def changed(answer: Mapping[str, Any]) -> sketch.Sketch:
        return changing.changed(answer, page, kinds(), around, who, said, at)

    return _asked(services, model, messages, changing.answer_schema(kinds()), changed)


def _around(services: Services) -> World:
    with services.store.read() as session:
        return world(session)


def _asked(
    services: Services,
    model: str,
    messages: list[dict[str, str]],
    schema: dict[str, Any],
    read: Callable[[Mapping[str, Any]], sketch.Sketch],
) -> tuple[sketch.Sketch, Usage]:
    """What a model's answer stands for; one that is no JSON is asked for once more."""
    connection = services.connect(model or services.first("model"), "model")
    s = connection.settings
    server = server_of(connection)
    usage = Usage()
    for left in reversed(range(TRIES)):
        answer = chat.complete(services.web, server, messages, temperature=0, max_tokens=3000, schema=schema)
        spent = price(answer.tokens_in, answer.tokens_out, s.prices)
        usage += Usage(calls=1, tokens_in=answer.tokens_in, tokens_out=answer.tokens_out, cost=spent, seconds=answer.seconds)
        try:
            found = read_json(answer.text)
            if not isinstance(found, dict):
                raise AnswerError("it is no object")
            return read(found), usage
        except AnswerError as error:
            if not left:
                raise BadAnswer(f"The model gave nothing usable: {error}. Say it in other words, or do it by hand.") from None
            messages = [
                *messages,
                {"role": "assistant", "content": answer.text},
                {"role": "user", "content": f"This cannot be used: {error}. Answer with the JSON alone."},
            ]
    raise AssertionError
