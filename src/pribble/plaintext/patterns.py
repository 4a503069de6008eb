"""Parts of a page whose form is the same in all messages: blocks, with slots for the texts that are not, and for what
the data decide of as a whole."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from pribble.plaintext.blocks import Block, Rows
from pribble.plaintext.elements import Inherited


@dataclass(frozen=True, slots=True)
class TextSlot:
    """A paragraph whose text is put in."""

    index: int
    level: int = 0


@dataclass(frozen=True, slots=True)
class PatternPart:
    """Events that are put in, and what they inherit; `section` is that of the table whose rows they are."""

    index: int
    inherited: Inherited
    level: int = 0
    section: str = ""


@dataclass(frozen=True, slots=True)
class Pattern:
    """Blocks with slots among them: what stands in a group, list, item, table or row like `of`, or, with None, one
    after the other.

    Of a row `blocks` are the contents of its cells, a number being the index of a cell's only text.  `rows` are those
    of a table, with the section they stand in; `below` is whether an empty line follows.  `is_row` is a row by itself
    with nothing but such numbers in it, in order.
    """

    of: Block | Rows | None = None
    blocks: list[Any] = field(default_factory=list)
    rows: list[tuple[str, Rows | Pattern | PatternPart]] = field(default_factory=list)
    below: bool = False
    is_row: bool = False


# What is put into slots: texts as they come, white space not collapsed yet, and lists of events.
Texts = tuple[Any, ...]


# A pattern, and what is put in.
Filled = tuple[Pattern, Texts]
