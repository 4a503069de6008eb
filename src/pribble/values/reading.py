"""Reading JSON as data: numbers exact, every mistake with its place."""

from __future__ import annotations

import json
import re
import sys
from collections import Counter
from decimal import Decimal, InvalidOperation
from typing import NoReturn

from pribble.errors import DataError, Source
from pribble.regexes import regex
from pribble.values.kinds import Data


def read_json(source: Source) -> Data:
    """Returns the data that a JSON text (RFC 8259) holds; fractions are `Decimal`.

    Raises `DataError` with the place of the first mistake; for a name that an object has twice, and for
    the NaN and infinities that some writers put out.
    """

    def constant(name: str) -> NoReturn:
        at = source.text.find(name)
        raise DataError(f"{name} is no JSON", place=source.place(at, at + len(name)), hint="write null")

    def record(pairs: list[tuple[str, Data]]) -> dict[str, Data]:
        made = dict(pairs)
        if len(made) < len(pairs):
            counted = Counter(name for name, _ in pairs)
            twice = next(name for name, count in counted.items() if count > 1)
            raise DataError(f'{source.name}: an object has "{twice}" twice', hint="only one of them could count")
        return made

    def fraction(text: str) -> Decimal:
        try:
            return Decimal(text)
        except InvalidOperation:  # an exponent of more digits than Decimal has
            at = source.text.find(text)
            raise DataError("a number beyond all measure", place=source.place(at, at + len(text))) from None

    try:
        return json.loads(source.text, parse_float=fraction, parse_constant=constant, object_pairs_hook=record)
    except json.JSONDecodeError:
        at, message, hint = _first_mistake(source.text)
        raise DataError(f"this is no JSON: {message}", place=source.place(at, at + 1), hint=hint) from None
    except RecursionError:
        raise DataError(f"{source.name}: lists and objects are nested too deeply") from None
    except ValueError:  # an integer of more digits than Python reads
        most = sys.get_int_max_str_digits()
        digits = (found for found in _TEXT_OR_DIGITS.finditer(source.text) if found[0][0] != '"')
        found = next(found for found in digits if len(found[0]) > most)
        place = source.place(found.start(), found.end())
        raise DataError(f"a number of more than {most:,} digits", place=place, hint="make it a text") from None


_TEXT_OR_DIGITS = regex(r'"(?:[^"\\]|\\.)*+"|[0-9]+', re.DOTALL)
# The grammar of RFC 8259, 2, 6 and 7.
_SPACE = regex(r"[ \t\n\r]*+")
_CHARACTERS = regex(r'"(?:[^"\\\x00-\x1f]|\\(?:["\\/bfnrt]|u[0-9a-fA-F]{4}))*+')
_NUMBER = regex(r"-?(?:0|[1-9][0-9]*+)(?:\.[0-9]++)?(?:[eE][+-]?[0-9]++)?")
_WORD = regex(r"true|false|null")
_CLOSING = {"[": "]", "{": "}"}
# What should follow at a position, in words.
_VALUE, _NAME, _COLON = "a value", "a name in double quotes", 'a ":"'


def _first_mistake(text: str) -> tuple[int, str, str | None]:
    """Returns where a text that is no JSON first leaves its grammar: the position, what is wrong, and a hint.

    Python's own reader says so too, in words and at places that differ between its versions.
    """
    brackets: list[str] = []
    wanted, position, may_close = _VALUE, 0, False
    while True:
        space = _SPACE.match(text, position)
        position = space.end() if space else position
        found = text[position : position + 1]
        if not found:
            hint = None if text.strip() else "there is nothing in it"
            return position, f"it ends where {wanted} should follow", hint
        if brackets and found == _CLOSING[brackets[-1]] and may_close:
            brackets.pop()
            position += 1
        elif wanted is _VALUE and found in _CLOSING:
            brackets.append(found)
            wanted, position, may_close = (_VALUE if found == "[" else _NAME), position + 1, True
            continue
        elif wanted in (_VALUE, _NAME) and found == '"':
            string = _CHARACTERS.match(text, position)
            end = string.end() if string else position
            if text[end : end + 1] != '"':
                return _broken_string(text, position, end)
            position = end + 1
            if wanted is _NAME:
                wanted, may_close = _COLON, False
                continue
        elif wanted is _COLON and found == ":":
            wanted, position = _VALUE, position + 1
            continue
        elif wanted is _VALUE and (value := _NUMBER.match(text, position) or _WORD.match(text, position)):
            position = value.end()
        elif found == "," and brackets and may_close and wanted not in (_VALUE, _NAME):
            wanted, position, may_close = (_VALUE if brackets[-1] == "[" else _NAME), position + 1, False
            continue
        else:
            return position, f"{wanted} should stand here", None if may_close else _HINTS.get(found)
        # A value has ended.
        wanted, may_close = (f'"," or "{_CLOSING[brackets[-1]]}"' if brackets else "the end"), True


_HINTS = {"'": "texts stand in double quotes", "]": "no comma before it", "}": "no comma before it"}


def _broken_string(text: str, start: int, end: int) -> tuple[int, str, str | None]:
    """Returns why the string that begins at `start` does not go on at `end`."""
    if end == len(text):
        return start, "this text is not closed", None
    if text[end] == "\\":
        return end, "this escape is none", "write \\\\ for a backslash"
    return end, "a control character in a text", "a line break is written \\n"
