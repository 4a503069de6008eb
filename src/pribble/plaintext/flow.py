"""Events of a page become blocks: paragraphs, headings, lists, tables.

What a page does not show is not said.  White space collapses, elements are blocks or stand in a line, and blocks stand
apart, as the page's style sheets have it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple, Self

from pribble.plaintext import characters as chars
from pribble.plaintext.blocks import (
    Block,
    BlockGroup,
    Content,
    HorizontalRule,
    Paragraph,
    Placed,
    Rows,
    Table,
    TableShape,
    inner_blocks,
    reduced,
    row_form,
)
from pribble.plaintext.elements import (
    APART,
    HEADINGS,
    LISTS,
    PREFORMATTED,
    TABLE_PARTS,
    Inherited,
    indexed,
    inherit,
    is_block,
    is_unsaid,
    item_of,
    list_of,
    picture,
    shape_of,
)
from pribble.plaintext.events import Brought, Open, TextEvent
from pribble.plaintext.links import Links

# Lists, quotes and tables within each other beyond this depth are read on one level.
_DEEPEST = 40


class _Span(NamedTuple):
    """Where the text of an open element within a line begins: in which paragraph, at which of its pieces."""

    paragraph: int
    start: int


class _Frame(NamedTuple):
    """What has to be done at the end of an open element."""

    name: str
    ends: str
    inherited: Inherited
    block: bool
    below: bool
    level: int
    span: _Span | None = None
    said: str | None = None


class OpenTable:
    """A table that is being read: its place among its siblings, in which of its sections, its row that is open, with
    the cells so far."""

    def __init__(self, table: Table, index: int = 0, section: str = "") -> None:
        self.table, self.section = table, section
        self.row: Rows | None = None
        self.cells: list[Content] = []
        self.shapes: list[TableShape] = []
        self.index = index

    def add(self, rows: Rows, section: str) -> None:
        """Rows at the end of a section."""
        (self.table.feet if section == "tfoot" else self.table.rows).append(rows)


def flow(events: Iterable[TextEvent], links: Links | None = None) -> list[Placed]:
    """Returns the blocks of a page."""
    return Flow(links or Links()).read(events).finished()


class Flow:
    """Reads events; what it made of them so far."""

    def __init__(self, links: Links) -> None:
        self.body: list[Placed] = []
        self.into: list[list[Placed]] = [self.body]
        self.tables: list[OpenTable | None] = [None]  # the table that is being read in each of them
        self.frames: list[_Frame] = []
        self.inherited = Inherited()
        self.inline: list[str] = []
        self.paragraph = 0
        self.pending = False  # whether an empty line goes before the next block
        self.hidden = 0  # how many elements are open within an unsaid one, itself included
        self.after_pre = False  # whether a line break would be the first thing in a ``pre``
        self.level = 0
        self.links = links

    def read(self, events: Iterable[TextEvent]) -> Self:
        """Read events."""
        for event in events:
            self.event(event)
        return self

    def event(self, event: TextEvent) -> None:
        """Read one event."""
        kind = event.__class__
        if kind is str:
            self.text(event)  # type: ignore[arg-type]
        elif kind is Open:
            self.open(event)  # type: ignore[arg-type]
        elif kind is Brought:
            self.read(event.events())  # type: ignore[union-attr]
        else:
            self.close()

    def finished(self) -> list[Placed]:
        self.flush()
        notes = self.links.notes()
        self.body += [(number == 0, Paragraph(note)) for number, note in enumerate(notes)]
        return self.body

    # -- running text --

    def text(self, text: str) -> None:
        if self.hidden or not text:
            return
        if self.after_pre:  # the tree builder drops it (WHATWG HTML 13.2.6.4.7)
            self.after_pre = False
            text = re.sub(r"\A(?:\r\n|[\r\n])", "", text)
        now = self.inherited
        # A font size of zero hides a text as well as visibility does: hand-made preheaders use it.
        if not (now.visible and now.sized):
            return
        if now.collapse == "collapse":
            made = chars.collapse_running(text) if now.wrap else chars.bound(chars.collapse_running(text))
        elif now.collapse == "preserve":
            made = chars.keep_spaces(text, breaking=now.wrap)
        else:
            made = chars.keep_lines(text)
        if made:
            self.inline.append(made)

    def flush(self) -> None:
        """End the paragraph."""
        if not self.inline:
            return
        text = "".join(self.inline)
        self.inline.clear()
        self.paragraph += 1
        self._paragraph(text, self.level)

    def _paragraph(self, text: str, level: int) -> None:
        if chars.is_blank(text):
            # A paragraph of a no-break space or a line break alone is how old templates make an empty line.
            self.pending = self.pending or _is_spacer(text)
            if self.links.open and chars.PICTURED in text:
                self.links.pictured[-1] = True
        else:
            self.add(Paragraph(chars.tidy(text), level))

    def add(self, block: Block) -> None:
        self.into[-1].append((self.pending, block))
        self.pending = False
        if self.links.open and isinstance(block, Paragraph):
            self.links.said(block)

    # -- elements --

    def open(self, tag: Open) -> None:
        name, style = tag.name, tag.style
        if self.hidden or is_unsaid(tag):
            self.hidden += not tag.void
            return
        self.after_pre = False
        if tag.void:
            self._void(tag)
            return
        before, level = self.inherited, self.level
        block = is_block(name, style)
        below = False
        if block:
            self.flush()
            apart = name in APART
            above, below = (apart if gap is None else gap for gap in (style.above, style.below))
            # Cells that are read one after another (tables that arrange) stand apart as blocks do.
            if name in ("td", "th"):
                above = below = True
            self.pending |= above
        # An li that is displayed inline is one of a row of links: its neighbour must not run together with it.
        beside = not block and (style.display == "inline-block" or name == "li")
        if beside:  # the words of boxes beside each other are apart
            self._space()
        self.inherited = inherit(before, tag)
        span, said = self._open_inline(name, tag)
        ends = self._open_block(name, tag) if block else "space" if beside else ""
        self.frames.append(_Frame(name, ends, before, block, below, level, span, said))

    def close(self) -> None:
        if self.hidden:
            self.hidden -= 1
            return
        self.after_pre = False
        frame = self.frames.pop()
        if frame.span is not None:
            self._close_inline(frame)
        if frame.block:
            self.flush()
            if frame.ends:
                self._close_block(frame.ends)
        elif frame.ends:
            self._space()
        self.pending |= frame.below
        self.inherited, self.level = frame.inherited, frame.level

    def _void(self, tag: Open) -> None:
        match tag.name:
            case "br":
                self.inline.append("\n")
            case "wbr":
                self.inline.append(chars.ZERO_WIDTH_SPACE)
            case "hr":
                self.flush()
                self.pending = True
                self.add(HorizontalRule())
                self.pending = True
            case "img":
                self._picture(tag)
            case "input" if (tag.attributes.get("type") or "").lower() == "image":
                self._picture(tag)

    def _picture(self, tag: Open) -> None:
        if not self.inherited.visible:
            return
        # A picture as a block is a line of its own, but for one in a link, whose label it is.
        alone = tag.style.display == "block" and not self.links.open
        if alone:
            self.flush()
            self.pending |= bool(tag.style.above)
        self.inline.append(self.picture(tag.attributes.get("alt")))
        if alone:
            self.flush()
            self.pending |= bool(tag.style.below)

    def picture(self, alt: str | None) -> str:
        """Returns the words for a picture."""
        return picture(alt)

    def _space(self) -> None:
        self.inline.append(" ")

    # -- within a line --

    def _open_inline(self, name: str, tag: Open) -> tuple[_Span | None, str | None]:
        span = _Span(self.paragraph, len(self.inline))
        match name:
            case "a":
                self.links.enter()
                return span, tag.attributes.get("href")
            case "sup" | "sub":
                return span, None
            case "abbr" | "acronym":
                return span, tag.attributes.get("title")
            case "q" if self.inherited.visible and self.inherited.sized:
                self.inline.append("“")
                return span, None
            case "rt" if self.inherited.visible and self.inherited.sized:
                self.inline.append("(")
                return span, None
        return None, None

    def _close_inline(self, frame: _Frame) -> None:
        assert frame.span is not None
        # The element began in an earlier paragraph: its text here begins where this one does.
        start = frame.span.start if frame.span.paragraph == self.paragraph else 0
        match frame.name:
            case "q":
                self.inline.append("”")
            case "rt":
                self.inline.append(")")
            case "a":
                self._end_link(start, frame.said)
            case _:
                label = "".join(self.inline[start:])
                self.inline[start:] = [self.sense(frame.name, label, frame.said)]

    def _end_link(self, start: int, href: str | None) -> None:
        label = "".join(self.inline[start:])
        # A link around blocks (a whole card) has no label of its own: its address goes behind the last paragraph in it.
        before, pictured = self.links.leave()
        if before is not None and chars.is_blank(label):  # the label was a block of its own
            self.links.linked_block(before, href)
        else:
            label += chars.PICTURED if pictured and not label else ""
            self.inline[start:] = [self.linked(label, href)]

    def linked(self, label: str, href: str | None) -> str:
        """Returns the text of a link."""
        return self.links.linked(label, href)

    def sense(self, name: str, label: str, title: str | None) -> str:
        """Returns the text of an element that says something of it."""
        if name in ("sup", "sub"):
            return indexed(name, label)
        text = label.strip(" ")
        return label + self.links.explained(text, title) if text else label

    # -- blocks --

    def _open_block(self, name: str, tag: Open) -> str:
        deep = len(self.into) >= _DEEPEST
        if name in HEADINGS:
            self.level = int(name[1])
        elif name in PREFORMATTED:
            self.after_pre = True
        elif name == "table":
            # Depth is bounded because layout goes through blocks by recursion.
            return "" if deep else self._open_table(tag)
        elif name in TABLE_PARTS:
            return self._open_part(name, tag)
        elif deep:
            return ""
        elif name in LISTS:
            return self._enter(listed := list_of(tag, self.inherited.marker), listed.blocks)
        elif name == "li":
            return self._enter(item := item_of(tag), item.blocks)
        elif name == "blockquote":
            return self._enter(quote := BlockGroup("quote"), quote.blocks)
        elif name == "dd":
            return self._enter(indented := BlockGroup("indent"), indented.blocks)
        return ""

    def _enter(self, block: Block, blocks: list[Placed]) -> str:
        self.add(block)
        self._push(blocks)
        return "blocks"

    def _push(self, blocks: list[Placed], table: OpenTable | None = None) -> None:
        self.into.append(blocks)
        self.tables.append(table)

    def _pop(self) -> list[Placed]:
        self.tables.pop()
        return self.into.pop()

    def _close_block(self, ends: str) -> None:
        match ends:
            case "blocks":
                self._pop()
            case "table":
                self._pop_table()
            case "cell":
                content = reduced(self._pop())
                table = self.tables[-1]
                assert table is not None and table.row is not None
                table.cells.append(content)
                if self.links.open and content.__class__ is str:
                    self.links.reduced(table.cells)
            case "row":
                self._end_row()
            case "section":
                self._end_row()
                if self.tables[-1] is not None:
                    self.tables[-1].section = ""

    # -- tables --

    def _open_table(self, tag: Open) -> str:
        role = (tag.attributes.get("role") or "").strip().lower()
        return self._enter_table(Table(role in ("presentation", "none")))

    def _enter_table(self, table: Table) -> str:
        self.add(table)
        # Text that is in a table and in no cell is not lost: it goes where the table stands.
        self._push(self.into[-1], OpenTable(table, len(self.into[-1]) - 1))
        return "table"

    def _open_part(self, name: str, tag: Open) -> str:
        table = self.tables[-1]
        if table is None:
            return ""
        if name in ("tbody", "thead", "tfoot"):
            self._end_row()
            table.section = name
            return "section"
        if name == "tr":
            self._end_row()
            self._start_row(table)
            return "row"
        if name == "caption" and not table.table.caption:
            self._push(table.table.caption)
            return "blocks"
        if name in ("td", "th"):
            if table.row is None:
                self._start_row(table)
            table.shapes.append(shape_of(tag))
            self._push([])
            return "cell"
        return ""

    def _start_row(self, table: OpenTable) -> None:
        table.cells, table.shapes = [], []
        table.row = Rows(row_form(), [table.cells], table.section == "thead")
        table.add(table.row, table.section)

    def _end_row(self) -> None:
        table = self.tables[-1]
        if table is not None and table.row is not None:
            table.row.form = row_form(*table.shapes)
            table.row = None

    def _pop_table(self) -> None:
        """The end of a table."""
        self._end_row()  # one of cells that stand in no row, within another element
        table = self.tables[-1]
        self._pop()
        # A table of one column arranges and says nothing: what its cells hold takes its place.
        if table is not None and not self.links.open and self.is_wrapper(table.table):
            self.into[-1][table.index : table.index + 1] = _cell_contents(table.table)

    def is_wrapper(self, table: Table) -> bool:
        """Returns whether a table has one cell a row, and so can do nothing but arrange them."""
        return all(rows.form.width == 1 for rows in (*table.rows, *table.feet))


def _cell_contents(table: Table) -> list[Placed]:
    """Returns what the cells of a table hold."""
    made = list(table.caption)
    for rows in (*table.rows, *table.feet):
        for (content,) in rows.cells:
            made += inner_blocks(content)
    return made


def _is_spacer(text: str) -> bool:
    """Returns whether a paragraph without a word makes an empty line all the same."""
    return any(character in text for character in ("\n", "\u00a0", chars.KEPT_BREAK))
