"""Having a model turn a description into a page."""

from __future__ import annotations

from ..core.cost import Usage, price
from ..core.drafting.answers import AnswerError, read_json
from ..core.workflow import Workflow, sketch
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
    with services.store.read() as session:
        around = world(session)
    connection = services.connect(model or services.first("model"), "model")
    s = connection.settings
    server = server_of(connection)
    messages = sketch.messages(description, kinds(), around)
    usage = Usage()
    for left in reversed(range(TRIES)):
        answer = chat.complete(services.web, server, messages, temperature=0, max_tokens=3000, schema=sketch.answer_schema(kinds()))
        spent = price(answer.tokens_in, answer.tokens_out, s.prices)
        usage += Usage(calls=1, tokens_in=answer.tokens_in, tokens_out=answer.tokens_out, cost=spent, seconds=answer.seconds)
        try:
            found = read_json(answer.text)
            if not isinstance(found, dict):
                raise AnswerError("it is no object")
            return sketch.page_of(found, blank, kinds(), around, who, description), usage
        except AnswerError as error:
            if not left:
                raise BadAnswer(f"The model gave no page: {error}. Say it in other words, or begin with a blank page.") from None
            messages = [
                *messages,
                {"role": "assistant", "content": answer.text},
                {"role": "user", "content": f"This cannot be used: {error}. Answer with the JSON alone."},
            ]
    raise AssertionError
