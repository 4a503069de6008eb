"""The place of every mark, and the tags that stand around it.

`read` turns a text into events: start tags, end tags (also those an author left out), texts and marks, in
order.  Each mark gets the `Context` that says how its value must be shown; a place where no value can be
made safe is refused.  Branches must leave the markup as they found it, or scanning them one after another
would be wrong.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field

from pribble.markup.references import decoded
from pribble.markup.scanner import (
    RAW_TEXT,
    RCDATA,
    Attribute,
    Comment,
    Doctype,
    EndTag,
    StartTag,
    Text,
    Unfinished,
    scan,
)
from pribble.markup.tree import OMITTABLE, Element, OpenElements, OutOfBranch

_MARK = re.compile("[\U000f0000-\U0010ffff]")

URL_ATTRIBUTES = frozenset("href src action formaction background cite poster longdesc data xlink:href".split())
PICTURE_ATTRIBUTES = frozenset({("img", "src"), ("input", "src")})
_IN_TABLE = frozenset("table tbody thead tfoot tr colgroup".split())
# What a browser reads as the host: it takes one slash, none, or a backslash for two after these schemes.
_HOST = re.compile(r"(?:(?:https?|ftp|wss?|file):[/\\\\]*|[/\\\\]{2})[^/\\\\]*")
_REFUSED_URLS = ("javascript:", "vbscript:", "data:")


class MarkupError(Exception):
    """The markup around a mark is wrong; `start` and `end` are offsets, `other` a second place and what it is."""

    def __init__(self, problem: str, start: int, end: int, *, hint: str | None = None,
                 other: tuple[str, int, int] | None = None) -> None:
        super().__init__(problem)
        self.problem, self.start, self.end, self.hint, self.other = problem, start, end, hint, other


@dataclass(frozen=True, slots=True)
class Opened:
    """A start tag; `marks` are the contexts of the marks in its attributes, by offset."""

    tag: StartTag
    marks: dict[int, str] = field(default_factory=dict)
    void: bool = False


@dataclass(frozen=True, slots=True)
class Closed:
    """The end of an element, at `start`; `implied` where its author left the end tag out."""

    name: str
    start: int
    end: int
    implied: bool = False


@dataclass(frozen=True, slots=True)
class Characters:
    """Text between tags, or the text of the element whose content is not parsed (`raw`)."""

    start: int
    end: int
    raw: str = ""


@dataclass(frozen=True, slots=True)
class Marked:
    """A mark between tags, with its context: ``text`` for what shows a value, "" for all else."""

    offset: int
    context: str


Event = Opened | Closed | Characters | Marked


@dataclass(frozen=True, slots=True)
class Page:
    """A text read: its events, and the end tags that must be written where a branch ends without them."""

    events: tuple[Event, ...]
    end_tags: tuple[tuple[int, str], ...]


def read(text: str, role: Callable[[int], str]) -> Page:
    """Read `text`; `role` gives the role of the mark at an offset.  Raises `MarkupError`."""
    return _Reader(text, role).page()


@dataclass(slots=True)
class _Block:
    start: int
    depth: int
    floor: int


class _Reader:
    def __init__(self, text: str, role: Callable[[int], str]) -> None:
        self.text, self.role = text, role
        self.open = OpenElements()
        self.blocks: list[_Block] = []
        self.events: list[Event] = []
        self.end_tags: list[tuple[int, str]] = []

    def page(self) -> Page:
        for token in scan(self.text):
            match token:
                case Text(start=start, end=end, element=element):
                    self._text(start, end, element)
                case StartTag():
                    self._start(token)
                case EndTag():
                    self._end(token)
                case Comment(start=start, end=end):
                    self._refuse_marks(start, end, "in a comment", "write a remark: {{ # … }}")
                case Doctype(start=start, end=end):
                    self._refuse_marks(start, end, "in a doctype", None)
                case Unfinished(start=start):
                    raise MarkupError("a tag is not closed", start, start + 1, hint='a ">" or a quote is missing')
        self._closed(self.open.leave(0), len(self.text))
        return Page(tuple(self.events), tuple(self.end_tags))

    # -- between tags --

    def _text(self, start: int, end: int, element: str) -> None:
        position = start
        for found in _MARK.finditer(self.text, start, end):
            offset = found.start()
            if position < offset:
                self.events.append(Characters(position, offset, element))
            position = offset + 1
            self._mark(offset, element)
        if position < end:
            self.events.append(Characters(position, end, element))

    def _mark(self, offset: int, element: str) -> None:
        role = self.role(offset)
        if role == "literal":
            self.events.append(Marked(offset, ""))
            return
        if self.text[offset - 1:offset] == "<":
            raise MarkupError('a mark directly after "<"', offset, offset + 1,
                              hint='the names of tags are written out; a bare "<" is written &lt;')
        # In svg and math, style and script hold tags and references, and are style sheets and scripts all the same.
        inside = element or (self.open.innermost if self.open.innermost in RAW_TEXT else "")
        if inside and inside not in RCDATA:
            raise MarkupError(f"a mark inside <{inside}>", offset, offset + 1,
                              hint="its content is no text; a value can go into an attribute or between other tags")
        if role == "show":
            if not element and self.open.innermost in _IN_TABLE:
                raise MarkupError(f"a value in a table but in no cell (directly in <{self.open.innermost}>)",
                                  offset, offset + 1, hint="put it into a <td>")
            self.events.append(Marked(offset, "text"))
            return
        if role == "open":
            self.blocks.append(_Block(offset, len(self.open.stack), self.open.floor))
            self.open.floor = len(self.open.stack)
        elif role in ("branch", "close"):
            self._end_branch(offset)
            if role == "close":
                self.open.floor = self.blocks.pop().floor
        self.events.append(Marked(offset, ""))

    def _end_branch(self, offset: int) -> None:
        block = self.blocks[-1]
        for element in reversed(self.open.stack[block.depth:]):
            if element.name not in OMITTABLE:
                raise MarkupError(f"<{element.name}> is opened in this block and not closed in it",
                                  element.start, element.end, other=("the block ends at", offset, offset + 1),
                                  hint="a block closes what it opens; put the varying part into an attribute's value")
        for element in self.open.leave(block.depth):
            self.end_tags.append((offset, f"</{element.name}>"))
            self.events.append(Closed(element.name, offset, offset, implied=True))

    # -- tags --

    def _start(self, tag: StartTag) -> None:
        self._refuse_marks(tag.start, tag.start + 1 + len(tag.name), "in the name of a tag",
                           "the names of tags are written out; put the whole element into an {{ if …: }}")
        if tag.name in ("html", "head", "body"):
            self._outside_blocks(tag)
        depth = len(self.open.stack)
        try:
            closed = self.open.start(tag.name, tag.start, tag.end, self_closing=tag.self_closing)
        except OutOfBranch as error:
            self._out_of_branch(tag, error.element)
        self._closed(closed, tag.start)
        void = len(self.open.stack) == depth - len(closed)
        self.events.append(Opened(tag, self._attribute_marks(tag), void))

    def _end(self, tag: EndTag) -> None:
        self._refuse_marks(tag.start, tag.end, "in an end tag", None)
        if tag.name in ("html", "head", "body"):
            self._outside_blocks(tag)
        try:
            closed = self.open.end(tag.name)
        except OutOfBranch as error:
            self._out_of_branch(tag, error.element)
        if closed:
            self._closed(closed[:-1], tag.start)
            self.events.append(Closed(closed[-1].name, tag.start, tag.end))
        elif closed is None and self.blocks and any(e.name == tag.name for e in self.open.stack[:self.open.floor]):
            raise MarkupError(f"</{tag.name}> closes what this block did not open", tag.start, tag.end,
                              other=("the block begins at", self.blocks[-1].start, self.blocks[-1].start + 1))

    def _closed(self, elements: list[Element], offset: int) -> None:
        self.events += [Closed(element.name, offset, offset, implied=True) for element in elements]

    def _outside_blocks(self, tag: StartTag | EndTag) -> None:
        if self.blocks:
            raise MarkupError(f"<{tag.name}> stands in no block", tag.start, tag.end,
                              other=("the block begins at", self.blocks[-1].start, self.blocks[-1].start + 1))

    def _out_of_branch(self, tag: StartTag | EndTag, element: Element) -> None:
        slash = "/" if isinstance(tag, EndTag) else ""
        raise MarkupError(
            f"<{slash}{tag.name}> closes <{element.name}>, which this block did not open", tag.start, tag.end,
            other=(f"<{element.name}> is opened at", element.start, element.end),
            hint="a block closes only what it opened, and all of it")

    # -- marks in tags --

    def _attribute_marks(self, tag: StartTag) -> dict[int, str]:
        marks: dict[int, str] = {}
        position = tag.start + 1
        for attribute in tag.attributes:
            self._refuse_marks(position, attribute.start, "between attributes", "give the attribute's value a mark: "
                               'hidden="{{ … }}"')
            marks |= self._value_marks(tag, attribute)
            position = attribute.end
        self._refuse_marks(position, tag.end, "between attributes", "give an attribute's value a mark")
        return marks

    def _value_marks(self, tag: StartTag, attribute: Attribute) -> dict[int, str]:
        self._refuse_marks(attribute.start, attribute.start + len(attribute.name), "in the name of an attribute",
                           "names are written out; an attribute whose value comes to nothing is left out")
        found = list(_MARK.finditer(self.text, attribute.value_start, attribute.value_end))
        found = [m for m in found if self.role(m.start()) != "literal"]
        if not found:
            return {}
        offset = found[0].start()
        if not attribute.quote:
            raise MarkupError("a mark in an unquoted value", offset, offset + 1,
                              hint=f'write {attribute.name}="{{{{ … }}}}"')
        for mark in found:
            if self.role(mark.start()) != "show":
                raise MarkupError("a block in the value of an attribute", mark.start(), mark.start() + 1,
                                  hint="write a choice: {{ a if test else b }}")
        self._refuse_attribute(tag, attribute, offset)
        if (tag.name, attribute.name) in PICTURE_ATTRIBUTES:
            return {m.start(): "picture" for m in found}
        if attribute.name in URL_ATTRIBUTES:
            return {m.start(): self._url_context(attribute, m.start()) for m in found}
        return {m.start(): "attribute" for m in found}

    def _refuse_attribute(self, tag: StartTag, attribute: Attribute, offset: int) -> None:
        name, hint = attribute.name, None
        if name.startswith("on"):
            hint = "mail programs run no scripts"
        elif name == "style":
            hint = "give it a class by a mark, class=\"{{ … }}\", or choose between two elements with {{ if …: }}"
        elif name == "srcset":
            hint = "write the picture into src"
        elif name not in ("srcdoc", "sizes", "imagesrcset") and not (tag.name == "meta" and name == "content"
                                                                    and tag.attribute("http-equiv")):
            return
        raise MarkupError(f"a mark in the value of {name}", offset, offset + 1, hint=hint)

    def _url_context(self, attribute: Attribute, offset: int) -> str:
        """Which piece of an address the mark at `offset` is, by what its author wrote before and after it."""
        written = self.text[attribute.value_start:offset]
        before = decoded(written, attribute=True).strip()
        after = decoded(self.text[offset + 1:attribute.value_end], attribute=True).rstrip()
        if not before:
            if not after:
                return "url"
            if after[0] in "/?#":
                return "url-base"
            raise MarkupError("an address goes on directly after a mark", offset, offset + 1,
                              hint='write a "/" after the mark, or make the whole address the value')
        lowered = re.sub(r"[\t\n\r]", "", before).lower()
        if lowered.startswith(_REFUSED_URLS):
            raise MarkupError(f"an address that begins with {lowered.partition(':')[0]}:", offset, offset + 1,
                              hint="no mail program follows it")
        if lowered.startswith(("mailto:", "tel:", "sms:")):
            raise MarkupError(f"a mark after {lowered.partition(':')[0]}:", offset, offset + 1,
                              hint='make the whole address the value: href="{{ "tel:" + phone }}"')
        if "#" in before or "?" in before:
            return "url-query"
        if _HOST.fullmatch(lowered):
            raise MarkupError("a mark in the host of an address", offset, offset + 1,
                              hint='write a "/" before the mark, or make the whole address the value')
        return "url-path"

    def _refuse_marks(self, start: int, end: int, where: str, hint: str | None) -> None:
        for found in _MARK.finditer(self.text, start, end):
            if self.role(found.start()) != "literal":
                raise MarkupError(f"a mark {where}", found.start(), found.start() + 1, hint=hint)
