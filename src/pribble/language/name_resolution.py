"""Names: what a first name stands for where it is written, and where a formatter finds its locale."""

from __future__ import annotations

from collections.abc import Mapping

from pribble.errors import Source, TemplateError, did_you_mean
from pribble.language.expressions import (
    All,
    Binding,
    Constant,
    Expression,
    Formatted,
    Listing,
    Local,
    Member,
    Name,
    PerItem,
    rebuilt,
)
from pribble.language.parsing import read_expression, read_formatters
from pribble.language.tokens import TokenReader
from pribble.records import field, record
from pribble.values.formatters import Formatter


@record(slots=True)
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
    formatters: Mapping[str, Formatter] = field(default_factory=dict)

    def find(self, name: str) -> Binding | None:
        scope: Scope | None = self
        while scope is not None:
            if name in scope.names:
                return scope.names[name]
            scope = scope.outer
        return None

    def inner(self, **changes: str) -> Scope:
        """Returns a scope within this one."""
        settings = {"locale": self.locale, "timezone": self.timezone, **changes}
        return Scope({}, self, settings["locale"], settings["timezone"], self.takes, self.common, self.formatters)


def resolve_names(node: Expression, scope: Scope) -> Expression:
    """Returns `node` with its first names resolved and its formatters told where they stand."""
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
    return rebuilt(node, lambda inner: resolve_names(inner, scope))


def _formatted(node: Formatted, scope: Scope) -> Formatted:
    formatter = scope.formatters.get(node.name)
    arguments = [resolve_names(argument, scope) for argument in node.arguments]
    if formatter is not None and formatter.expression != "never" and arguments:
        arguments[0] = _per_item(node.arguments[0], node.name, scope)
    per_cell = formatter.cell_formats if formatter is not None else None
    named = tuple(
        (name, _per_cell(argument, scope) if name == per_cell else resolve_names(argument, scope))
        for name, argument in node.named
    )
    return Formatted(
        node.place,
        resolve_names(node.value, scope),
        node.name,
        tuple(arguments),
        named,
        formatter,
        scope.locale,
        scope.timezone,
    )


def _per_cell(argument: Expression, scope: Scope) -> Expression:
    """Returns a list of texts that name formatters, none where there is none, as what they make of a cell."""
    if not isinstance(argument, Listing):
        raise TemplateError(
            "formats is a list, written out", place=argument.place, hint="formats = [none, 'money(\"EUR\")']"
        )
    made: list[Expression] = []
    for one in argument.items:
        if isinstance(one, Constant) and one.value is None:
            made.append(one)
            continue
        if not (isinstance(one, Constant) and isinstance(one.value, str)):
            raise TemplateError("a format is a text, written out, or none", place=one.place, hint="'money(\"EUR\")'")
        reader, item = _written_out(one), Binding("cell", "item", one.place)
        body = read_formatters(reader, Local(one.place, item))
        reader.finish()
        made.append(PerItem(one.place, item, _of_item(body, item, scope)))
    return Listing(argument.place, tuple(made))


def _per_item(argument: Expression, formatter: str, scope: Scope) -> PerItem:
    """Returns the expression over an item's fields that a text holds."""
    if not (isinstance(argument, Constant) and isinstance(argument.value, str)):
        raise TemplateError(
            f"{formatter} takes an expression over an item's fields, written out as a text",
            place=argument.place,
            hint=f'{formatter}("price")',
        )
    reader = _written_out(argument)
    body = read_expression(reader)
    reader.finish()
    item = Binding("item", "item", argument.place)
    return PerItem(argument.place, item, _of_item(body, item, scope))


def _written_out(text: Constant) -> TokenReader:
    """Reads what a text holds that is written out in a mark."""
    place, value = text.place, str(text.value)
    source, start, end = place.source, place.start + 1, place.end - 1
    if source.text[start:end] != value:  # written with escapes: it has no place of its own
        source, start, end = Source(f"{place}: the expression", value), 0, len(value)
    return TokenReader(source, start, end, place.via)


def _of_item(node: Expression, item: Binding, scope: Scope) -> Expression:
    """Returns `node` with its first names as fields of `item`."""
    if isinstance(node, Name):
        return Member(node.place, Local(node.place, item), node.name)
    if isinstance(node, All):
        return Local(node.place, item)
    if isinstance(node, Formatted):
        formatter = scope.formatters.get(node.name)
        if formatter is not None and formatter.expression != "never" and node.arguments:
            raise TemplateError(f'"{node.name}" has an expression of its own and stands in no other', place=node.place)
        made = rebuilt(node, lambda inner: _of_item(inner, item, scope))
        assert isinstance(made, Formatted)
        return Formatted(
            made.place, made.value, made.name, made.arguments, made.named, formatter, scope.locale, scope.timezone
        )
    return rebuilt(node, lambda inner: _of_item(inner, item, scope))
