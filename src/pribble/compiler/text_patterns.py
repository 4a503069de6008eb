"""The parts of a template's text that have the same form in all messages, read into blocks when it is compiled.

An element that is a block becomes a `Pattern`: blocks with slots for the texts that hold a value, and for the parts of
the page that a loop or a choice brings, which are patterned in turn.  The reader of pages itself reads it, private
characters standing for values.
"""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Iterator, Sequence
from typing import cast

from pribble.compiler.mark_analysis import brought_elements
from pribble.compiler.steps import ShowValue
from pribble.compiler.table_patterns import known_table, rows_alone, run_of_rows
from pribble.compiler.text_steps import (
    BeginPart,
    EndPart,
    FillPattern,
    OpenCaptured,
    OpenWithValues,
    TextCall,
    TextFormStep,
    TextParts,
    is_white_space,
)
from pribble.language.linked_source import CLOSE, OPEN, SET, Marker
from pribble.markup.contexts import Context
from pribble.plaintext.blocks import Block, BlockGroup, Content, List, ListItem, Paragraph, Placed, Rows, Table
from pribble.plaintext.elements import is_block, is_unsaid
from pribble.plaintext.events import Close, Open
from pribble.plaintext.flow import Flow, OpenTable
from pribble.plaintext.layout import WIDTH, blocks
from pribble.plaintext.line_breaking import is_narrow
from pribble.plaintext.links import Links
from pribble.plaintext.patterns import (
    Pattern,
    PatternCell,
    PatternPart,
    PatternRow,
    PlacedPattern,
    RowPattern,
    TextSlot,
)
from pribble.records import record, replace
from pribble.regexes import regex

INLINE = Context("inline")
# What stands for a value while a part of a page is read.
_PLACEHOLDER = regex("[\U00100000-\U0010fffd]")
_FIRST_PLACEHOLDER = 0x100000
_MOST_PLACEHOLDERS = 0xFFFD
_UNREADY = regex("[\u200c\u200d\U00100000-\U0010ffff]")
_SPACES = regex(" {2,}")
# Elements of which more than the form depends on what was said before.
_UNPATTERNED = frozenset({"abbr", "acronym"})
_ROWS = frozenset({"tr", "thead", "tbody", "tfoot"})
_NO_PATTERN = frozenset({"td", "th", "caption", "col", "colgroup"})


class NoPattern(Exception):
    """The form depends on the data, at one of the steps."""

    def __init__(self, index: int) -> None:
        super().__init__(index)
        self.index = index


def find_patterns(steps: Sequence[TextFormStep]) -> list[TextFormStep]:
    """Returns `steps`, with the largest parts of the page that have one form as `FillPattern`."""
    patterner = _PatternFinder(steps)
    return [*steps] if patterner.crossed else patterner.between(0, len(steps), Flow(Links()), None)


class _PatternFinder:
    """Finds patterns among steps; `refused` are those at which an attempt failed, which no pattern can hold."""

    def __init__(self, steps: Sequence[TextFormStep]) -> None:
        self.steps = steps
        self.ends: dict[int, int] = {}  # where elements and blocks of marks end, by where they begin
        self.edges: set[int] = set()  # the steps that end a paragraph and begin another
        self.refused: list[int] = []
        self.parts = 0
        self.crossed = False  # whether a branch ends what it did not begin, and begins the like
        self._find_ends()

    def _find_ends(self) -> None:
        elements: list[int] = []
        marks: list[int] = []
        floors = [0]  # how many elements were open where each block began
        for index, step in enumerate(self.steps):
            if isinstance(step, Open | OpenWithValues | OpenCaptured):
                block = is_block(step.name, step.style) and (not step.void or step.name == "hr")
                if block and not is_unsaid(_start_tag(step)):
                    self.edges.add(index)
                if not step.void:
                    elements.append(index)
            elif isinstance(step, Close):
                # A branch that ends an element it did not begin, and begins another like it, makes the nesting of steps
                # unlike that of the page.
                self.crossed |= len(elements) <= floors[-1]
                start = elements.pop()
                self.ends[start] = index
                if start in self.edges:
                    self.edges.add(index)
            elif isinstance(step, Marker) and step.role == OPEN:
                marks.append(index)
                floors.append(len(elements))
            elif isinstance(step, Marker) and step.role == CLOSE:
                self.ends[marks.pop()] = index
                floors.pop()

    def between(self, start: int, end: int, around: Flow, part: int | None) -> list[TextFormStep]:
        """Returns the steps from `start` to `end`, which stand in the page as `around` has it, and in a part."""
        made: list[TextFormStep] = []
        index = start
        while index < end:
            step = self.steps[index]
            if isinstance(step, Open | OpenWithValues | OpenCaptured):
                if is_unsaid(_start_tag(step)):
                    index = self.skipped(index, made)
                    continue
                if (filled := self._attempt(index, around, part)) is not None:
                    made += filled
                    index = self.ends[index] + 1
                    continue
                around.open(_start_tag(step))
            elif isinstance(step, Close):
                around.close()
            if not (is_white_space(step) and around.inherited.collapse == "collapse" and self.is_at_edge(index)):
                made.append(step)
            index += 1
        return made

    def is_at_edge(self, index: int) -> bool:
        """Returns whether a step stands at the edge of a paragraph, where white space does not count."""
        return index - 1 in self.edges or index + 1 in self.edges

    def has_blocks_only(self, start: int, end: int) -> bool:
        """Returns whether whatever a loop or choice brings begins and ends with a block."""
        index = start
        while index <= end:
            step = self.steps[index]
            if index in self.edges:
                index = self.ends.get(index, index)
            elif not isinstance(step, Marker) and not is_white_space(step):
                return False
            index += 1
        return True

    def next_said(self, index: int) -> int:
        """Returns the first step from `index` on that is neither white space nor an element of which nothing is
        said."""
        while True:
            step = self.steps[index]
            if isinstance(step, Open | OpenWithValues | OpenCaptured) and is_unsaid(_start_tag(step)):
                index = self.ends.get(index, index)
            elif not is_white_space(step):
                return index
            index += 1

    def skipped(self, index: int, made: list[TextFormStep]) -> int:
        """Skips an element that is not in the text; what it sets is kept, with the blocks that it stands in."""
        end = self.ends.get(index, index) + 1
        marks = [step for step in self.steps[index:end] if isinstance(step, Marker)]
        if any(mark.role == SET for mark in marks):
            made += marks
        return end

    def _attempt(self, index: int, around: Flow, part: int | None) -> list[TextFormStep] | None:
        """Returns an element as a pattern, with what goes before it; None where it is none."""
        step = self.steps[index]
        if (
            not isinstance(step, Open | OpenWithValues | OpenCaptured)
            or index not in self.edges
            or step.void
            or step.name in _NO_PATTERN
            or around.links.open
            or (step.name in _ROWS and around.tables[-1] is None)
        ):
            return None
        # An element that holds a refused step is refused without being read again: the whole stays linear.
        at = bisect_left(self.refused, index)
        if at < len(self.refused) and self.refused[at] <= self.ends[index]:
            return None
        parts = self.parts
        try:
            return _PatternBuilder(self, around, part).element(index)
        except NoPattern as refused:
            insort(self.refused, refused.index)
            self.parts = parts
            return None


def _start_tag(step: Open | OpenWithValues | OpenCaptured) -> Open:
    return step if isinstance(step, Open) else Open(step.name, {}, step.void, step.style)


def _continue_within(around: Flow, made: Flow) -> None:
    """Set `made` to read what stands where `around` is."""
    made.into = [made.body] * len(around.into)
    made.tables = [None] * len(around.tables)
    if (table := around.tables[-1]) is not None:
        made.tables[-1] = OpenTable(Table(False), section=table.section)
    made.inherited, made.level = around.inherited, around.level


@record(slots=True)
class _PartHere:
    """Where a part goes, among blocks or rows."""

    number: int
    part: PatternPart


class _PatternBuilder(Flow):
    """Reads one element; `placeholders` are the values that private characters stand for, `before` the steps that go
    before the pattern."""

    def __init__(self, patterner: _PatternFinder, around: Flow, part: int | None) -> None:
        super().__init__(Links())
        _continue_within(around, self)
        self.patterner, self.part, self.top = patterner, part, len(around.into) == 1
        self.outer_table = self.tables[-1]
        self.placeholders: list[ShowValue | TextCall] = []
        self.before: list[TextFormStep] = []
        self.at = 0
        self.chained = False  # whether a loop or choice stands before, and no edge between

    def element(self, index: int) -> list[TextFormStep]:
        """Returns the steps of a pattern, also of one that says nothing: what is before and behind it is apart."""
        end = self.patterner.ends[index] + 1
        self._steps(index, end)
        self.flush()
        patterns = _Patterns(self)
        made = patterns.blocks(self.body)
        rows = list(patterns.rows(self.outer_table.table)) if self.outer_table else []
        # Blocks without a slot are the same in every message: they are laid out here, once.
        if self.top:
            fixed = [(apart, block) for apart, block in made if not isinstance(block, TextSlot | Pattern | PatternPart)]
            blocks(fixed, WIDTH)  # laid out once for all
        return [*self.before, FillPattern(Pattern(None, made, rows, self.pending), tuple(patterns.texts))]

    def _steps(self, index: int, end: int) -> None:
        while index < end:
            step = self.patterner.steps[index]
            self.at = index
            self.chained &= index not in self.patterner.edges
            index += 1
            match step:
                case str():
                    # Joiners and private characters are what the placeholders are made of, or depend on what stands
                    # beside them.
                    if _UNREADY.search(step):
                        raise NoPattern(self.at)
                    self.text(step)
                case Open() | OpenWithValues():
                    index = self._start(step, index)
                case Close():
                    self.close()
                case ShowValue():
                    self._value(step)
                case Marker(role=role) if role == SET:
                    self.before.append(step)
                case Marker(role=role) if role == OPEN:
                    index = self._region(index - 1) + 1
                case _:
                    raise NoPattern(self.at)

    def _start(self, step: Open | OpenWithValues, index: int) -> int:
        """Reads a start tag; returns where to go on."""
        if is_unsaid(_start_tag(step)):
            return self.patterner.skipped(index - 1, self.before)
        if step.name in _UNPATTERNED:
            raise NoPattern(self.at)
        if isinstance(step, Open):
            if any(_PLACEHOLDER.search(value) for value in step.attributes.values() if value):
                raise NoPattern(self.at)
            self.open(step)
            return index
        free = {"a": "href", "img": "alt"}.get(step.name)
        read: dict[str, str | None] = {}
        for name, parts in step.attributes:
            if any(name != free if isinstance(part, ShowValue) else _PLACEHOLDER.search(part) for part in parts):
                raise NoPattern(self.at)
            read[name] = "".join([part if isinstance(part, str) else self.placeholder(part) for part in parts])
        self.open(Open(step.name, read, step.void, step.style))
        return index

    def _region(self, start: int) -> int:
        """Reads a loop or a choice that brings whole blocks or rows; returns where it ends."""
        patterner = self.patterner
        end = patterner.ends[start]
        table = self.tables[-1]
        self._check_apart(start, end)
        self.chained = True
        self.inline.clear()
        number = patterner.parts
        patterner.parts += 1
        around = Flow(Links())
        _continue_within(self, around)
        inner = patterner.between(start + 1, end, around, number)
        run = run_of_rows(inner)
        cells = 0
        if run is not None:
            inner, cells = list(rows_alone(inner)), len(run[1].form.shapes)
        marks = (patterner.steps[start], patterner.steps[end])
        self.before += [BeginPart(number), marks[0], *inner, marks[1], EndPart(self.part, number, cells)]
        section = table.section if table is not None else ""
        # The reader carries it along as a block or row; `_Patterns` takes it out again.
        here = _PartHere(number, PatternPart(0, self.inherited, self.level, section, run))
        if table is not None:
            table.add(cast("Rows", here), section)
        else:
            self.into[-1].append((self.pending, cast("Block", here)))
            self.pending = False
        return end

    def _check_apart(self, start: int, end: int) -> None:
        """Raise `NoPattern` where what a loop or choice brings could share a paragraph with what stands beside it."""
        table = self.tables[-1]
        if (
            "".join(self.inline).strip(" ")
            or self.links.open
            or self.inherited.collapse != "collapse"
            or (table is not None and table.row is not None)
        ):
            raise NoPattern(start)
        following = self.patterner.next_said(end + 1)
        is_edge = following in self.patterner.edges
        if is_edge and not self.chained:
            return
        step = self.patterner.steps[following]
        if not (is_edge or (isinstance(step, Marker) and step.role in (OPEN, SET))):
            raise NoPattern(end)
        if not self.patterner.has_blocks_only(start, end):
            raise NoPattern(start)

    def placeholder(self, of: ShowValue | TextCall) -> str:
        """Returns what stands for a value."""
        if len(self.placeholders) > _MOST_PLACEHOLDERS:
            raise NoPattern(self.at)
        self.placeholders.append(of)
        return chr(_FIRST_PLACEHOLDER + len(self.placeholders) - 1)

    def _value(self, step: ShowValue) -> None:
        now = self.inherited
        if not brought_elements(step.value) <= {"br"} or now.collapse != "collapse":
            raise NoPattern(self.at)
        if now.visible and now.sized:
            shown = ShowValue(step.value, INLINE)
            self.inline.append(self.placeholder(shown if now.wrap else TextCall("bound", (TextParts((shown,)),))))

    # -- what the reader does with texts, where they hold values --

    def _paragraph(self, text: str, level: int) -> None:
        if _PLACEHOLDER.search(text):
            self.add(Paragraph(_SPACES.sub(" ", text).strip(" "), level))
        else:
            super()._paragraph(text, level)

    def picture(self, alt: str | None) -> str:
        if alt and _PLACEHOLDER.search(alt):
            return self.placeholder(TextCall("picture_words", (self.parts(alt, maybe=True),)))
        return super().picture(alt)

    def is_wrapper(self, table: Table) -> bool:
        return not any(isinstance(rows, _PartHere) for rows in (*table.rows, *table.feet)) and super().is_wrapper(table)

    def linked(self, label: str, href: str | None) -> str:
        if _PLACEHOLDER.search(label) or (href and _PLACEHOLDER.search(href)):
            return self.placeholder(TextCall("linked", (self.parts(label), self.parts(href or "", maybe=True))))
        return super().linked(label, href)

    def _end_link(self, start: int, href: str | None) -> None:
        if self.links.open[-1] is not None and self.placeholders:
            raise NoPattern(self.at)  # the label is a block, which may be empty
        super()._end_link(start, href)

    def sense(self, name: str, label: str, title: str | None) -> str:
        if _PLACEHOLDER.search(label):
            return self.placeholder(TextCall("indexed", (name, self.parts(label))))
        return super().sense(name, label, title)

    def parts(self, text: str, *, maybe: bool = False) -> TextParts:
        """Returns a text with the values that its placeholders stand for."""
        parts: list[str | ShowValue | TextCall] = []
        position = 0
        for found in _PLACEHOLDER.finditer(text):
            if position < found.start():
                parts.append(text[position : found.start()])
            parts.append(self.placeholders[ord(found[0]) - _FIRST_PLACEHOLDER])
            position = found.end()
        if position < len(text):
            parts.append(text[position:])
        return TextParts(tuple(parts), maybe and len(parts) == 1 and isinstance(parts[0], ShowValue))


def _with_links_apart(parts: Sequence[str | ShowValue | TextCall]) -> Iterator[str | ShowValue | TextCall]:
    """Yields the parts of a text, its links as what they are where no word can follow them directly."""
    for index, part in enumerate(parts):
        if isinstance(part, TextCall) and part.function == "linked":
            after = parts[index + 1] if index + 1 < len(parts) else ""
            if isinstance(after, str) and after[:1] in (" ", "\n", ".", ",", ";", ":", ""):
                part = TextCall("linked_apart", part.arguments)
        yield part


class _Patterns:
    """Blocks as patterns; `texts` are those for their slots."""

    def __init__(self, builder: _PatternBuilder) -> None:
        self.builder = builder
        self.texts: list[TextParts | int] = []

    def _text(self, text: str) -> int:
        return self._slot(TextParts(tuple(_with_links_apart(self.builder.parts(text).parts))))

    def _slot(self, text: TextParts | int) -> int:
        self.texts.append(text)
        return len(self.texts) - 1

    def _part(self, here: _PartHere) -> PatternPart:
        return replace(here.part, index=self._slot(here.number))

    def blocks(self, placed: Sequence[Placed]) -> list[PlacedPattern]:
        return [(apart, self._block(block)) for apart, block in placed]

    def _block(self, block: Block | _PartHere) -> Block | TextSlot | Pattern | PatternPart:
        match block:
            case _PartHere():
                return self._part(block)
            case Paragraph(text=text, level=level):
                if _PLACEHOLDER.search(text):
                    return TextSlot(self._text(text), level)
            case BlockGroup() | List() | ListItem():
                inner = self.blocks(block.blocks)
                if _is_open(inner):
                    block.blocks = []
                    return Pattern(block, inner)
            case Table():
                if _is_open(self.blocks(block.caption)):
                    raise NoPattern(self.builder.at)
                rows = list(self.rows(block))
                if any(isinstance(row, RowPattern | PatternPart) for _, row in rows):
                    alike = Table(block.arranging, caption=block.caption)
                    return Pattern(alike, [], rows, known=known_table(alike, rows))
        if isinstance(block, Paragraph | BlockGroup | List | Table):
            block.laid = {}
        return block

    def rows(self, table: Table) -> Iterator[PatternRow]:
        """Yields the rows of a table, with the section they stand in."""
        for section, every in (("", table.rows), ("tfoot", table.feet)):
            for rows in every:
                if isinstance(rows, _PartHere):
                    yield section, self._part(rows)
                    continue
                contents = [self._content(content) for content in rows.cells[0]]
                if any(isinstance(c, int) or (isinstance(c, list) and _is_open(c)) for c in contents):
                    yield section, RowPattern(rows, contents)
                else:
                    texts = [content for content in contents if isinstance(content, str)]
                    rows.flat = len(texts) == len(contents) and not any("\n" in text for text in texts)
                    rows.narrow = rows.flat and is_narrow("".join(texts))
                    rows.laid = {}
                    yield section, rows

    def _content(self, content: Content) -> PatternCell:
        if isinstance(content, str):
            return self._text(content) if _PLACEHOLDER.search(content) else content
        return self.blocks(content)


def _is_open(placed: Sequence[PlacedPattern]) -> bool:
    """Returns whether a slot is among these blocks."""
    return any(isinstance(block, TextSlot | Pattern | PatternPart) for _, block in placed)
