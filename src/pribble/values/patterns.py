"""Patterns for days and times, cut into fields and the texts between them (UTS 35, part 4, 8)."""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.errors import FieldError

# A run of one letter, a text in quotes ('' is a quote, in quotes and outside), or one other character.
ITEM = re.compile(
    r"(?P<field>(?P<letter>[A-Za-z])(?P=letter)*+)|'(?P<quoted>(?:[^']|'')*+)'|(?P<open>')|(?P<other>.)", re.S
)


def cut_pattern(pattern: str) -> Iterator[tuple[bool, str]]:
    """A pattern as its fields (True) and the texts between them (False); raises `FieldError` for an open quote."""
    for item in ITEM.finditer(pattern):
        if item["field"]:
            yield True, item["field"]
        elif item["open"]:
            raise FieldError("a single quote in the pattern is not closed", hint="'' is a quote")
        else:
            yield False, item["other"] or item["quoted"].replace("''", "'") or "'"
