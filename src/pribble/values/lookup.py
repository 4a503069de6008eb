"""Reading fields, positions and lists: closed, strict, and blind to everything but data.

``.name`` reads a mapping's key or a declared field and nothing else; no method, property or private name
can be reached from a template.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping
from itertools import islice

from pribble.errors import FieldError, did_you_mean, nearest
from pribble.values.kinds import (
    NOTHING,
    AlreadyReported,
    Data,
    canonical,
    field_names,
    is_of_pandas,
    kind,
    named,
    whole_number,
)

# The types whose values are what they are, and hold as Python has it.
_SIMPLE = frozenset({str, int, bool, list, dict})


# No list has an item beyond this position.
_LAST_POSITION = sys.maxsize


class _Missing:
    """What a lookup gives where there is no such field; never a value of a template."""


MISSING = _Missing()


def known(value: Data, where: str) -> Data:
    """Returns `value` as `kinds.plain` has it; an error says that it is what errors call `where`."""
    try:
        return canonical(value)
    except AlreadyReported:
        raise
    except FieldError as error:
        raise FieldError(f"{where}: {error.problem}", hint=error.hint) from None


def names(value: Data) -> Iterable[str]:
    """Returns the names of a record's fields, one after another."""
    if is_of_pandas(value, "Series"):
        value = canonical(value)
    if isinstance(value, Mapping):
        return (name for name in value if isinstance(name, str))
    return field_names(value) or ()


def record_field(value: Data, name: str) -> Data:
    """Returns the field `name` of a record, or `MISSING`."""
    if is_of_pandas(value, "Series"):
        value = canonical(value)
    if isinstance(value, Mapping):
        return value.get(name, MISSING)
    return getattr(value, name) if name in (field_names(value) or ()) else MISSING


def read_field(value: Data, name: str, where: str) -> Data:
    """Returns the field `name` of `value`, a record that errors call `where`; of nothing, nothing.

    Raises `FieldError` where `value` is no record or has no such field.
    """
    if value is NOTHING:
        return NOTHING
    found = record_field(value, name)
    if found is not MISSING:
        return found
    value = known(value, where)
    if value is None:
        raise FieldError(
            f'{where} is none and has no field "{name}"',
            hint=f"write {where}?.{name} if it may be missing" if where.isidentifier() else None,
        )
    if kind(value) == "list":
        raise FieldError(
            f'{where} is a list and has no field "{name}"',
            hint=f"how many there are: {where} as count"
            if name in ("length", "size", "count")
            else "loop over it, or name a position: [0] is the first",
        )
    if kind(value) != "record":
        raise FieldError(f'{where} is {named(value)} and has no field "{name}"', hint=_WORDS.get(name.lower()))
    raise FieldError(f'no field "{name}" in {where}', hint=_hint(name, value, where))


# What a word that is no field was perhaps meant as.
_WORDS = {
    **dict.fromkeys(("else", "esle"), "{{ :else: }} is written with colons"),
    **dict.fromkeys(("end", "endif", "endfor"), "a block ends with its word: {{ :if }}, {{ :for }}"),
    **dict.fromkeys(
        ("first", "last", "index", "loop", "counter", "is_first", "is_last"),
        "where a turn of a loop stands, a name for it says: {{ for line at place in lines: }}{{ place.last }}",
    ),
    **dict.fromkeys(("null", "nil", "undefined"), "whether a value is there: {{ if note?: }}"),
    **dict.fromkeys(("short", "medium", "long", "full"), 'a text stands in quotes: {{ day as date("long") }}'),
    **dict.fromkeys(("this", "self"), "a field is named without anything before it: {{ name }}"),
}
_MOST_NAMES = 1000


def _hint(name: str, value: Data, where: str) -> str | None:
    known = list(islice(names(value), _MOST_NAMES))
    # A name that goes on with what no name has was read as a calculation.
    longer = [each for each in known if each.startswith(name) and not f"x{each[len(name) :][:1]}".isidentifier()]
    if longer:
        return _quote_name(longer[0], where)
    near = nearest(name, known)
    if near is None and name.lower() in _WORDS:
        return _WORDS[name.lower()]
    if near is None and len(name) == 3 and name.isalpha() and name.isupper():
        return f'a text stands in quotes: {{{{ total as money("{name}") }}}}'
    if near is not None and not near.isidentifier():
        return _quote_name(near, where)
    return did_you_mean(name, known)


def _quote_name(name: str, where: str) -> str:
    base = "all" if where == "the data" else where
    return f'a field whose name is no single word is written {base}["{name[:60]}"]'


def read_maybe(value: Data, name: str, where: str) -> Data:
    """Like `read`, but nothing where the field is missing or none."""
    if value.__class__ is dict and value.get(name).__class__ in _SIMPLE:
        return value[name]
    if value is NOTHING:
        return NOTHING
    found = record_field(value, name)
    if found is MISSING and kind(known(value, where)) != "record":
        return read_field(value, name, where)
    return NOTHING if found is MISSING or canonical(found) is None else found


def item(value: Data, key: Data, where: str, *, maybe: bool = False) -> Data:
    """`value[key]`: a position of a list, from 0, or a record's field by a text.

    With `maybe`, nothing where there is none.
    """
    if value is NOTHING or key is NOTHING:
        return NOTHING
    value, key = known(value, where), canonical(key)
    if kind(value) == "record":
        if not isinstance(key, str):
            raise FieldError(f"{where} is a record: its fields are named by texts, not by {named(key)}")
        return read_maybe(value, key, where) if maybe else read_field(value, key, where)
    if kind(value) != "list":
        raise FieldError(f"{where} is {named(value)} and has neither fields nor positions")
    if kind(key) != "number":
        raise FieldError(f"{where} is a list: its positions are whole numbers from 0, not {named(key)}")
    position = whole_number(key, 0, _LAST_POSITION)
    if position is not None and position < len(value):
        found = value[position]
        return NOTHING if maybe and canonical(found) is None else found
    if position is None and 0 <= key <= _LAST_POSITION:
        raise FieldError(f"{where} is a list: its positions are whole numbers from 0, not {named(key)}")
    if maybe:
        return NOTHING
    if key < 0:
        raise FieldError("a position counts from 0 and is not negative", hint="the last of a list is: lines as last")
    raise FieldError(
        f"{where} has {len(value)} item{'' if len(value) == 1 else 's'}, so no "
        + ("item so far on" if position is None else f"[{position}]"),
        hint="positions count from 0",
    )


def items(value: Data, where: str) -> list[Data] | tuple[Data, ...]:
    """Returns the items a loop with one name runs over."""
    if value.__class__ is list:
        return value
    value = known(value, where)
    if isinstance(value, (list, tuple)) and kind(value) == "list":
        return value
    if value is NOTHING:
        return ()
    if value is None:
        raise FieldError(f"{where} is none where a list is looped over", hint="write ? after it if it may be missing")
    if kind(value) == "record":
        raise FieldError(
            f"{where} is a record; a loop over one takes two names", hint="write {{ for name, value in …: }}"
        )
    raise FieldError(
        f"{where} is {named(value)}, not a list",
        hint="put it in brackets for a list of one: [x]" if kind(value) == "text" else None,
    )


def pairs(value: Data, where: str) -> list[tuple[Data, Data]]:
    """Returns the pairs a loop with two names runs over: a record's fields, or a list of lists of two."""
    value = known(value, where)
    if isinstance(value, Mapping):
        return list(value.items())
    if kind(value) == "record":
        return [(name, getattr(value, name)) for name in field_names(value) or ()]
    listed = items(value, where)
    for number, entry in enumerate(listed):
        if not (isinstance(entry, list | tuple) and len(entry) == 2):
            raise FieldError(f"item {number} of {where} is no pair, and the loop has two names")
    return [(entry[0], entry[1]) for entry in listed]


def holds(value: Data) -> bool:
    """Returns whether `value` holds: nothing, none, false, zero and all that is empty do not."""
    if value.__class__ in _SIMPLE or value is None:
        return bool(value)
    value = canonical(value)
    if kind(value) == "record":
        return bool(value) if isinstance(value, Mapping) else True
    return bool(value) if kind(value) in ("text", "number", "flag", "list", "none", "nothing") else True


def absent(value: Data) -> bool:
    """Returns whether ``value else other`` gives the other: nothing, white space, an empty list or record."""
    if value.__class__ is str:
        return not value or value.isspace()
    value = canonical(value)
    if isinstance(value, str):
        return not value.strip()
    return value is NOTHING or (kind(value) in ("list", "record") and not holds(value))
