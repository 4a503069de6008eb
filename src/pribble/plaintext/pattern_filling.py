"""A template's events become blocks: patterns, into which texts and parts are put, and among them events of a page."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Self, cast

from pribble.plaintext import characters as chars
from pribble.plaintext.blocks import (
    BlockGroup,
    Content,
    LaidTable,
    List,
    ListItem,
    Paragraph,
    Placed,
    Rows,
    Table,
    reduced,
)
from pribble.plaintext.flow import Flow
from pribble.plaintext.known_tables import Columns
from pribble.plaintext.links import Links
from pribble.plaintext.patterns import (
    FilledEvent,
    Pattern,
    PatternPart,
    PlacedPattern,
    RowPattern,
    Texts,
    TextSlot,
)


def fill_patterns(events: Iterable[FilledEvent], width: int) -> list[Placed]:
    """Returns the blocks of a rendered template, for lines of so many columns; several events may come as one list."""
    return Filling(width).read(events).finished()


class Filling(Flow):
    """Reads the events of a template's text program."""

    def __init__(self, width: int) -> None:
        super().__init__(Links())
        self.width = width

    def read(self, events: Iterable[FilledEvent]) -> Self:
        for event in events:
            if isinstance(event, tuple):
                self.fill(*event)
            elif isinstance(event, list):
                self.read(event)
            else:
                self.event(event)
        return self

    def fill(self, pattern: Pattern, texts: Texts) -> None:
        """A part of the page whose form is known: its texts and parts put in."""
        self.flush()
        self._place(pattern.blocks, texts)
        for section, row in pattern.rows:
            self._place_row(section, row, texts)
        self.pending |= pattern.below

    def _place(self, blocks: Iterable[PlacedPattern], texts: Texts) -> None:
        for apart, block in blocks:
            if apart:
                self.pending = True
            if isinstance(block, TextSlot):
                text = _text_of(texts, block.index)
                if chars.is_plain_paragraph(text):
                    self.into[-1].append((self.pending, Paragraph(text, block.level)))
                    self.pending = False
                else:
                    self._paragraph(text, block.level)
            elif isinstance(block, Pattern):
                self._place_group(block, texts)
            elif isinstance(block, PatternPart):
                self._place_part(block, texts)
            else:
                self.add(block)

    def _place_part(self, part: PatternPart, texts: Texts) -> None:
        """The events of a part, as it stands in the page around it."""
        if part.run is not None:
            self._place_run(*part.run, _columns_of(texts, part.index))
            return
        events = cast("list[FilledEvent]", texts[part.index])
        before = self.inherited, self.level
        self.inherited, self.level = part.inherited, part.level
        table = self.tables[-1]
        if table is not None:
            table.section = part.section
        self.read(events)
        self.flush()
        self._end_row()
        self.inherited, self.level = before

    def _place_group(self, pattern: Pattern, texts: Texts) -> None:
        """A group, list, item or table with texts to be put in: a new one like it."""
        if pattern.known is not None and len(self.into) == 1:
            index, table = pattern.known
            lines = table.lines(_columns_of(texts, index), texts, self.width)
            if lines is not None:
                self.add(LaidTable(lines))
                self.pending = True
                return
        match pattern.of:
            case Table(arranging=arranging, caption=caption):
                self._enter_table(Table(arranging, caption=caption))
                for section, row in pattern.rows:
                    self._place_row(section, row, texts)
                self._pop_table()
                return
            case BlockGroup(kind=kind):
                self._enter(group := BlockGroup(kind), group.blocks)
            case List(marker=marker, start=start, step=step):
                self._enter(listed := List(marker, start, step), listed.blocks)
            case ListItem(value=value, marker=own):
                self._enter(item := ListItem([], value, own), item.blocks)
        self._place(pattern.blocks, texts)
        self._pop()

    def _place_row(self, section: str, row: Rows | RowPattern | PatternPart, texts: Texts) -> None:
        if isinstance(row, PatternPart):
            self._place_part(row, texts)
            return
        table = self.tables[-1]
        assert table is not None
        if isinstance(row, RowPattern):
            row = Rows(row.of.form, [self._cells(row, texts)], row.of.head)
        table.add(row, section)
        self.pending = True

    def _cells(self, pattern: RowPattern, texts: Texts) -> list[Content]:
        contents: list[Content] = []
        for content in pattern.cells:
            if isinstance(content, int):
                text = _text_of(texts, content)
                contents.append(text if chars.is_plain_paragraph(text) else _tidied_cell(text))
            elif isinstance(content, str):
                contents.append(content)
            else:
                blocks: list[Placed] = []
                self._push(blocks)
                self.pending = True
                self._place(content, texts)
                self._pop()
                contents.append(reduced(blocks))
        return contents

    def _place_run(self, section: str, like: Rows, columns: Columns) -> None:
        """Rows of one form, from the texts in their columns."""
        if not columns.texts[0]:
            return
        self.flush()
        table = self.tables[-1]
        assert table is not None
        flat = columns.are_flat
        cells: list[Sequence[Content]] = [
            row if flat else [*map(_tidied_cell, row)] for row in zip(*columns.texts, strict=True)
        ]
        table.add(Rows(like.form, cells, like.head, flat, columns.are_narrow), section)
        self.pending = True


def _columns_of(texts: Texts, index: int) -> Columns:
    return cast("Columns", texts[index])


def _text_of(texts: Texts, index: int) -> str:
    text = texts[index]
    assert isinstance(text, str)
    return text


def _tidied_cell(text: str) -> str:
    made = chars.tidy(text)
    return "" if chars.is_blank(made) else made
