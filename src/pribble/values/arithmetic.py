"""Arithmetic and comparison: decimal, exact, and between values of kinds that belong together."""

from __future__ import annotations

import decimal
from collections.abc import Callable, Mapping
from datetime import date, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal

from pribble.errors import FieldError, LimitReached
from pribble.values.counting import LONGEST_TEXT, Turns, count_items, record_items
from pribble.values.kinds import NOTHING, Data, bounded, canonical, kind, named, whole_number
from pribble.values.lookup import names

DIGITS = 40
_MOST_DAYS = date.max.toordinal()

_LOUD = [decimal.InvalidOperation, decimal.DivisionByZero, decimal.Overflow]
# What + - * lose they would lose unseen, so they may lose nothing; a quotient is rounded, and said to be.
_EXACT = decimal.Context(prec=DIGITS, rounding=ROUND_HALF_UP, traps=[*_LOUD, decimal.Inexact])
_ROUNDED = decimal.Context(prec=DIGITS, rounding=ROUND_HALF_UP, traps=_LOUD)

_NUMERIC: dict[str, Callable[[Data, Data], Decimal]] = {
    "+": _EXACT.add,
    "-": _EXACT.subtract,
    "*": _EXACT.multiply,
    "/": _ROUNDED.divide,
    "%": _EXACT.remainder,
}
_VERBS = {"+": "added to", "-": "taken from", "*": "multiplied by", "/": "divided by", "%": "divided by"}


# The types of numbers that need no reading, and what computes with two of them.  They raise decimal exceptions,
# which `refused` turns into errors.
NUMBERS = frozenset({int, Decimal})
EXACT = {"+": _EXACT.add, "-": _EXACT.subtract, "*": _EXACT.multiply}


def refused(error: decimal.DecimalException) -> FieldError:
    """Returns what a decimal exception means to a template."""
    if isinstance(error, decimal.Inexact):
        return FieldError(f"the result has more than {DIGITS} digits")
    return FieldError("the result is not a number")


def compute(operator: str, left: Data, right: Data, longest: int = LONGEST_TEXT) -> Data:
    """``left operator right`` for ``+ - * / %``; raises `FieldError` where the kinds do not allow it, `LimitReached`
    for a text longer than `longest`."""
    if operator == "+" and left.__class__ is str and right.__class__ is str and len(left) + len(right) <= longest:
        return left + right
    left, right = canonical(left), canonical(right)
    kinds = kind(left), kind(right)
    if kinds == ("number", "number"):
        return _arithmetic_result(operator, left, right)
    for value in (left, right):
        if value is None or value is NOTHING:
            raise FieldError(
                f"{named(value)} cannot be computed with",
                hint="give it a value first: (x? else 0)" if value is NOTHING else None,
            )
    match operator, kinds:
        case "+", ("text", "text"):
            if len(left) + len(right) > longest:
                raise LimitReached(
                    f"a text of more than {longest:,} characters",
                    hint="Limits(text=…) of the template folder permits longer ones",
                )
            return left + right
        case "-", ("day", "day"):
            return (left - right).days
        case "+" | "-", ("day", "number"):
            return _shift_day(left, right if operator == "+" else -right)
        case "+", ("number", "day"):
            return _shift_day(right, left)
        case "-", ("moment", "moment"):
            _check_zones(left, right)
            return left - right
    raise FieldError(_mismatch(operator, left, right), hint=_text_hint(kinds))


def _mismatch(operator: str, left: Data, right: Data) -> str:
    if operator == "+":
        return f"{named(right)} cannot be added to {named(left)}"
    if operator == "-":
        return f"{named(right)} cannot be taken from {named(left)}"
    return f"{named(left)} cannot be {_VERBS[operator]} {named(right)}"


def _text_hint(kinds: tuple[str, str]) -> str | None:
    if set(kinds) == {"text", "number"}:
        return "a text from a table is read with: x as decimal; to compute with what is rounded: x as round(2)"
    if "text" in kinds and set(kinds) & {"day", "moment"}:
        return "a text is read with: x as day, or x as moment"
    return None


def _arithmetic_result(operator: str, left: Decimal | int, right: Decimal | int) -> Decimal | int:
    if operator in "/%" and not right:
        raise FieldError("division by zero", hint="test for it: (a / b if b else 0)")
    try:
        return bounded(_NUMERIC[operator](bounded(left), bounded(right)))
    except decimal.DecimalException as error:
        raise refused(error) from None


def _check_zones(left: Data, right: Data) -> None:
    """Checks that two moments are of one sort: both with a time zone, or both local."""
    if isinstance(left, datetime) and (left.tzinfo is None) != (right.tzinfo is None):
        raise FieldError(
            "one of the moments has a time zone and the other has none",
            hint="(x as moment) is one in the template's time zone",
        )


def _shift_day(day: date, days: Decimal | int) -> date:
    if not -_MOST_DAYS <= days <= _MOST_DAYS:
        raise FieldError("the day lies beyond the calendar")
    number = whole_number(days, -_MOST_DAYS, _MOST_DAYS)
    if number is None:
        raise FieldError(f"{days} is no whole number of days")
    try:
        return day + timedelta(days=number)
    except OverflowError:
        raise FieldError("the day lies beyond the calendar") from None


def negative(value: Data) -> Data:
    """Returns ``-value``"""
    value = canonical(value)
    if kind(value) != "number":
        raise FieldError(f"a minus before {named(value)}")
    return -bounded(value)


def equal(turns: Turns, left: Data, right: Data) -> bool:
    """``left == right``; raises `FieldError` across kinds, where nothing could ever be equal.  Items and fields that
    are compared count as turns."""
    if left.__class__ is right.__class__ and left.__class__ in _COMPARED_AT_ONCE:
        return bool(left == right)
    pairs = [(left, right, True)]
    while pairs:  # and not by recursion, however deep lists are
        left, right, strict = pairs.pop()
        left, right = canonical(left), canonical(right)
        if left is None or left is NOTHING or right is None or right is NOTHING:
            same = (left is None or left is NOTHING) and (right is None or right is NOTHING)
        elif kind(left) != kind(right):
            if strict:
                hint = _text_hint((kind(left), kind(right)))
                raise FieldError(f"{named(left)} is compared with {named(right)}", hint=hint)
            same = False  # in a field of records, that may well differ
        elif kind(left) == "list":
            same = len(left) == len(right)
            if same:
                count_items(turns, len(left))
                met = zip(reversed(left), reversed(right), strict=True)
                # What is the same object is equal; the others are compared from the first on.
                pairs += [(one, other, strict) for one, other in met if one is not other]
        elif kind(left) == "record":
            one, other = record_items(left) or {}, record_items(right) or {}
            same = one.keys() == other.keys()
            if same:
                count_items(turns, len(one))
                pairs += [(one[name], other[name], False) for name in one]
        else:
            _check_zones(left, right)
            same = bool(left == right)
        if not same:
            return False
    return True


_COMPARED_AT_ONCE = frozenset({str, int, bool})
_ORDERED = ("text", "number", "day", "time", "moment", "span")


def less(left: Data, right: Data, *, or_equal: bool = False) -> bool:
    """``left < right``, for two values of one kind that has an order."""
    if left.__class__ in NUMBERS and right.__class__ in NUMBERS:
        return bool(left <= right) if or_equal else bool(left < right)  # type: ignore[operator]
    left, right = canonical(left), canonical(right)
    if kind(left) != kind(right) or kind(left) not in _ORDERED:
        raise FieldError(f"{named(left)} and {named(right)} have no order", hint=_text_hint((kind(left), kind(right))))
    _check_zones(left, right)
    return bool(left <= right) if or_equal else bool(left < right)


def contains(turns: Turns, value: Data, whole: Data) -> bool:
    """Returns ``value in whole``: member of a list, key of a record, text in text."""
    value, whole = canonical(value), canonical(whole)
    match kind(whole):
        case "nothing":
            return False
        case "list":
            return any(kind(canonical(entry)) == kind(value) and equal(turns, value, entry) for entry in whole)
        case "record" if isinstance(value, str):
            return value in whole if isinstance(whole, Mapping) else value in names(whole)
        case "text" if isinstance(value, str):
            return value in whole
    raise FieldError(f"{named(value)} cannot be in {named(whole)}")
