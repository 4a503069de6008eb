"""What a rendering has gone through: turns of loops, items of lists, and what stands within them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextvars import ContextVar

from pribble.errors import LimitReached
from pribble.values.kinds import Data, canonical, field_names, kind

# No text that a formatter makes of several values is longer, unless it says so.
LONGEST_TEXT = 1_000_000
# The cell of a table that is shown just now, in words.
CELL: ContextVar[str] = ContextVar("cell", default="")
# What is left of `Limits.turns`, in a list of one, since everything that counts shares it.
Turns = list[int]


def count_items(turns: Turns, number: int) -> None:
    """Count so many more; raises `LimitReached` where they are more than is permitted."""
    turns[0] -= number
    if turns[0] < 0:
        raise LimitReached(
            "more turns of loops, or more items gone through, than are permitted",
            hint="Limits(turns=…) of the template folder permits more",
        )


def join_counted(pieces: Iterable[str], what: str, longest: int = LONGEST_TEXT) -> str:
    """Returns pieces of what a formatter makes as one text; raises `LimitReached` as soon as they are too long."""
    made, room = [], longest
    for piece in pieces:
        room -= len(piece)
        if room < 0:
            raise LimitReached(f"{what} makes a text of more than {longest:,} characters")
        made.append(piece)
    return "".join(made)


def record_items(value: Data) -> Mapping[str, Data] | None:
    """Returns the fields of a record; None for any other value."""
    value = canonical(value)
    if isinstance(value, Mapping):
        return value
    if kind(value) == "record":
        return {name: getattr(value, name) for name in field_names(value) or ()}
    return None


def within(value: Data) -> list[Data]:
    """Returns what stands in a list or record, each item and field; nothing in any other value."""
    value = canonical(value)
    match kind(value):
        case "list":
            return list(value)
        case "record":
            return list((record_items(value) or {}).values())
    return []


def visited(turns: Turns, value: Data) -> Data:
    """Returns `value`; all that stands in it counts, and what stands in it twice counts twice."""
    waiting = within(value)
    while waiting:
        count_items(turns, 1)
        waiting += within(waiting.pop())
    return value


def frozen(turns: Turns, value: Data) -> tuple[Data, ...]:
    """Returns what is the same of two values if they are equal, and can be looked up; all that stands in them
    counts."""
    made: list[Data] = []
    waiting = [value]
    while waiting:
        count_items(turns, 1)
        value = canonical(waiting.pop())
        what = kind(value)
        match what:
            case "list":
                made.append((what, len(value)))
                waiting += value
            case "record":
                found = record_items(value) or {}
                names = sorted(found, key=str)
                made.append((what, *names))
                waiting += [found[name] for name in names]
            case _:
                made.append((what, value))
    return tuple(made)
