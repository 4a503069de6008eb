"""What the data decide about a mark: whether it may be nothing, and which elements it brings."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TypeVar

from pribble.language.expressions import (
    Binding,
    Choice,
    Expression,
    Fallback,
    Formatted,
    Local,
    Maybe,
    Member,
    children,
)

_Fact = TypeVar("_Fact")


def may_be_nothing(expression: Expression | None) -> bool:
    """Returns whether a value may be nothing at all."""
    return expression is not None and _of_all(expression, "may be nothing", _may_lack)


def brought_elements(expression: Expression | None) -> frozenset[str]:
    """Returns the elements that a value may bring."""
    return frozenset() if expression is None else _of_all(expression, "brings", _bringing)


def _of_all(expression: Expression, fact: str, found: Callable[[Expression], _Fact]) -> _Fact:
    """Returns a fact about an expression.  The facts about each ``let`` that it is made of are found first, and once
    for each, however often and deep they use one another."""
    waiting = list(_lets(expression))
    while waiting:
        binding = waiting[-1]
        assert binding.value is not None
        unknown = [other for other in _lets(binding.value) if fact not in other.facts]
        if unknown and fact not in binding.facts:
            waiting += unknown
            continue
        waiting.pop()
        if fact not in binding.facts:
            binding.facts[fact] = found(binding.value)
    return found(expression)


def _lets(expression: Expression) -> Iterator[Binding]:
    """Yields the ``let``s whose names stand in an expression."""
    for node in _nodes(expression):
        if isinstance(node, Local) and node.binding.kind == "let" and node.binding.value is not None:
            yield node.binding


def _nodes(expression: Expression) -> Iterator[Expression]:
    """Yields an expression and all within it."""
    waiting = [expression]
    while waiting:
        node = waiting.pop()
        yield node
        waiting += children(node)


def _may_lack(expression: Expression | None) -> bool:
    match expression:
        case Maybe():
            return True
        case Choice(value=value, otherwise=otherwise):
            return otherwise is None or _may_lack(value) or _may_lack(otherwise)
        case Fallback(otherwise=otherwise):
            return _may_lack(otherwise)
        case Formatted(value=value):
            return _may_lack(value)
        case Member(base=base):
            return _may_lack(base)
        case Local(binding=binding):
            return bool(binding.facts.get("may be nothing"))
    return False


def _bringing(expression: Expression) -> frozenset[str]:
    made: frozenset[str] = frozenset()
    for node in _nodes(expression):
        if isinstance(node, Formatted) and node.formatter is not None:
            made |= node.formatter.brings
        elif isinstance(node, Local):
            brings = node.binding.facts.get("brings", frozenset())
            assert isinstance(brings, frozenset)
            made |= brings
    return made
