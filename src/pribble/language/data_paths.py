"""Which values of the data an expression reads: their paths, with the turns of loops in them (``lines[2].price``)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

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
_STEP = regex(r"([^.\[\]]+)|\[([0-9]{1,9})\]")


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
            if isinstance(base, All):
                return name
            inner = path_of(base, turns, steps)
            return None if inner is None else f"{inner}.{name}"
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


def path_steps(path: str) -> list[str | int]:
    """Returns the steps of a path: names, and positions in lists."""
    return [found[1] if found[1] is not None else int(found[2]) for found in _STEP.finditer(path)]
