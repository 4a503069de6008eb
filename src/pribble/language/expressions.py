"""Expressions as trees: what stands in a mark, once it is read.

Names are resolved by the linker (`linking.py`), so a tree holds `Name` where the author wrote a first name
and `Local` once it is known that the name stands for something the template itself bound.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from decimal import Decimal

from pribble.errors import Place
from pribble.records import field, record
from pribble.values.formatters import Formatter


@record(frozen=True, slots=True)
class Node:
    """What every expression has: the stretch it is reported at."""

    place: Place = field(repr=False, compare=False)


@record(frozen=True, slots=True)
class Constant(Node):
    """A text, number, flag or none written out."""

    value: str | int | Decimal | bool | None


@record(frozen=True, slots=True)
class Listing(Node):
    """``["a", "b"]``"""

    items: tuple[Expression, ...]


@record(frozen=True, slots=True)
class Name(Node):
    """A first name that stands for a field of the data."""

    name: str


@record(frozen=True, slots=True)
class All(Node):
    """``all``: the whole data."""


@record(frozen=True, slots=True)
class Local(Node):
    """A first name that the template bound: by ``let``, ``for``, or where a part was put."""

    binding: Binding


@record(frozen=True, slots=True)
class Member(Node):
    """``base.name``; `place` is that of the name."""

    base: Expression
    name: str


@record(frozen=True, slots=True)
class Subscript(Node):
    """``base[key]``; `place` is that of the key."""

    base: Expression
    key: Expression


@record(frozen=True, slots=True)
class Maybe(Node):
    """``step?``: nothing, where the step is missing or none."""

    step: Name | Local | Member | Subscript


@record(frozen=True, slots=True)
class Negative(Node):
    operand: Expression


@record(frozen=True, slots=True)
class Arithmetic(Node):
    """``+ - * / %``; `place` is that of the operator."""

    operator: str
    left: Expression
    right: Expression


@record(frozen=True, slots=True)
class Comparison(Node):
    """``== != < <= > >= in``, ``not in``; `place` is that of the operator."""

    operator: str
    left: Expression
    right: Expression


@record(frozen=True, slots=True)
class Not(Node):
    operand: Expression


@record(frozen=True, slots=True)
class Both(Node):
    """``left and right``: true or false."""

    left: Expression
    right: Expression


@record(frozen=True, slots=True)
class Either(Node):
    """``left or right``: true or false."""

    left: Expression
    right: Expression


@record(frozen=True, slots=True)
class Choice(Node):
    """``value if test else otherwise``."""

    value: Expression
    test: Expression
    otherwise: Expression | None


@record(frozen=True, slots=True)
class Fallback(Node):
    """``value else otherwise``: the first, unless it is nothing, white space, or empty."""

    value: Expression
    otherwise: Expression


@record(frozen=True, slots=True)
class Formatted(Node):
    """``value as formatter(arguments, name = argument)``; `place` is that of the formatter's name.

    Once its names are resolved it has its `formatter`, None where there is none of this name; `locale` and `timezone`
    are those of the file or stretch it stands in, None for those of the call.
    """

    value: Expression
    name: str
    arguments: tuple[Expression, ...]
    named: tuple[tuple[str, Expression], ...]
    formatter: Formatter | None = None
    locale: str | None = None
    timezone: str | None = None


@record(frozen=True, slots=True)
class PerItem(Node):
    """An expression over the fields of a list's item, as ``sum("quantity * price")`` has it."""

    item: Binding
    body: Expression


Expression = (
    Constant
    | Listing
    | Name
    | All
    | Local
    | Member
    | Subscript
    | Maybe
    | Negative
    | Arithmetic
    | Comparison
    | Not
    | Both
    | Either
    | Choice
    | Fallback
    | Formatted
    | PerItem
)


@record(frozen=True, slots=True, eq=False)
class Binding:
    """Something the template itself gave a name; every binding is a different one, whatever its name.

    `kind` is ``let`` (with the `value` it stands for), ``item``, ``key`` or ``place`` of a loop over `value`.
    `facts` is where those who found something out about the value keep it, since others are made of it.
    """

    name: str
    kind: str
    place: Place = field(repr=False)
    value: Expression | None = field(repr=False, default=None)
    facts: dict[str, object] = field(repr=False, default_factory=dict)


def children(node: Expression) -> tuple[Expression, ...]:
    """Returns the expressions directly inside `node`, in the order they were written."""
    match node:
        case Listing(items=items):
            return items
        case Member(base=base):
            return (base,)
        case Subscript(base=base, key=key):
            return (base, key)
        case Maybe(step=step):
            return (step,)
        case Negative(operand=operand) | Not(operand=operand):
            return (operand,)
        case Arithmetic() | Comparison() | Both() | Either():
            return (node.left, node.right)
        case Choice(value=value, test=test, otherwise=otherwise):
            return (value, test) if otherwise is None else (value, test, otherwise)
        case Fallback(value=value, otherwise=other):
            return (value, other)
        case Formatted(value=value, arguments=arguments, named=named):
            return (value, *arguments, *(argument for _, argument in named))
        case PerItem(body=body):
            return (body,)
        case Constant() | Name() | All() | Local():
            return ()


# Inside an expression nobody looks deeper than this, whatever a template holds.
_DEEPEST = 50


def with_inner(node: Expression, depth: int = 0) -> Iterator[Expression]:
    """Yields an expression and those inside it, in the order they were written."""
    yield node
    if depth < _DEEPEST:
        for inner in children(node):
            yield from with_inner(inner, depth + 1)


def rebuilt(node: Expression, change: Callable[[Expression], Expression]) -> Expression:
    """Returns `node` with `change` applied to the expressions directly inside it."""
    match node:
        case Listing(place=place, items=items):
            return Listing(place, tuple(map(change, items)))
        case Member(place=place, base=base, name=name):
            return Member(place, change(base), name)
        case Subscript(place=place, base=base, key=key):
            return Subscript(place, change(base), change(key))
        case Maybe(place=place, step=step):
            inner = change(step)
            assert isinstance(inner, Name | Local | Member | Subscript)
            return Maybe(place, inner)
        case Negative(place=place, operand=operand):
            return Negative(place, change(operand))
        case Not(place=place, operand=operand):
            return Not(place, change(operand))
        case Arithmetic(place=place, operator=operator, left=left, right=right):
            return Arithmetic(place, operator, change(left), change(right))
        case Comparison(place=place, operator=operator, left=left, right=right):
            return Comparison(place, operator, change(left), change(right))
        case Both(place=place, left=left, right=right):
            return Both(place, change(left), change(right))
        case Either(place=place, left=left, right=right):
            return Either(place, change(left), change(right))
        case Choice(place=place, value=value, test=test, otherwise=otherwise):
            return Choice(place, change(value), change(test), None if otherwise is None else change(otherwise))
        case Fallback(place=place, value=value, otherwise=other):
            return Fallback(place, change(value), change(other))
        case Formatted(place=place, value=value, name=name, arguments=arguments, named=named):
            return Formatted(
                place,
                change(value),
                name,
                tuple(map(change, arguments)),
                tuple((key, change(argument)) for key, argument in named),
                node.formatter,
                node.locale,
                node.timezone,
            )
        case PerItem(place=place, item=item, body=body):
            return PerItem(place, item, change(body))
        case Constant() | Name() | All() | Local():
            return node
