"""Comments in header fields (RFC 5322 3.2.2), which may be nested, and stand in no quoted string."""

from __future__ import annotations

import re
from bisect import bisect_right
from typing import NamedTuple

from pribble.regexes import regex

_OUTSIDE = regex(r'\\.|\(|"(?:[^"\\]|\\.)*+"', re.DOTALL)
_INSIDE = regex(r"\\.|[()]", re.DOTALL)


class Commented(NamedTuple):
    """A field's value: what stands `outside` of comments, with a space for each character that does not, where the
    comments are, and where one begins that is not `closed`, None for nowhere."""

    outside: str
    comments: tuple[tuple[int, int], ...]
    unclosed: int | None

    def holds(self, offset: int) -> bool:
        """Returns whether what stands at an offset is in a comment."""
        index = bisect_right(self.comments, (offset, len(self.outside))) - 1
        return index >= 0 and offset < self.comments[index][1]

    def inside(self, text: str) -> str:
        """Returns `text`, which was read, with a space for each character that is in no comment."""
        made, position = [], 0
        for start, end in self.comments:
            made += [" " * (start - position), text[start:end]]
            position = end
        return "".join(made) + " " * (len(text) - position)


def read_comments(text: str) -> Commented:
    """Returns the comments of a field's value; one that is not closed goes on to the end."""
    comments: list[tuple[int, int]] = []
    depth = position = begin = 0
    while found := (_INSIDE if depth else _OUTSIDE).search(text, position):
        position = found.end()
        if found[0] == "(":
            begin = begin if depth else found.start()
            depth += 1
        elif found[0] == ")":
            depth -= 1
            if not depth:
                comments.append((begin, position))
    if depth:
        comments.append((begin, len(text)))
    kept, position = [], 0
    for start, end in comments:
        kept += [text[position:start], " " * (end - start)]
        position = end
    return Commented("".join(kept) + text[position:], tuple(comments), begin if depth else None)


def without_comments(text: str) -> str:
    """Returns `text` with spaces for its comments."""
    return read_comments(text).outside if "(" in text else text
