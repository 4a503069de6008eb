"""A page read: the tags, texts and marks of it in order, each mark with its context.

`read_page` turns a text into events: start tags, end tags (also those an author left out), texts and marks.  A place
where no value can be made safe is refused.  Branches must leave the markup as they found it, or scanning them
one after another would be wrong; what a block may do within a tag or a value, `tags.py` and `value_branches.py` say.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.markup.contexts import MARK, Context, MarkupError, is_picture_place
from pribble.markup.doctype import document_mode
from pribble.markup.elements import FORMATTING, RAW_TEXT, RCDATA
from pribble.markup.events import Characters, Events, Marked, PageEvent
from pribble.markup.json_reader import JsonReader
from pribble.markup.misnesting import (
    IN_TABLE,
    MarkupFinding,
    misplaced,
    moved_text,
    nested_in_itself,
    relative,
    second,
    stray,
    unclosed,
)
from pribble.markup.references import decode_references, has_unfinished_reference
from pribble.markup.scanner import (
    Cdata,
    Comment,
    Doctype,
    EndTag,
    StartTag,
    TextToken,
    Token,
    Unfinished,
    announce_start_tag,
    tokens,
)
from pribble.markup.style_reader import StyleReader
from pribble.markup.tags import Tag, read_tag
from pribble.markup.tree import LeftOpen, OpenElement, OpenElements, OutOfBranch
from pribble.markup.value_branches import CLOSE, ENDING, OPENING, Role, marks_in, read_branches, value_pieces
from pribble.records import record, replace
from pribble.regexes import regex
from pribble.values.escaping import markup

_PAGE_TAGS = frozenset({"html", "head", "body"})
# Where a literal text could go on, with a value, to a tag or comment that ends the text of an element.
_TAG_BEGUN = regex(r"<(?:/?[A-Za-z]*|!-?)\Z")
_CONDITIONAL = regex(r"<!--\[if\b[^\]]*\]>", re.IGNORECASE)
_CONDITIONAL_END = regex(r"<!\[endif\]-->\Z", re.IGNORECASE)
# The attributes whose addresses a reader follows, or a frame shows.
_FOLLOWED = frozenset({"href", "action", "formaction", "src", "data"})
_JSON_TYPE = "application/ld+json"
# Beyond these no tag reaches but that of a form; and of so many elements one is among them, or they are no page.
_AROUND_ENDS = frozenset({"table", "template"})
_MOST_AROUND = 100


@record(frozen=True, slots=True)
class Page:
    """A text read.

    `hidden` are the events within conditional comments, which count for nothing but the HTML.  `end_tags` must be
    written where a branch ends without them; `rewritten` are literal texts before marks that could run together with
    what comes behind, and what they are written as instead; `joints` are where a space is needed between attributes;
    `findings` are about the page; `page_ends` are where the end tags of body and html stand,
    `quirks` whether its document mode is that of pages without a doctype.
    """

    events: tuple[PageEvent, ...]
    hidden: tuple[PageEvent, ...]
    end_tags: tuple[tuple[int, str], ...]
    rewritten: tuple[tuple[int, int, str], ...]
    joints: tuple[int, ...]
    findings: tuple[MarkupFinding, ...]
    page_ends: tuple[tuple[int, int], ...] = ()
    quirks: bool = False


def read_page(text: str, role: Role) -> Page:
    """Read `text`; `role` gives the role of the mark at an offset: show, the roles of `value_branches.py`, set,
    extracted, or literal for an author's own character.  Raises `MarkupError`."""
    reader = PageReader(text, role)
    reader.page(tokens(text, reader.open))
    return reader.read()


class PageReader:
    """Reads a page, or with `comment` the content of a conditional comment."""

    def __init__(self, text: str, role: Role, *, comment: bool = False) -> None:
        self.text, self.role, self.comment = text, role, comment
        self.open = OpenElements(page=not comment)
        self.blocks: list[int] = []  # where each open block begins
        self.made = Events()
        self.hidden: list[PageEvent] = []
        self.end_tags: list[tuple[int, str]] = []
        self.rewritten: list[tuple[int, int, str]] = []
        self.joints: list[int] = []
        self.findings: list[MarkupFinding] = []
        self.page_ends: list[tuple[int, int]] = []
        self.has_base = False

    @property
    def events(self) -> list[PageEvent]:
        return self.made.all

    def read(self) -> Page:
        """Returns what was read."""
        return Page(
            tuple(self.events),
            tuple(self.hidden),
            tuple(self.end_tags),
            tuple(self.rewritten),
            tuple(self.joints),
            tuple(self.findings),
            tuple(self.page_ends),
            self.open.quirks,
        )

    def page(self, given: Iterator[Token]) -> None:
        """Read all tokens."""
        element: StartTag | None = None
        for token in given:
            match token:
                case TextToken(start=start, end=end, element=name) if name and name not in RCDATA:
                    self._raw_text(start, end, name, element)
                case TextToken(start=start, end=end, element=name):
                    self._text(start, end, name)
                case StartTag():
                    element = token
                    self._start(token)
                case EndTag():
                    self._end(token)
                case Comment(start=start, end=end):
                    self._comment(start, end)
                case Doctype(start=start, end=end):
                    self._refuse_marks(start, end, "in a doctype", None)
                    self.open.quirks = document_mode(self.text[start:end]) == "quirks"
                case Cdata(start=start, end=end):
                    self._refuse_marks(start, end, "in a CDATA section", "write the text between tags")
                    self.made.add(Characters(start + 9, end, "cdata"))
                case Unfinished(start=start):
                    raise MarkupError("a tag is not closed", start, start + 1, hint='a ">" or a quote is missing')
        if self.blocks:
            raise MarkupError(
                "a block begins in a conditional comment and does not end in it",
                self.blocks[-1],
                hint="the comment begins and ends in one branch",
            )
        if not self.comment:
            self._content(len(self.text))
        left = self.open.finish()
        self.findings += unclosed(left, "the end of the page")
        self.made.closed(left, len(self.text))

    # -- between tags --

    def _text(self, start: int, end: int, element: str) -> None:
        position = start
        for found in MARK.finditer(self.text, start, end):
            offset = found.start()
            self._characters(position, offset, element)
            position = offset + 1
            self._mark(offset, element)
        self._characters(position, end, element)

    def _characters(self, start: int, end: int, element: str) -> None:
        if start == end:
            return
        if not element and not self.text[start:end].isspace():
            self._content(start)
            self._note(moved_text(start, end, self.open.innermost))
        self.made.add(Characters(start, end, element))

    def _mark(self, offset: int, element: str) -> None:
        role = self.role(offset)
        if role == "literal":
            if not element:
                self._content(offset)
            self.made.add(Marked(offset))
            return
        before = self.text[max(0, offset - 80) : offset]
        if before.endswith("<") or (element and _TAG_BEGUN.search(before)):
            raise MarkupError(
                'a mark directly after "<"',
                offset,
                hint='the names of tags are written out; a bare "<" is written &lt;',
            )
        # In svg and math, style and script hold tags and references, and are style sheets and scripts all the same.
        if self.open.innermost in RAW_TEXT:
            raise MarkupError(
                f"a mark inside <{self.open.innermost}> in svg or math",
                offset,
                hint="put the value into an attribute, or the style sheet into the page's head",
            )
        self._keep_apart(offset)
        if role == "show":
            self._show(offset, element)
            return
        if role in OPENING:
            self.blocks.append(offset)
            self.open.enter()
            self.made.blocks.append(len(self.events))
        elif role in ENDING:
            self._end_branch(offset, block=role == CLOSE)
        self.made.add(Marked(offset))

    def _show(self, offset: int, element: str) -> None:
        if element:
            self.made.add(Marked(offset, self._context(Context("plain", ("attribute",)))))
            return
        if self.open.innermost in IN_TABLE:
            raise MarkupError(
                f"a value in a table but in no cell (directly in <{self.open.innermost}>)",
                offset,
                hint="put it into a <td>",
            )
        self._content(offset)
        self.made.add(Marked(offset, self._context(Context("markup", enclosing=self._around()))))

    def _around(self) -> tuple[str, ...]:
        """Returns the elements that a fragment put here could close or stand wrongly in, outermost first."""
        around: list[str] = []
        for element in reversed(self.open.stack[-_MOST_AROUND:]):
            if element.name in _PAGE_TAGS:
                break
            if not around or around[-1] != element.name:
                around.append(element.name)
            if element.name in _AROUND_ENDS:
                break
        if "form" not in around and self.open.nearest("form", frozenset()) is not None:
            around.append("form")
        return tuple(reversed(around))

    def _context(self, context: Context, *wrapping: str) -> Context:
        return context.wrapped(*wrapping, "comment") if self.comment else context.wrapped(*wrapping)

    def _keep_apart(self, offset: int) -> None:
        """See that the literal text before a mark does not run together with what comes behind it."""
        start = has_unfinished_reference(self.text, offset)
        if start < offset:  # the beginning of a character reference
            self.rewritten.append((start, offset, markup(decode_references(self.text[start:offset]))))
        elif self.comment and self.text[offset - 1] == "-":
            self.rewritten.append((offset - 1, offset, "&#45;"))

    def _end_branch(self, offset: int, *, block: bool) -> None:
        if not self.blocks:
            raise MarkupError(
                "a block ends in a conditional comment and does not begin in it",
                offset,
                hint="the comment begins and ends in one branch",
            )
        try:
            change = self.open.leave(offset, block=block)
        except LeftOpen as error:
            element = error.element
            raise MarkupError(
                f"<{element.name}> is opened in this block and not closed in it",
                element.start,
                element.end,
                other=("the branch ends at", offset, offset + 1),
                hint=_idiom(element.name),
            ) from None
        self.end_tags += [(offset, f"</{e.name}>") for e in change.closed if not e.implied]
        self.made.changed(change, offset)
        if block:
            self.blocks.pop()
            self.made.blocks.pop()

    # -- the text of elements whose content is no markup --

    def _raw_text(self, start: int, end: int, name: str, tag: StartTag | None) -> None:
        found = list(marks_in(self.text, start, end, self.role))
        if not found:
            self.made.add(Characters(start, end, name))
            return
        contexts = self._raw_contexts(start, end, name, tag, found)
        position = start
        for mark in MARK.finditer(self.text, start, end):
            offset = mark.start()
            if position < offset:
                self.made.add(Characters(position, offset, name))
            position = offset + 1
            self.made.add(Marked(offset, contexts.get(offset)))
        if position < end:
            self.made.add(Characters(position, end, name))

    def _raw_contexts(
        self, start: int, end: int, name: str, tag: StartTag | None, marks: list[int]
    ) -> dict[int, Context]:
        for offset in marks:
            if _TAG_BEGUN.search(self.text, max(start, offset - 80), offset):
                raise MarkupError('a mark directly after "<"', offset, hint=r'in a style sheet a "<" is written \3c ')
            following = self.text[offset + 1 : offset + 2]
            joins = self.role(offset) != "show" or following in ("-", ">") or MARK.match(following)
            if self.comment and self.text[offset - 1] == "-" and joins:
                raise MarkupError(
                    "a dash directly before a mark",
                    offset - 1,
                    hint="in a conditional comment dashes must not come together: put a space between",
                )
            if self.role(offset) not in OPENING | ENDING | {"show", "set"}:
                raise MarkupError(f"a message block inside <{name}>", offset, hint="it stands between tags")
        value = value_pieces(self.text, start, end, self.role)
        if name == "style":
            styles = StyleReader(sheet=True)
            read_branches(value, styles)
            found = {offset: Context(way[0], way[1:]) for offset, way in styles.result().items()}
        elif name == "script" and _script_type(self.text, tag) == _JSON_TYPE:
            json = JsonReader()
            read_branches(value, json)
            found = {offset: Context(way) for offset, way in json.escapers.items()}
        else:
            what = "a script" if name == "script" else f"<{name}>"
            raise MarkupError(
                f"a mark inside {what}",
                marks[0],
                hint=f'mail programs run no scripts; JSON for them stands in <script type="{_JSON_TYPE}">'
                if name == "script"
                else "its content is no markup; a value can go into an attribute or between other tags",
            )
        return {offset: self._raw_context(context, offset) for offset, context in found.items()}

    def _raw_context(self, context: Context, offset: int) -> Context:
        if not self.comment:
            return context
        beside = self.text[offset - 1 : offset + 2 : 2]
        return context.wrapped("edge" if "-" in beside or MARK.search(beside) else "raw")

    # -- comments --

    def _comment(self, start: int, end: int) -> None:
        opening = _CONDITIONAL.match(self.text, start, end)
        closing = _CONDITIONAL_END.search(self.text, max(start, end - 20), end)
        if opening is None or closing is None or self.comment:
            self._refuse_marks(start, end, "in a comment", "write a remark: {{ # … }}")
            return
        self._refuse_marks(start, opening.end(), "in the condition of a comment", "write the condition out")
        begin, stop = opening.end(), closing.start()
        inner = type(self)(self.text, self.role, comment=True)
        inner.page(
            _shifted(token, begin)
            for token in tokens(self.text[begin:stop], inner.open)
            if not isinstance(token, Unfinished) or MARK.search(self.text, begin + token.start, stop)
        )
        self.hidden += inner.events
        self.rewritten += inner.rewritten
        self.joints += inner.joints
        # What is set holds after the comment too, for whatever else is made of the page.
        depth = 0
        for event in inner.events:
            if isinstance(event, Marked):
                role = self.role(event.offset)
                depth += (role in OPENING) - (role == CLOSE)
                if role == "set" and not depth:
                    self.made.add(event)

    # -- tags --

    def _start(self, tag: StartTag) -> None:
        found = self._tag(tag)
        if found.attributes is not tag.attributes:
            tag = replace(tag, name=found.name, attributes=found.attributes)
        if tag.name in _PAGE_TAGS:
            self._outside_blocks(tag)
        self._links(tag, found)
        self._note(nested_in_itself(tag, self.open))
        try:
            change = announce_start_tag(self.open, tag)
        except OutOfBranch as error:
            raise self._out_of_branch(tag, error.element) from None
        self.findings += unclosed(change.closed, f"<{tag.name}>")
        if tag.name in _PAGE_TAGS and not change.opened:
            self._note(second(tag))
        self._note(
            misplaced(
                tag, self.open.stack[-2].name if change.opened and len(self.open.stack) > 1 else self.open.innermost
            )
        )
        marks = {offset: self._context(context) for offset, context in found.marks.items()}
        self.made.started(tag, change, marks, found.blocks)
        self.joints += found.joints
        for offset in (*found.marks, *found.in_values):
            self._keep_apart(offset)

    def _links(self, tag: StartTag, read: Tag) -> None:
        """Take note of addresses that lead nowhere.  What a template names beside it, sheets and pictures, is found
        when it is compiled, and where a page says what its addresses start from, they start from there."""
        self.has_base = self.has_base or tag.name == "base"
        if self.has_base or tag.name == "link":
            return
        for attribute in tag.attributes:
            name = attribute.name
            if name in _FOLLOWED and not is_picture_place(tag.name, name) and attribute.quote is not None:
                start, end = attribute.value_start, attribute.value_end
                if not any(start <= offset < end for offset in (*read.marks, *read.in_values)):
                    self._note(relative(start, end, decode_references(self.text[start:end], attribute=True).strip()))

    def _tag(self, tag: StartTag) -> Tag:
        return read_tag(self.text, tag, self.role)

    def _end(self, tag: EndTag) -> None:
        self._refuse_marks(tag.start, tag.end, "in an end tag", None)
        if tag.name in _PAGE_TAGS:
            self._outside_blocks(tag)
        if tag.name not in ("body", "html"):
            self._reaches_out(tag)
        else:
            self.page_ends.append((tag.start, tag.end))
            if not self.comment:
                self._content(tag.start)
        try:
            change = self.open.end(tag.name)
        except OutOfBranch as error:
            raise self._out_of_branch(tag, error.element) from None
        if change is None:
            self._note(stray(tag))
        else:
            self.findings += unclosed(change.closed[:-1], f"</{tag.name}>", formatting=tag.name in FORMATTING)
        self.made.ended(tag, change)

    def _reaches_out(self, tag: EndTag) -> None:
        """Refuse an end tag that closes what the block it stands in did not open."""
        if self.blocks and self.open.is_outer(tag.name):
            raise MarkupError(
                f"</{tag.name}> closes what this block did not open",
                tag.start,
                tag.end,
                other=("the block begins at", self.blocks[-1], self.blocks[-1] + 1),
                hint=_idiom(tag.name),
            )

    def _note(self, note: MarkupFinding | None) -> None:
        self.findings += [note] if note else []

    def _content(self, offset: int) -> None:
        """Content that is no tag stands at `offset`."""
        try:
            self.made.changed(self.open.content(offset), offset)
        except OutOfBranch as error:
            raise self._out_of_branch(None, error.element, offset) from None

    def _outside_blocks(self, tag: StartTag | EndTag) -> None:
        if self.blocks:
            slash = "/" if isinstance(tag, EndTag) else ""
            raise MarkupError(
                f"<{slash}{tag.name}> stands in no block",
                tag.start,
                tag.end,
                other=("the block begins at", self.blocks[-1], self.blocks[-1] + 1),
                hint="write it outside, and let the block choose what stands in it",
            )

    def _out_of_branch(self, tag: StartTag | EndTag | None, element: OpenElement, offset: int = 0) -> MarkupError:
        start, end = (tag.start, tag.end) if tag else (offset, offset + 1)
        if element.implied:
            return MarkupError(
                "the body of the page begins inside a block that also holds something of its head",
                start,
                end,
                hint="write <head> and <body> out",
            )
        slash = "/" if isinstance(tag, EndTag) else ""
        what = f"<{slash}{tag.name}>" if tag else "this text"
        return MarkupError(
            f"{what} closes <{element.name}>, which this block did not open",
            start,
            end,
            other=(f"<{element.name}> is opened at", element.start, element.end),
            hint="a block closes only what it opened, and all of it",
        )

    def _refuse_marks(self, start: int, end: int, where: str, hint: str | None) -> None:
        for offset in marks_in(self.text, start, end, self.role):
            raise MarkupError(f"a mark {where}", offset, hint=hint)


def _script_type(text: str, tag: StartTag | None) -> str:
    found = tag.attribute("type") if tag else None
    return text[found.value_start : found.value_end].strip().lower() if found else ""


def _shifted(token: Token, by: int) -> Token:
    moved = replace(token, start=token.start + by, end=token.end + by)
    if isinstance(moved, StartTag):
        attributes = tuple(
            replace(a, start=a.start + by, end=a.end + by, value_start=a.value_start + by, value_end=a.value_end + by)
            for a in moved.attributes
        )
        return replace(moved, attributes=attributes)
    return moved


def _idiom(name: str) -> str:
    """Returns what to write instead of a block that opens or closes an element only sometimes."""
    if name == "a":
        return "keep the <a>, and let its address be empty where there is none"
    if name in ("tr", "table", "tbody"):
        return "loop over rows of several: {{ for row in items as rows(2): }}"
    return "a block closes what it opens; a wrapper that is only sometimes there is a part with a content slot"
