"""What a page says, with nothing of markup left: paragraphs, lists, quotes, tables within each other."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Literal, NamedTuple

from pribble.records import field, record

# Whether an empty line stands before a block, and the block.
Placed = tuple[bool, "Block"]
# The lines of a block by their width, where they are the same in all messages; else None.
Laid = dict[int, list[str]] | None


@record(slots=True)
class Paragraph:
    """Running text, tidied; `level` is that of a heading, 0 for none."""

    text: str
    level: int = 0
    laid: Laid = None


@record(slots=True)
class HorizontalRule:
    """A line across."""


@record(slots=True)
class BlockGroup:
    """Blocks within a block."""

    kind: Literal["quote", "indent"]
    blocks: list[Placed] = field(default_factory=list)
    laid: Laid = None


@record(slots=True)
class ListItem:
    """An item of a list; `value` where it says its own number, `marker` where it says its own kind."""

    blocks: list[Placed] = field(default_factory=list)
    value: int | None = None
    marker: str | None = None


@record(slots=True)
class List:
    """A list; what stands in it is an item, or a block of its own.

    `marker` is the kind of its markers, as ``list-style-type`` has it; `start` is None for a reversed list whose
    numbers end at 1.
    """

    marker: str
    start: int | None = 1
    step: int = 1
    blocks: list[Placed] = field(default_factory=list)
    laid: Laid = None


@record(frozen=True, slots=True)
class TableShape:
    """What a cell says of itself."""

    header: bool = False
    columns: int = 1
    rows: int = 1


class RowForm:
    """The shapes of a row's cells, and what follows from them where no cell from above reaches into the row: `places`,
    the columns at which they begin; `width`, how many columns there are; `even`, whether each is one column; `header`,
    whether all are header cells; `reaching`, whether one reaches into the rows below."""

    __slots__ = ("even", "header", "places", "reaching", "shapes", "width")

    def __init__(self, shapes: tuple[TableShape, ...]) -> None:
        self.shapes = shapes
        places, at = [], 0
        for shape in shapes:
            places.append(at)
            at += shape.columns
        self.places, self.width, self.even = tuple(places), at, at == len(shapes)
        self.header = bool(shapes) and all(shape.header for shape in shapes)
        self.reaching = any(shape.rows > 1 for shape in shapes)


@lru_cache(maxsize=1024)
def row_form(*shapes: TableShape) -> RowForm:
    """Returns the form of rows with these shapes."""
    return RowForm(shapes)


# What a cell holds: one paragraph's text, or blocks.
Content = str | list[Placed]


class RowLines(NamedTuple):
    """The lines of a stretch, each a text for each cell, how many of them each row has, and whether each character is
    one column wide."""

    texts: list[Sequence[str]]
    heights: list[int]
    narrow: bool


@record(slots=True)
class Rows:
    """Rows of one form; `head` where they stand in the head of the table, `flat` where each cell
    is known to be a text of one line, `narrow` where each character of it is one column wide."""

    form: RowForm
    cells: list[Sequence[Content]]
    head: bool = False
    flat: bool = False
    narrow: bool = False
    laid: dict[int, RowLines] | None = None


@record(slots=True)
class Table:
    """A table; `arranging` where it says of itself that it only arranges."""

    arranging: bool
    rows: list[Rows] = field(default_factory=list)
    feet: list[Rows] = field(default_factory=list)
    caption: list[Placed] = field(default_factory=list)
    laid: Laid = None


@record(slots=True)
class LaidTable:
    """The lines of a table that was laid out before the page was."""

    lines: list[str]


Block = LaidTable | Paragraph | HorizontalRule | BlockGroup | ListItem | List | Table


def inner_blocks(content: Content) -> list[Placed]:
    """Returns what a cell holds, as blocks, the first of them apart."""
    if isinstance(content, str):
        return [(True, Paragraph(content))] if content else []
    return [(apart or not number, block) for number, (apart, block) in enumerate(content)]


def reduced(blocks: list[Placed]) -> Content:
    """Returns the content of a cell: the text of the only paragraph, else the blocks."""
    if not blocks:
        return ""
    if len(blocks) == 1 and isinstance(block := blocks[0][1], Paragraph) and not block.level:
        return block.text
    return blocks
