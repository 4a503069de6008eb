"""The kinds of values a template knows, whatever types the data have.

Text, number, flag, day, time, moment, span, list, record, picture; and *none* and *nothing*, which are the
absence of one.  `canonical` turns what an application hands in (an enum, a UUID, a NumPy scalar) into a value
of one of these kinds; any other type is refused, so that nothing of an object shows that was not meant to.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from enum import Enum
from typing import Any, ClassVar, TypeAlias

from pribble.errors import FieldError, LimitReached

# What stands in the data of an application: any object at all.  Functions that take it ask for its kind first.
Data: TypeAlias = Any

_LONGEST_RANGE = 1_000_000
# Numbers beyond these are a mistake or an attack: no sum of money or count has so many digits.
LARGEST_EXPONENT = 30
_LARGEST_INTEGER = 10 ** (LARGEST_EXPONENT + 1)


class Nothing:
    """What a step with ``?`` comes to where the data have no value for it."""

    __slots__ = ()

    def __bool__(self) -> bool:
        return False

    def __repr__(self) -> str:
        return "nothing"

    def __format__(self, spec: str) -> str:
        return ""  # nothing shows as nothing


NOTHING = Nothing()


class BrokenValue(str):
    """Where problems are collected, what could not be read or computed: reported already, and passed on in silence."""

    __slots__ = ()

    def __call__(self, *arguments: object) -> BrokenValue:
        return self


BROKEN_VALUE = BrokenValue()


class AlreadyReported(FieldError):
    """A value was broken before; the problem is reported where it began."""


class Opaque:
    """Base of the types of ours that may stand in data as they are (pictures)."""

    __slots__ = ()
    kind: ClassVar[str]


_PLAIN = frozenset({str, int, bool, Decimal, type(None), date, datetime, time, timedelta, list, tuple, dict, Nothing})
_KINDS: dict[type, str] = {
    str: "text",
    int: "number",
    Decimal: "number",
    bool: "flag",
    date: "day",
    time: "time",
    datetime: "moment",
    timedelta: "span",
    list: "list",
    tuple: "list",
    dict: "record",
    type(None): "none",
    Nothing: "nothing",
}
_WITH_ARTICLE = {
    "text": "a text",
    "number": "a number",
    "flag": "a flag (true or false)",
    "day": "a day",
    "time": "a time",
    "moment": "a moment",
    "span": "a span of time",
    "list": "a list",
    "record": "a record",
    "picture": "a picture",
    "none": "none",
    "nothing": "nothing",
}


def kind(value: Data) -> str:
    """Returns the kind of a plain value."""
    known = _KINDS.get(type(value))
    if known is not None:
        return known
    return value.kind if isinstance(value, Opaque) else "record"


def named(value: Data) -> str:
    """Returns the kind of a plain value, as errors speak of it: "a text"."""
    return _WITH_ARTICLE[kind(value)]


def canonical(value: Data) -> Data:
    """Returns `value` as one of the kinds; raises `FieldError` for a type that is none, NaN and infinity."""
    cls = type(value)
    if cls in _PLAIN:
        if cls is tuple or cls is not Decimal:
            return value
        return _finite(value)
    if cls is float:
        return None if value != value else _finite(Decimal(repr(value)))
    return _numpy_item(value)


def _finite(number: Decimal) -> Decimal | None:
    """Returns `number`; none for NaN, which is how tables have what is missing."""
    if number.is_nan():
        return None
    if not number.is_finite():
        raise FieldError(f"{number} is not a number that can be shown", hint="hand in none for what is missing")
    return number


def is_of_pandas(value: Data, name: str) -> bool:
    """Returns whether a value is of a type of pandas, which is not loaded for it."""
    cls = type(value)
    return cls.__name__ == name and cls.__module__.partition(".")[0] == "pandas"


def _numpy_item(value: Data) -> Data:
    if value is BROKEN_VALUE:
        raise AlreadyReported("broken before")
    module = type(value).__module__.partition(".")[0]
    if isinstance(value, Enum):
        return canonical(value.value)
    if module == "numpy" and hasattr(value, "dtype"):
        if value.ndim:
            return value.tolist()
        inner = value.item()
        return None if inner != inner else canonical(inner)  # NaN and NaT differ from themselves
    if module == "pandas" and (found := _of_pandas(value)) is not _MISSED:
        return found
    if isinstance(value, range):
        if len(value) > _LONGEST_RANGE:
            raise LimitReached(f"a range of more than {_LONGEST_RANGE:,} numbers")
        return list(value)
    if isinstance(value, str):
        return str.__str__(value)
    if isinstance(value, bool | int):
        return int(value)
    if isinstance(value, float):
        return _finite(Decimal(float.__repr__(value)))
    if isinstance(value, Decimal):
        return _finite(Decimal(value))
    if module == "uuid":
        return str(value)
    if isinstance(value, datetime):
        return datetime(
            value.year,
            value.month,
            value.day,
            value.hour,
            value.minute,
            value.second,
            value.microsecond,
            value.tzinfo,
            fold=value.fold,
        )
    if isinstance(value, Opaque | Mapping) or field_names(value) is not None:
        return value
    if isinstance(value, timedelta):
        return timedelta(value.days, value.seconds, value.microseconds)
    if isinstance(value, list | tuple):
        return list(value)
    raise FieldError(f"a value of type {type(value).__qualname__} is none that a template can use", hint=_handed(value))


_MISSED = object()


def _of_pandas(value: Data) -> Data:
    """Returns a row (a Series whose labels are texts) as a record, a column as a list, a DataFrame as a list of
    records."""
    match type(value).__name__:
        case "NaTType" | "NAType":
            return None
        case "Series":
            labels, cells = value.index.tolist(), value.tolist()
            is_row = all(isinstance(label, str) for label in labels)
            return dict(zip(labels, cells, strict=True)) if is_row else cells
        case "DataFrame":
            named_index = any(name is not None for name in value.index.names)
            frame = value.reset_index() if named_index else value
            labels = frame.columns.tolist()
            return [dict(zip(labels, row, strict=True)) for row in frame.itertuples(index=False, name=None)]
    return value.tolist() if getattr(value, "ndim", 0) == 1 and hasattr(value, "tolist") else _MISSED


def _handed(value: Data) -> str:
    """Returns how to hand in what a template cannot use."""
    if isinstance(value, set | frozenset):
        return "a set has no order: hand in a list, as sorted(…)"
    if isinstance(value, Iterator):
        return "it can be gone through once only, and a message is made in two forms: hand in list(…)"
    if isinstance(value, bytes | bytearray):
        return "octets are no text: decode them"
    if isinstance(value, Iterable):
        return "hand in list(…)"
    if hasattr(value, "__dict__"):
        return "hand in a dict, as vars(…), or make its class a dataclass: only declared fields are read"
    return "hand in texts, numbers, flags, dates, lists and records"


def field_names(value: Data) -> tuple[str, ...] | None:
    """Returns the names of a record's declared fields, or None where the type declares none.

    Declared are the fields of a dataclass, a named tuple, and of classes that list them in
    ``__attrs_attrs__`` or ``model_fields``.  Names with a leading underscore are private.
    """
    cls = type(value)
    names: tuple[str, ...]
    if hasattr(cls, "__dataclass_fields__"):
        import dataclasses

        names = tuple(f.name for f in dataclasses.fields(cls))
    elif isinstance(value, tuple) and hasattr(cls, "_fields"):
        names = tuple(cls._fields)
    elif hasattr(cls, "__attrs_attrs__"):
        names = tuple(a.name for a in cls.__attrs_attrs__)
    elif isinstance(declared := getattr(cls, "model_fields", None), Mapping):
        names = tuple(declared)
    else:
        return None
    return tuple(name for name in names if not name.startswith("_"))


def whole_number(number: Decimal | int, least: int, most: int) -> int | None:
    """Returns `number` as an integer, if it is a whole one from `least` to `most`; of no other is an integer made."""
    if not least <= number <= most:
        return None
    made = int(number)
    return made if made == number else None


def bounded(number: Decimal | int) -> Decimal | int:
    """Returns `number`, if its size is one that a template may compute with; raises `LimitReached` otherwise."""
    if isinstance(number, int):
        if -_LARGEST_INTEGER < number < _LARGEST_INTEGER:
            return number
    elif not number or -LARGEST_EXPONENT <= number.adjusted() <= LARGEST_EXPONENT:
        return number
    raise LimitReached(f"a number beyond ten to the power of ±{LARGEST_EXPONENT}")
