"""What the data decide of a mark: whether it comes to anything, and which elements it brings."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.language.expressions import Choice, Expression, Fallback, Formatted, Local, Maybe, Member, children

# The elements that the formatters of markup make; "*" stands for any.
_BROUGHT = {
    "html": frozenset({"*"}),
    "table": frozenset("table thead tbody tr th td".split()),
    "breaks": frozenset({"br"}),
}


def may_be_nothing(expression: Expression | None) -> bool:
    """Whether a value may come to nothing at all."""
    match expression:
        case Maybe():
            return True
        case Choice(value=value, otherwise=otherwise):
            return otherwise is None or may_be_nothing(value) or may_be_nothing(otherwise)
        case Fallback(otherwise=otherwise):
            return may_be_nothing(otherwise)
        case Formatted(value=value):
            return may_be_nothing(value)
        case Member(base=base):
            return may_be_nothing(base)
        case Local(binding=binding):
            return binding.kind == "let" and may_be_nothing(binding.value)
    return False


def brought(expression: Expression | None) -> frozenset[str]:
    """The elements that a value may bring."""
    return frozenset().union(*_brought(expression)) if expression is not None else frozenset()


def _brought(expression: Expression) -> Iterator[frozenset[str]]:
    if isinstance(expression, Formatted):
        yield _BROUGHT.get(expression.formatter, frozenset())
    if isinstance(expression, Local) and expression.binding.kind == "let" and expression.binding.value is not None:
        yield from _brought(expression.binding.value)
    for child in children(expression):
        yield from _brought(child)
