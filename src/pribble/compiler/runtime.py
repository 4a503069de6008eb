"""The functions that programs call by name."""

from __future__ import annotations

from collections.abc import Sized
from typing import TypeVar

from pribble.errors import LimitReached
from pribble.mime.flowed import SIGNATURE
from pribble.values import arithmetic, escaping, lookup
from pribble.values.counting import Turns, count_items, visited
from pribble.values.kinds import NOTHING, Data

_Sized = TypeVar("_Sized", bound=Sized)


def count_turns(turns: Turns, value: Data) -> Data:
    """Returns `value`; the items of a list, or of what stands for one, count as turns."""
    if isinstance(value, (list, tuple, dict)) or (hasattr(value, "__len__") and not isinstance(value, (str, bytes))):
        count_items(turns, len(value))
    return value


def output_full() -> None:
    """Raises `LimitReached`: the program makes more than is permitted."""
    raise LimitReached(
        "more characters than are permitted in one form of a message",
        hint="Limits(output=…) of the template folder permits more",
    )


def count_output(room: list[int], value: _Sized) -> _Sized:
    """Returns `value`, a piece of what the program makes; its length counts."""
    room[0] -= len(value)
    if room[0] < 0:
        output_full()
    return value


def count_kept(room: list[int], value: Data) -> Data:
    """Returns `value`, which a name keeps: a text or list counts by its length."""
    return count_output(room, value) if isinstance(value, (str, list)) else value


# What a style may hold and still say nothing.
BLANK_STYLE = "; \t\n\f\r"


def unless_blank(held: list[str], before: str, after: str) -> list[str]:
    """Returns what was held, between `before` and `after`; nothing where it is empty."""
    empty = all(piece.__class__ is str and not piece.strip(BLANK_STYLE) for piece in held)
    return [] if empty else [before, *held, after]


def trim_lines(pieces: list[str]) -> str:
    """Returns the lines of a plain text without spaces at their ends, and without empty lines at its own."""
    lines = [line if line == SIGNATURE else line.rstrip() for line in "".join(pieces).split("\n")]
    return "\n".join(lines).strip("\n") + "\n"


RUNTIME_FUNCTIONS: dict[str, Data] = {
    "NOTHING": NOTHING,
    "special": escaping.find_special,
    "walked": count_turns,
    "visited": visited,
    "kept": count_output,
    "output_full": output_full,
    "kept_value": count_kept,
    "filled": unless_blank,
    "trimmed": trim_lines,
    "read": lookup.read_field,
    "read_maybe": lookup.read_maybe,
    "item": lookup.item,
    "item_maybe": lambda value, key, where: lookup.item(value, key, where, maybe=True),
    "or_nothing": lambda value: NOTHING if value is None else value,
    "items": lookup.items,
    "pairs": lookup.pairs,
    "each": lambda items, path: items,
    "holds": lookup.holds,
    "absent": lookup.absent,
    "NUMBERS": arithmetic.NUMBERS,
    "exact_add": arithmetic.EXACT["+"],
    "exact_subtract": arithmetic.EXACT["-"],
    "exact_multiply": arithmetic.EXACT["*"],
    "negative": arithmetic.negative,
    "equal": arithmetic.equal,
    "unequal": lambda turns, left, right: not arithmetic.equal(turns, left, right),
    "less": arithmetic.less,
    "at_most": lambda left, right: arithmetic.less(left, right, or_equal=True),
    "more": lambda left, right: arithmetic.less(right, left),
    "at_least": lambda left, right: arithmetic.less(right, left, or_equal=True),
    "contains": arithmetic.contains,
    "lacks": lambda turns, value, whole: not arithmetic.contains(turns, value, whole),
}
