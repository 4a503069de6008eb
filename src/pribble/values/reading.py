"""Reading JSON as data: numbers exact, every mistake with its place."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any, NoReturn

from pribble.errors import DataError, Source


def read_json(source: Source) -> Any:
    """The data that a JSON text (RFC 8259) holds; fractions are `Decimal`.

    Raises `DataError` with the place of the first mistake; for a name that an object has twice, and for
    the NaN and infinities that some writers put out.
    """

    def constant(name: str) -> NoReturn:
        at = source.text.find(name)
        raise DataError(f"{name} is no JSON", place=source.place(at, at + len(name)), hint="write null")

    def record(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        made = dict(pairs)
        if len(made) < len(pairs):
            names = [name for name, _ in pairs]
            twice = next(name for name in names if names.count(name) > 1)
            raise DataError(f'{source.name}: an object has "{twice}" twice', hint="only one of them could count")
        return made

    try:
        return json.loads(source.text, parse_float=Decimal, parse_constant=constant, object_pairs_hook=record)
    except json.JSONDecodeError as error:
        at = min(error.pos, len(source.text))
        hint = "there is nothing in it" if not source.text.strip() else None
        raise DataError(
            f"this is no JSON: {error.msg[:1].lower()}{error.msg[1:]}", place=source.place(at, at + 1), hint=hint
        ) from None
    except RecursionError:
        raise DataError(f"{source.name}: lists and objects are nested too deeply") from None
    except ValueError as error:  # an integer of more digits than Python reads
        raise DataError(f"{source.name}: {error}") from None
