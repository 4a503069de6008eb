"""Edits: what takes the place of stretches of a text, by offsets.

Every pass over a page, a style sheet or a template is a list of edits.  What no edit covers stays as it was written.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Generic, TypeVar

from pribble.records import record

Piece = TypeVar("Piece", covariant=True)


@record(frozen=True, slots=True)
class Edit(Generic[Piece]):
    """`pieces` that take the place of a text from `start` to `end`."""

    start: int
    end: int
    pieces: tuple[Piece, ...]


def spliced(edits: Iterable[Edit[Piece]], start: int, end: int) -> Iterator[tuple[int, int] | Edit[Piece]]:
    """Yields a text from `start` to `end` as the stretches that stay, and the edits between them in their order.

    Insertions go before what is replaced at the same offset.  An edit that begins within another gives way to it.
    """
    position = start
    for edit in sorted(edits, key=_order):
        if edit.start >= position:
            if position < edit.start:
                yield position, edit.start
            yield edit
            position = edit.end
    if position < end:
        yield position, end


def replaced(text: str, edits: Iterable[Edit[str]]) -> str:
    """Returns `text` with edits."""
    parts = spliced(edits, 0, len(text))
    return "".join(["".join(part.pieces) if isinstance(part, Edit) else text[part[0] : part[1]] for part in parts])


def _order(edit: Edit[object]) -> tuple[int, bool, int]:
    return edit.start, edit.start != edit.end, -edit.end
