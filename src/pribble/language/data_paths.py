"""Paths of values in the data: written (``lines[].price``, ``lines[2]["net.price"]``), read, and which of them an
expression reads."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping

from pribble.language.expressions import (
    All,
    Binding,
    Constant,
    Expression,
    Local,
    Maybe,
    Member,
    Name,
    Subscript,
    children,
)
from pribble.regexes import regex

# A path of more steps than this is none of a person's.
_LONGEST_PATH = 100
# A name, as it is or in brackets as a string of JSON; a position in a list; any item of one.
_PLAIN = r'[^.\[\]"]+'
_QUOTED = r'"(?:[^"\\]|\\(?:["\\/bfnrt]|u[0-9A-Fa-f]{4}))*+"'
_STEP = regex(rf"(?P<plain>{_PLAIN})|\[(?:(?P<quoted>{_QUOTED})|(?P<position>[0-9]{{1,9}})|(?P<any>))\]")
_PLAIN_NAME = regex(_PLAIN)

# A name, a position in a list, or None for any item of one.
Step = str | int | None


def path_steps(path: str) -> list[Step]:
    """Returns the steps of a path."""
    return [_step(found) for found in _STEP.finditer(path)]


def _step(found: re.Match[str]) -> Step:
    match found.lastgroup:
        case "plain":
            return found["plain"]
        case "quoted":
            return str(json.loads(found["quoted"], strict=False))
        case "position":
            return int(found["position"])
    return None


def write_path(steps: Iterable[Step]) -> str:
    """Returns the path that has these steps."""
    path = ""
    for step in steps:
        if isinstance(step, str):
            path = member_path(path, step)
        else:
            path += "[]" if step is None else f"[{step}]"
    return path


def member_path(path: str, name: str) -> str:
    """Returns the path of what has a name in the record at a path, which is "" for the data."""
    if not _PLAIN_NAME.fullmatch(name):
        return f"{path}[{json.dumps(name, ensure_ascii=False)}]"
    return f"{path}.{name}" if path else name


def outer_paths(path: str) -> list[str]:
    """Returns the paths of all that a value is in, from the outermost to the innermost."""
    return [path[: found.start()].removesuffix(".") for found in _STEP.finditer(path) if found.start()]


def at_first_items(path: str) -> str:
    """Returns the path in which any item is the first."""
    return write_path([0 if step is None else step for step in path_steps(path)])


def path_of(node: Expression, turns: Mapping[Binding, int] | None = None, steps: int = 0) -> str | None:
    """Returns the path of fields that an expression names, or None where it names none.

    Positions in lists are left open (``lines[].price``), or with `turns`, those of the loops around it, written out.
    """
    if steps > _LONGEST_PATH:
        return None
    steps += 1
    match node:
        case Name(name=name):
            return name
        case Member(base=base, name=name) | Subscript(base=base, key=Constant(value=str(name))):
            inner = "" if isinstance(base, All) else path_of(base, turns, steps)
            return None if inner is None else member_path(inner, name)
        case Subscript(base=base, key=key):
            return _item(path_of(base, turns, steps), turns, key.value if isinstance(key, Constant) else None)
        case Maybe(step=step):
            return path_of(step, turns, steps)
        case Local(binding=binding) if binding.value is not None:
            inner = path_of(binding.value, turns, steps)
            if binding.kind == "item":
                return _item(inner, turns, turns.get(binding) if turns is not None else None)
            return inner if binding.kind == "let" else None
    return None


def _item(path: str | None, turns: Mapping[Binding, int] | None, position: object) -> str | None:
    if path is None or turns is None:
        return None if path is None else f"{path}[]"
    return f"{path}[{position}]" if isinstance(position, int) else None


def data_paths(node: Expression, turns: Mapping[Binding, int], depth: int = 0) -> Iterator[str]:
    """Yields the paths of all values that an expression reads."""
    path = path_of(node, turns)
    if path is not None:
        yield path
        return
    if depth < _LONGEST_PATH:
        inner = (node.binding.value,) if isinstance(node, Local) and node.binding.kind == "let" else children(node)
        for each in inner:
            if each is not None:
                yield from data_paths(each, turns, depth + 1)
