"""Parts of a page whose form is the same in all messages: blocks, with slots for the texts that are not, and for what
the data decide of as a whole."""

from __future__ import annotations

from typing import TypeAlias

from pribble.plaintext.blocks import Block, BlockGroup, List, ListItem, Rows, Table
from pribble.plaintext.elements import Inherited
from pribble.plaintext.events import TextEvent
from pribble.plaintext.known_tables import Columns, KnownTable
from pribble.records import field, record


@record(frozen=True, slots=True)
class TextSlot:
    """A paragraph whose text is put in."""

    index: int
    level: int = 0


@record(frozen=True, slots=True)
class PatternPart:
    """Events that are put in, and what they inherit; `section` is that of the table whose rows they are.

    With `run`, there are columns of texts instead of events: those of the cells of rows that all have the form of that
    one, and belong to that section.
    """

    index: int
    inherited: Inherited
    level: int = 0
    section: str = ""
    run: tuple[str, Rows] | None = None


@record(frozen=True, slots=True)
class RowPattern:
    """A row like `of`; a cell is a text, blocks with slots among them, or the index of the only text in it."""

    of: Rows
    cells: list[PatternCell]


@record(frozen=True, slots=True)
class Pattern:
    """Blocks with slots among them: what stands in a group, list, item or table like `of`, or, with None, one after the
    other.

    `rows` are those of a table, with the section they stand in; `below` is whether an empty line follows.  `known` is a
    table of data of which more is known, and which of the texts are those of its run of rows.
    """

    of: BlockGroup | List | ListItem | Table | None = None
    blocks: list[PlacedPattern] = field(default_factory=list)
    rows: list[PatternRow] = field(default_factory=list)
    below: bool = False
    known: tuple[int, KnownTable] | None = None


# Whether an empty line stands before a block, and the block; what a cell holds; a row and its section.
PlacedPattern = tuple[bool, Block | TextSlot | Pattern | PatternPart]
PatternCell = str | int | list[PlacedPattern]
PatternRow = tuple[str, Rows | RowPattern | PatternPart]


# What a program gives for the text: events, patterns, and several events of one value.
FilledEvent: TypeAlias = "TextEvent | Filled | list[TextEvent]"
# What is put into slots: texts as they come, white space not collapsed yet, and the events of parts, or their columns.
Texts: TypeAlias = tuple[str | list[FilledEvent] | Columns, ...]
# A pattern, and what is put into its slots.
Filled: TypeAlias = tuple[Pattern, Texts]
