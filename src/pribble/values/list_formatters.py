"""Formatters for lists: counting, choosing, ordering, grouping; some by an expression over an item's fields."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cmp_to_key, reduce

from pribble.errors import FieldError, LimitReached
from pribble.graphemes import graphemes
from pribble.values.arithmetic import EXACT, NUMBERS, compute, less
from pribble.values.counting import LONGEST_TEXT, Turns, frozen
from pribble.values.kinds import NOTHING, Data, canonical, kind, named, whole_number
from pribble.values.lookup import holds, items, names
from pribble.values.numbers import Apply, text_of
from pribble.values.settings import Settings
from pribble.values.showing import text as shown

_MOST_ITEMS = 1_000_000_000
# Computes an expression for each item of a list.
PerItem = Callable[[Sequence[Data]], list[Data]]


def _as_list(value: Data, formatter: str) -> list[Data] | tuple[Data, ...]:
    if value.__class__ is list:
        return value
    value = canonical(value)
    if kind(value) == "list":
        return items(value, "the value")
    raise FieldError(f"{formatter} takes a list, not {named(value)}")


def count(settings: Settings) -> Apply:
    """Counts the items of a list, the fields of a record, or the characters of a text as a reader counts them; nothing
    counts 0."""

    def apply(value: Data) -> int:
        if value.__class__ is list:
            return len(value)
        value = canonical(value)
        if isinstance(value, str):
            return sum(1 for _ in graphemes(value))
        if kind(value) == "record":
            return len(value) if isinstance(value, Mapping) else sum(1 for _ in names(value))
        return 0 if value is NOTHING else len(_as_list(value, "count"))

    return apply


def first(settings: Settings, size: int | None = None) -> Apply:
    """Takes the first item, or nothing of an empty list; with a `size`, a list of at most so many items."""
    most = _count_argument(size, "first")
    if most is None:
        return lambda value: next(iter(_as_list(value, "first")), NOTHING)
    return lambda value: list(_as_list(value, "first")[:most])


def last(settings: Settings, size: int | None = None) -> Apply:
    """Takes the last item, or nothing of an empty list; with a `size`, a list of at most so many items."""
    most = _count_argument(size, "last")
    if most is None:
        return lambda value: listed[-1] if (listed := _as_list(value, "last")) else NOTHING
    return lambda value: list(_as_list(value, "last")[-most:])


def _count_argument(given: Data, formatter: str) -> int | None:
    if given is None:
        return None
    size = whole_number(given, 1, _MOST_ITEMS) if kind(given) == "number" else None
    if size is None:
        raise FieldError(f"{formatter} takes a whole number from 1")
    return size


def reverse(settings: Settings) -> Apply:
    """Puts the items in reverse order."""
    return lambda value: list(_as_list(value, "reverse"))[::-1]


def join(settings: Settings, separator: str = ", ") -> Apply:
    """Shows the items of a list, with a `separator` between them."""
    between = text_of(separator, "join")

    def apply(value: Data) -> str:
        texts = [shown(item) for item in _as_list(value, "join")]
        if sum(map(len, texts)) + len(between) * len(texts) > LONGEST_TEXT:
            raise LimitReached(f"join makes a text of more than {LONGEST_TEXT:,} characters")
        return between.join(texts)

    return apply


def rows(settings: Settings, size: int) -> Apply:
    """Cuts a list into lists of `size` items, the last filled up with nothing: rows of a table with so many columns."""
    width = whole_number(size, 1, 1000) if kind(size) == "number" else None
    if width is None:
        raise FieldError("rows takes a whole number from 1")

    def apply(value: Data) -> list[list[Data]]:
        listed = list(_as_list(value, "rows"))
        listed += [NOTHING] * (-len(listed) % width)
        return [listed[start : start + width] for start in range(0, len(listed), width)]

    return apply


def sum_(settings: Settings) -> Apply:
    """Adds the items, or the values of an `expression` over each of them; an empty list gives 0."""
    exact: Callable[[Data, Data], Data] = EXACT["+"]

    def apply(value: Data, each: PerItem | None = None) -> Data:
        listed = _as_list(value, "sum")
        summands = listed if each is None else each(listed)
        if NUMBERS.issuperset(map(type, summands)):
            return reduce(exact, summands, 0)
        total: Data = 0
        for summand in summands:
            if summand.__class__ in NUMBERS:
                total = exact(total, summand)
            elif kind(canonical(summand)) == "number":
                total = compute("+", total, summand)
            else:
                raise FieldError(f"sum adds numbers, and one of these is {named(canonical(summand))}")
        return total

    return apply


def least(settings: Settings) -> Apply:
    """Takes the least item, or the least value of an `expression` over each; nothing of an empty list."""
    return _extreme("least", lambda one, other: less(other, one))


def greatest(settings: Settings) -> Apply:
    """Takes the greatest item, or the greatest value of an `expression` over each; nothing of an empty list."""
    return _extreme("greatest", less)


def _extreme(formatter: str, is_beaten: Callable[[Data, Data], bool]) -> Apply:
    def apply(value: Data, each: PerItem | None = None) -> Data:
        listed = _as_list(value, formatter)
        chosen: Data = NOTHING
        for item in listed if each is None else each(listed):
            if chosen is NOTHING or is_beaten(chosen, item):
                chosen = item
        return chosen

    return apply


def sort(settings: Settings) -> Apply:
    """Sorts the items, or by an `expression` over each; texts by code point; equal items keep their order."""

    def apply(value: Data, each: PerItem | None = None) -> list[Data]:
        listed = _as_list(value, "sort")
        keyed = list(zip(listed if each is None else each(listed), listed, strict=True))
        return [item for _, item in sorted(keyed, key=cmp_to_key(_compared))]

    def _compared(one: tuple[Data, Data], other: tuple[Data, Data]) -> int:
        return -1 if less(one[0], other[0]) else 1 if less(other[0], one[0]) else 0

    return apply


def keep_items(settings: Settings) -> Apply:
    """Keeps the items for which an `expression` is true."""

    def apply(value: Data, each: PerItem) -> list[Data]:
        listed = _as_list(value, "keep")
        return [item for item, test in zip(listed, each(listed), strict=True) if holds(test)]

    return apply


def by(settings: Settings) -> Apply:
    """Groups the items: pairs of a value of the `expression` and the list of items with that value, in the order in
    which the values come."""

    def apply(value: Data, each: PerItem, turns: Turns) -> list[tuple[Data, list[Data]]]:
        groups: dict[Data, tuple[Data, list[Data]]] = {}
        listed = _as_list(value, "by")
        for item, key in zip(listed, map(canonical, each(listed)), strict=True):
            groups.setdefault(frozen(turns, key), (key, []))[1].append(item)
        return list(groups.values())

    return apply
