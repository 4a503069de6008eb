"""A template's events become blocks: patterns, into which texts and parts are put, and among them events of a page."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, Self

from pribble.plaintext import characters as chars
from pribble.plaintext.blocks import BlockGroup, Content, List, ListItem, Paragraph, Placed, Rows, Table, reduced
from pribble.plaintext.flow import Flow
from pribble.plaintext.line_breaking import is_narrow
from pribble.plaintext.links import Links
from pribble.plaintext.patterns import Pattern, PatternPart, Texts, TextSlot


def fill_patterns(events: Iterable[Any]) -> list[Placed]:
    """The blocks of a rendered template; several events may come as one tuple."""
    return Filling(Links()).read(events).finished()


class Filling(Flow):
    """Reads the events of a template's text program."""

    def read(self, events: Iterable[Any]) -> Self:
        run: Pattern | None = None  # a row with slots for its cells, of which one follows the other
        rows: list[Sequence[Content]] = []
        for event in events:
            if event.__class__ is tuple:
                first = event[0]
                if first is run:
                    rows.append(event[1])
                elif first.__class__ is not Pattern:
                    run = None
                    self.read(event)
                elif first.is_row:
                    run, rows = first, self._run(*event)
                else:
                    run = None
                    self.fill(*event)
                continue
            run = None
            self.event(event)
        return self

    def fill(self, pattern: Pattern, texts: Texts) -> None:
        """A part of the page whose form is known: its texts and parts put in."""
        self.flush()
        self._place(pattern.blocks, texts)
        for section, row in pattern.rows:
            self._place_row(section, row, texts)
        self.pending |= pattern.below

    def _place(self, blocks: Iterable[Any], texts: Texts) -> None:
        for apart, block in blocks:
            if apart:
                self.pending = True
            kind = block.__class__
            if kind is TextSlot:
                text = texts[block.index]
                if chars.is_plain_paragraph(text):
                    self.into[-1].append((self.pending, Paragraph(text, block.level)))
                    self.pending = False
                else:
                    self._paragraph(text, block.level)
            elif kind is Pattern:
                self._place_group(block, texts)
            elif kind is PatternPart:
                self._place_part(block, texts[block.index])
            else:
                self.add(block)

    def _place_part(self, part: PatternPart, events: Iterable[Any]) -> None:
        """What the data decide of, as it stands in the page around it."""
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

    def _place_row(self, section: str, row: Rows | Pattern | PatternPart, texts: Texts) -> None:
        table = self.tables[-1]
        assert table is not None
        kind = row.__class__
        if kind is PatternPart:
            self._place_part(row, texts[row.index])  # type: ignore[arg-type, union-attr]
            return
        if kind is Pattern:
            of = row.of  # type: ignore[union-attr]
            row = Rows(of.form, [self._cells(row, texts)], of.head)  # type: ignore[arg-type, union-attr]
        table.add(row, section)  # type: ignore[arg-type]
        self.pending = True

    def _cells(self, pattern: Pattern, texts: Texts) -> list[Content]:
        contents: list[Content] = []
        for content in pattern.blocks:
            if content.__class__ is int:
                text = texts[content]
                contents.append(text if chars.is_plain_paragraph(text) else _tidied_cell(text))
            elif content.__class__ is str:
                contents.append(content)
            else:
                blocks: list[Placed] = []
                self._push(blocks)
                self.pending = True
                self._place(content, texts)
                self._pop()
                contents.append(reduced(blocks))
        return contents

    def _run(self, pattern: Pattern, texts: Texts) -> list[Sequence[Content]]:
        """The first of a run of rows, to which the others are added as they come."""
        self.flush()
        table, (section, row) = self.tables[-1], pattern.rows[0]
        assert table is not None and isinstance(row, Pattern) and isinstance(row.of, Rows)
        rows = Rows(row.of.form, [texts], row.of.head)
        table.add(rows, section)
        table.runs.append(rows)
        self.pending = True
        return rows.cells

    def _pop_table(self) -> None:
        table = self.tables[-1]
        for rows in table.runs if table is not None else ():
            joined = chars.joined_rows(rows.cells)  # type: ignore[arg-type]
            rows.flat, rows.narrow = chars.are_tidy(joined), is_narrow(joined)
            if not rows.flat:
                rows.cells = [[_tidied_cell(text) for text in cells] for cells in rows.cells]
        super()._pop_table()


def _tidied_cell(text: Any) -> str:
    made = chars.tidy(text)
    return "" if chars.is_blank(made) else made
