"""Comments in header fields (RFC 5322 3.2.2), which may be nested, and stand in no quoted string."""

from __future__ import annotations

import re

_TURN = re.compile(r'\\.|[()]|"(?:[^"\\]|\\.)*"', re.DOTALL)


def without_comments(text: str) -> str:
    """`text` with a space for each comment; one that is not closed goes on to the end."""
    if "(" not in text:
        return text
    kept: list[str] = []
    depth = position = 0
    for found in _TURN.finditer(text):
        if found[0] == "(":
            if not depth:
                kept.append(text[position : found.start()])
            depth += 1
        elif found[0] == ")" and depth:
            depth -= 1
            if not depth:
                kept.append(" ")
                position = found.end()
    return "".join(kept) + ("" if depth else text[position:])
