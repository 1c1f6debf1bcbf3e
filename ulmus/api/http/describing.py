"""Parts of the API, and the application they stand in, whose OpenAPI document (3.1) is worked out when somebody asks for it.

Working it out for all operations takes as long as all the rest of a start.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import partial
from typing import Any

from flask_openapi3 import APIBlueprint, OpenAPI
from flask_openapi3.utils import parse_parameters

_DESCRIBING = threading.Lock()
"""Two who ask at once would each find half of it: parts are described once in a process."""


class Part(APIBlueprint):
    """One module's operations."""

    def __init__(self, *arguments: Any, **options: Any) -> None:
        super().__init__(*arguments, **options)
        self._undescribed: list[Callable[[], Any]] = []

    def _collect_openapi_info(self, rule: str, func: Callable[..., Any], **options: Any) -> Any:
        """What a call's arguments are read as; what is told of it is left for later."""
        self._undescribed.append(partial(super()._collect_openapi_info, rule, func, **options))
        return parse_parameters(func, doc_ui=False)

    def describe(self) -> None:
        """Fill in tags, paths and schemas."""
        waiting, self._undescribed = self._undescribed, []
        for one in waiting:
            one()


class Application(OpenAPI):
    """The application; `api_doc` is its document."""

    def generate_spec_json(self) -> None:
        """Have every part describe itself, and put it together."""
        with _DESCRIBING:
            self._gather()
            super().generate_spec_json()  # type: ignore[no-untyped-call]

    def _gather(self) -> None:
        for part in self.blueprints.values():
            if isinstance(part, Part):
                part.describe()
                self.tags += [tag for tag in part.tags if tag.name not in self.tag_names]
                self.tag_names += [tag.name for tag in part.tags if tag.name not in self.tag_names]
                self.paths.update(part.paths)
                self.components_schemas.update(part.components_schemas)
