"""A template's events become blocks: patterns, into which texts and parts are put, and among them events of a page."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Self, cast

from pribble.plaintext import characters as chars
from pribble.plaintext.blocks import BlockGroup, Content, List, ListItem, Paragraph, Placed, Rows, Table, reduced
from pribble.plaintext.flow import Flow
from pribble.plaintext.line_breaking import is_narrow
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


def fill_patterns(events: Iterable[FilledEvent]) -> list[Placed]:
    """Returns the blocks of a rendered template; several events may come as one list."""
    return Filling(Links()).read(events).finished()


class Filling(Flow):
    """Reads the events of a template's text program."""

    def read(self, events: Iterable[FilledEvent]) -> Self:
        run: Pattern | None = None  # a row with slots for its cells, of which one follows the other
        rows: list[Texts] = []
        for event in events:
            if isinstance(event, tuple):
                pattern, texts = event
                if pattern is run:
                    rows.append(texts)
                elif pattern.is_row:
                    run, rows = pattern, self._run(pattern, texts)
                else:
                    run = None
                    self.fill(pattern, texts)
                continue
            run = None
            if isinstance(event, list):
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
        events = texts[part.index]
        assert isinstance(events, list)
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

    def _run(self, pattern: Pattern, texts: Texts) -> list[Texts]:
        """Returns the first of a run of rows, to which the others are added as they come; all that is put in are
        texts."""
        self.flush()
        table, (section, row) = self.tables[-1], pattern.rows[0]
        assert table is not None and isinstance(row, RowPattern)
        cells = [texts]
        rows = Rows(row.of.form, cast("list[Sequence[Content]]", cells), row.of.head)
        table.add(rows, section)
        table.runs.append(rows)
        self.pending = True
        return cells

    def _pop_table(self) -> None:
        table = self.tables[-1]
        for rows in table.runs if table is not None else ():
            joined = chars.joined_rows(rows.cells)  # type: ignore[arg-type]
            rows.flat, rows.narrow = chars.are_tidy(joined), is_narrow(joined)
            if not rows.flat:
                rows.cells = [[_tidied_cell(cast("str", text)) for text in cells] for cells in rows.cells]
        super()._pop_table()


def _text_of(texts: Texts, index: int) -> str:
    text = texts[index]
    assert isinstance(text, str)
    return text


def _tidied_cell(text: str) -> str:
    made = chars.tidy(text)
    return "" if chars.is_blank(made) else made
