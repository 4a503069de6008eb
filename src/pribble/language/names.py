"""Names: what a first name stands for where it is written, and where a formatter finds its locale."""

from __future__ import annotations

from dataclasses import dataclass, field

from pribble.errors import Source, TemplateError, did_you_mean
from pribble.language.expressions import (
    All,
    Binding,
    Constant,
    Expression,
    Formatted,
    Local,
    Member,
    Name,
    PerItem,
    rebuilt,
)
from pribble.language.parsing import read_expression
from pribble.language.tokens import Reader

# The formatters whose first argument is an expression over an item's own fields.
PER_ITEM = frozenset({"sum", "sort", "keep", "by"})


@dataclass(slots=True)
class Scope:
    """The names that stand for something here.

    A name in none of the scopes is a field of the data, or, where `takes` says what a part takes, an error.
    `locale` and `timezone` are those of the file or stretch.
    """

    names: dict[str, Binding] = field(default_factory=dict)
    outer: Scope | None = None
    locale: str | None = None
    timezone: str | None = None
    takes: tuple[str, ...] | None = None
    common: frozenset[str] = frozenset()

    def find(self, name: str) -> Binding | None:
        scope: Scope | None = self
        while scope is not None:
            if name in scope.names:
                return scope.names[name]
            scope = scope.outer
        return None

    def inner(self, **changes: str) -> Scope:
        """A scope within this one."""
        settings = {"locale": self.locale, "timezone": self.timezone, **changes}
        return Scope({}, self, settings["locale"], settings["timezone"], self.takes, self.common)


def resolved(node: Expression, scope: Scope) -> Expression:
    """`node` with its first names resolved and its formatters told where they stand."""
    if isinstance(node, Name):
        binding = scope.find(node.name)
        if binding is not None:
            return Local(node.place, binding)
        if scope.takes is not None and node.name not in scope.common:
            raise TemplateError(
                f'this part takes no "{node.name}"', place=node.place, hint=did_you_mean(node.name, scope.takes)
            )
        return node
    if isinstance(node, All) and scope.takes is not None:
        raise TemplateError('a part that says what it takes does not see "all"', place=node.place)
    if isinstance(node, Formatted):
        return _formatted(node, scope)
    return rebuilt(node, lambda inner: resolved(inner, scope))


def _formatted(node: Formatted, scope: Scope) -> Formatted:
    arguments = [resolved(argument, scope) for argument in node.arguments]
    if node.formatter in PER_ITEM and arguments:
        arguments[0] = _per_item(node.arguments[0], node.formatter, scope)
    named = tuple((name, resolved(argument, scope)) for name, argument in node.named)
    return Formatted(
        node.place, resolved(node.value, scope), node.formatter, tuple(arguments), named, scope.locale, scope.timezone
    )


def _per_item(argument: Expression, formatter: str, scope: Scope) -> PerItem:
    """The expression over an item's fields that a text holds."""
    if not (isinstance(argument, Constant) and isinstance(argument.value, str)):
        raise TemplateError(
            f"{formatter} takes an expression over an item's fields, written out as a text",
            place=argument.place,
            hint=f'{formatter}("price")',
        )
    place = argument.place
    source, start, end = place.source, place.start + 1, place.end - 1
    if source.text[start:end] != argument.value:  # written with escapes: it has no place of its own
        source, start, end = Source(f"{place}: the expression", argument.value), 0, len(argument.value)
    reader = Reader(source, start, end, place.via)
    body = read_expression(reader)
    reader.finish()
    item = Binding("item", "item", place)
    return PerItem(place, item, _of_item(body, item, scope))


def _of_item(node: Expression, item: Binding, scope: Scope) -> Expression:
    """`node` with its first names as fields of `item`."""
    if isinstance(node, Name):
        return Member(node.place, Local(node.place, item), node.name)
    if isinstance(node, All):
        return Local(node.place, item)
    if isinstance(node, Formatted):
        if node.formatter in PER_ITEM and node.arguments:
            raise TemplateError(
                f'"{node.formatter}" has an expression of its own and stands in no other', place=node.place
            )
        made = rebuilt(node, lambda inner: _of_item(inner, item, scope))
        assert isinstance(made, Formatted)
        return Formatted(
            made.place, made.value, made.formatter, made.arguments, made.named, scope.locale, scope.timezone
        )
    return rebuilt(node, lambda inner: _of_item(inner, item, scope))
