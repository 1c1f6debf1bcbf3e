"""No code outside a kind's module knows its name or its settings' keys: looked for in every file of the package and of the front end.

What is looked for, in Python by its syntax tree: a kind's name where a ``kind`` is compared or looked up; a kind's name that
can be nothing else (it has an underscore) anywhere; a setting's key where ``settings`` are read by it. In TypeScript the same,
by pattern. Exempt are the modules of the kinds, the demonstration's data, tests, and the practice town, which imports nothing of
this and stands for a model that reads the names from its prompt.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

from ulmus.steps import connection_kinds, kinds
from ulmus.steps.api import Granted

ROOT = Path(__file__).parents[1]
EXEMPT = ("ulmus/steps/", "ulmus/demo/", "ulmus/store/migrations/")
#: The names of what a screen shows beside lines.
NO_KINDS = frozenset({"lane", "take"})


def main() -> int:
    """Print what is found; the exit status is 1 where there is any."""
    found = [*python(), *typescript()]
    for line in found:
        print(line)
    print(f"{len(found)} places know a single kind." if found else "No place knows a single kind.")
    return 1 if found else 0


def names() -> frozenset[str]:
    """The names of all kinds of start and step."""
    return frozenset(kinds())


def keys() -> frozenset[str]:
    """The keys of all kinds' settings; what the contract itself says of many kinds is no single kind's."""
    every = [*kinds().values(), *connection_kinds().values()]
    return frozenset(key for kind in every for key in kind.settings.model_fields) - Granted.model_fields.keys()


def python() -> Iterator[str]:
    """The places in the package."""
    for path in sorted((ROOT / "ulmus").rglob("*.py")):
        place = path.relative_to(ROOT).as_posix()
        if not place.startswith(EXEMPT):
            yield from in_python(place, path.read_text("utf-8"))


def in_python(place: str, source: str) -> Iterator[str]:
    """The places in one module."""
    single, setting = names(), keys()
    tree = ast.parse(source)
    documentation = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    for exported in (node.value for node in tree.body if isinstance(node, ast.Assign) and _is(node.targets[0], "__all__")):
        documentation |= {id(one) for one in ast.walk(exported)}
    for node in ast.walk(tree):
        match node:
            case ast.Constant(value=str(word)) if id(node) not in documentation and word in single and "_" in word:
                yield f"{place}:{node.lineno}: the kind “{word}” by its name"
            case ast.Compare(left=left, comparators=others) if any(_is(one, "kind") for one in (left, *others)):
                for word in _words([left, *others]):
                    if word in single:
                        yield f"{place}:{node.lineno}: the kind “{word}” is compared with"
            case ast.Subscript(value=of, slice=ast.Constant(value=str(word))) if word in single and _is_call_of(of, "kinds"):
                yield f"{place}:{node.lineno}: the kind “{word}” is looked up"
            case ast.Subscript(value=of, slice=ast.Constant(value=str(key))) if key in setting and _is(of, "settings"):
                yield f"{place}:{node.lineno}: the setting “{key}” by its key"
            case ast.Call(func=ast.Attribute(value=of, attr="get"), args=[ast.Constant(value=str(key)), *_]):
                if key in setting and _is(of, "settings"):
                    yield f"{place}:{node.lineno}: the setting “{key}” by its key"
            case ast.Call(func=ast.Name(id="getattr"), args=[of, ast.Constant(value=str(key)), *_]):
                if key in setting and _is(of, "settings"):
                    yield f"{place}:{node.lineno}: the setting “{key}” by its key"


def typescript() -> Iterator[str]:
    """The places in the front end."""
    for path in sorted((ROOT / "frontend" / "src").rglob("*.ts*")):
        place = path.relative_to(ROOT).as_posix()
        if path.name != "schema.ts" and ".test." not in path.name:
            yield from in_typescript(place, path.read_text("utf-8"))


def in_typescript(place: str, source: str) -> Iterator[str]:
    """The places in one file of the front end."""
    single, setting = names() - NO_KINDS, keys()
    for number, line in enumerate(source.splitlines(), 1):
        for word in re.findall(r"""["'`]([a-z]+_[a-z_]+)["'`]""", line):
            if word in single:
                yield f"{place}:{number}: the kind “{word}” by its name"
        for word in re.findall(r"""\bkind(?:\?)?\s*[!=]==?\s*["']([a-z_]+)["']""", line):
            if word in single:
                yield f"{place}:{number}: the kind “{word}” is compared with"
        for key in re.findall(r"""\bsettings(?:\?)?(?:\.|\[["'])([a-z_]+)""", line):
            if key in setting:
                yield f"{place}:{number}: the setting “{key}” by its key"


def _is(node: ast.AST, name: str) -> bool:
    return (isinstance(node, ast.Attribute) and node.attr == name) or (isinstance(node, ast.Name) and node.id == name)


def _is_call_of(node: ast.AST, name: str) -> bool:
    return isinstance(node, ast.Call) and _is(node.func, name)


def _words(nodes: list[ast.expr]) -> Iterator[str]:
    for node in nodes:
        for one in ast.walk(node):
            if isinstance(one, ast.Constant) and isinstance(one.value, str):
                yield one.value


if __name__ == "__main__":
    sys.exit(main())
