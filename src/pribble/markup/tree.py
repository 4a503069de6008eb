"""The open elements of a page: what each tag closes, and what it opens without a tag (WHATWG HTML 13.2.6.4, 13.1.2.4).

`OpenElements` follows start and end tags.  It makes what a browser makes where an author left something out:
``html head body``, ``tbody tr colgroup``, end tags.  Misnested formatting and content that a browser would move
out of a table are not imitated: an end tag closes what is open inside its element.

It also keeps the language's main promise: a block's branches leave the elements as they found them.  What is
implied within a block is put before the block where it can be, since all branches share it.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import defaultdict
from collections.abc import Iterable

from pribble.markup.elements import (
    BREAKING_OUT,
    BUTTON_SCOPE,
    CLOSING_P,
    FOREIGN,
    FORMATTING,
    HEAD,
    HEADINGS,
    INTEGRATION,
    OMITTABLE,
    SCOPE,
    SPECIAL,
    TABLE_SCOPE,
    VOID,
)
from pribble.records import field, record

_RUBY = frozenset({"rb", "rt", "rtc", "rp"})
_ENDED_IN_RUBY = _RUBY | {"dd", "dt", "li", "optgroup", "option", "p"}  # 13.2.6.3, "generate implied end tags"
_BARRIERS = SPECIAL - {"address", "div", "p"}  # a new li looks through these for the last one
_ANNOTATION = ("math", "annotation-xml")
_FOREIGN_SCOPE = frozenset(f"{space} {name}" for space, name in (*INTEGRATION, _ANNOTATION))
_SCOPE, _BUTTON_SCOPE = SCOPE | _FOREIGN_SCOPE, BUTTON_SCOPE | _FOREIGN_SCOPE
_SECTIONS = frozenset({"tbody", "thead", "tfoot"})
_OF_PAGE = frozenset({"html", "head", "body"})

# A start tag of the left closes these, up to the end of the table scope.
_TABLE_CLOSES: dict[str, frozenset[str]] = {
    "td": frozenset({"td", "th", "caption", "colgroup"}),
    "th": frozenset({"td", "th", "caption", "colgroup"}),
    "tr": frozenset({"td", "th", "tr", "caption", "colgroup"}),
    **dict.fromkeys(_SECTIONS, frozenset({"td", "th", "tr", "caption", "colgroup"}) | _SECTIONS),
    "caption": frozenset({"caption", "colgroup"}),
    "colgroup": frozenset({"caption", "colgroup"}),
    "col": frozenset({"caption"}),
}


@record(frozen=True, slots=True)
class OpenElement:
    """An open element; `start` and `end` are the offsets of its start tag, the same where it is `implied`.

    `foreign` is svg or math where it belongs to one of them.
    """

    name: str
    start: int
    end: int
    implied: bool = False
    foreign: str = ""

    @property
    def is_foreign(self) -> bool:
        """Whether what stands in it directly belongs to svg or math."""
        return bool(self.foreign) and (self.foreign, self.name) not in INTEGRATION

    @property
    def key(self) -> str:
        """Its name, with svg or math before it where it belongs to one of them."""
        return f"{self.foreign} {self.name}" if self.foreign else self.name


@record(frozen=True, slots=True)
class TreeChange:
    """What a tag did to the open elements: `closed`, innermost first, then `implied`, outermost first, then whether
    it `opened` its own, and whether that belongs to svg or math (`foreign`).  With `empty_head`, the head among
    `implied` was closed at once.  With `before` not 0, all but the last happened before that many of the innermost
    blocks."""

    closed: tuple[OpenElement, ...] = ()
    implied: tuple[OpenElement, ...] = ()
    opened: bool = False
    before: int = 0
    empty_head: bool = False
    foreign: str = ""


def _is_special(element: OpenElement) -> bool:
    return element.key in _FOREIGN_SCOPE if element.foreign else element.name in SPECIAL


def _is_barrier(element: OpenElement) -> bool:
    return element.key in _FOREIGN_SCOPE if element.foreign else element.name in _BARRIERS


class OutOfBranch(Exception):
    """A tag would close `element`, which was opened outside the block that the tag stands in."""

    def __init__(self, element: OpenElement) -> None:
        super().__init__(element.name)
        self.element = element


class LeftOpen(Exception):
    """A branch ends, and `element`, which it opened, is not closed."""

    def __init__(self, element: OpenElement) -> None:
        super().__init__(element.name)
        self.element = element


@record(slots=True)
class _ElementBlock:
    """A block: how many elements were open before it, whether anything stands in it, what it closed of the implied."""

    depth: int
    touched: bool = False
    lost: list[OpenElement] = field(default_factory=list)  # outermost first

    @property
    def floor(self) -> int:
        """How many elements are open that belong to outside the block."""
        return self.depth - len(self.lost)


def _end_scope(name: str) -> frozenset[str]:
    """Returns the elements that the end tag of a special or formatting element does not reach beyond (13.2.6.4.7)."""
    if name in ("table", "html", "body"):
        return frozenset({"template"})
    if name in _TABLE_CLOSES:
        return TABLE_SCOPE
    return _BUTTON_SCOPE if name == "p" else _SCOPE


class OpenElements:
    """The stack of open elements of a page, or of a piece of one (`page` false), which has no html, head and body.

    `quirks` is the document mode in which a table may stand in a paragraph.
    """

    def __init__(self, *, page: bool = True) -> None:
        self.stack: list[OpenElement] = []
        self.quirks = page
        self._page = page
        self._seen: set[str] = set()  # which of html, head and body there have been
        self._blocks: list[_ElementBlock] = []
        # Where in the stack each name stands, and what no end tag reaches beyond: a search would be quadratic.
        self._at: defaultdict[str, list[int]] = defaultdict(list)
        self._special: list[int] = []
        self._html: list[int] = []  # the elements that do not belong to svg or math
        self.latest = ("", "")  # of the last start tag its name, and svg or math if it belongs to one of them
        self._barriers: list[int] = []

    @property
    def innermost(self) -> str:
        """The name of the innermost open element, or ""."""
        return self.stack[-1].name if self.stack else ""

    @property
    def in_foreign(self) -> bool:
        """Whether the innermost open element belongs to svg or math."""
        return bool(self.stack) and bool(self.stack[-1].foreign)

    # -- tags and text --

    def start(self, name: str, start: int, end: int, *, self_closing: bool = False, font: bool = False) -> TreeChange:
        """Take in a start tag; `font` is for one with an attribute that HTML's own font has.  Raises `OutOfBranch`."""
        foreign = self._space(name, font=font)
        self.latest = name, foreign
        # A second html, head or body start tag only adds attributes to the first (13.2.6.4.6, 13.2.6.4.7); attributes
        # that differ are rare enough to be left to the browser.
        if name in _OF_PAGE and name in self._seen | ({"head"} if "body" in self._seen else set()):
            return TreeChange()  # a second one opens nothing
        change = TreeChange(foreign=foreign)
        # Within svg and math a start tag implies nothing and closes nothing (13.2.6.5).
        if not foreign or name in FOREIGN:
            closed = [] if foreign else self._break_out()
            change = self._implied(name, closed + self._closed_by(name), start)
        self._touch()
        # "/>" closes elements of svg and math, and those of old mail engines with a prefix (v:rect), but no HTML
        # element.
        if (self_closing and (":" in name or bool(foreign))) or (name in VOID and not foreign):
            return change
        self._push(OpenElement(name, start, end, foreign=foreign))
        return TreeChange(change.closed, change.implied, True, change.before, change.empty_head, foreign)

    def content(self, offset: int) -> TreeChange:
        """Take in text that is no white space, or a value: in a page it stands in the body."""
        if self.innermost not in ("", "html", "head"):
            return TreeChange()
        change = self._implied("text", self._closed_by("text"), offset)
        self._touch()
        return change

    def end(self, name: str) -> TreeChange | None:
        """Take in an end tag; None where it closes nothing.  The last of `closed` is its own.  Raises `OutOfBranch`.

        Those of body and html close at the end of the page: what follows them is still content (13.2.6.4.19).
        """
        if name in ("body", "html"):
            return TreeChange() if name in self._seen else None
        # In svg and math the end tag is first looked for among their own elements (13.2.6.5, "any other end tag").
        own = self._last((f"svg {name}", f"math {name}")) if self.in_foreign else None
        names = HEADINGS if name in HEADINGS else frozenset({name})
        if own is not None and (not self._html or own > self._html[-1]):
            index: int | None = own
        # These have rules of their own in 13.2.6.4.7, with a scope; any other end tag stops at the first special
        # element.
        elif name in SPECIAL or name in FORMATTING:
            index = self._find(names, _end_scope(name) - names)
        else:
            index = self._last(names)
            index = None if index is None or (self._special and self._special[-1] > index) else index
        if index is None:
            return None
        closed = self._pop_to(index)
        self._touch()
        return TreeChange(tuple(closed))

    def nearest(self, name: str, scope: frozenset[str]) -> OpenElement | None:
        """Returns the innermost open element of that name with none of `scope` within it."""
        index = self._find(frozenset({name}), scope)
        return None if index is None else self.stack[index]

    def is_outer(self, name: str) -> bool:
        """Returns whether the end tag of `name` can only mean an element that the innermost block did not open."""
        index = self._last(HEADINGS if name in HEADINGS else (name,))
        return index is not None and bool(self._blocks) and index < self._blocks[-1].floor

    def finish(self) -> tuple[OpenElement, ...]:
        """Ends the page; returns all that is still open, innermost first."""
        return tuple(self._pop_to(0))

    # -- blocks --

    def enter(self) -> None:
        """A block begins."""
        self._blocks.append(_ElementBlock(len(self.stack)))

    def leave(self, offset: int, *, block: bool) -> TreeChange:
        """Ends a branch at `offset`, and with `block` the whole block.  Raises `LeftOpen`."""
        ended = self._blocks[-1]
        # What the branch opened must be closed, but for elements whose end tag may be left out (13.1.2.4).
        for element in reversed(self.stack[ended.floor :]):
            if element.name not in OMITTABLE and not element.implied:
                raise LeftOpen(element)
        closed = self._pop_to(ended.floor)
        implied, ended.lost = tuple(ended.lost), []
        # The next branch begins with the elements that this one did: what it closed of the implied ones is opened
        # again.
        for element in implied:
            self._push(element)
        if block:
            self._blocks.pop()
            if ended.touched:
                self._touch()
        return TreeChange(tuple(closed), implied)

    def _touch(self) -> None:
        if self._blocks:
            self._blocks[-1].touched = True

    # -- svg and math --

    def _space(self, name: str, *, font: bool) -> str:
        """Returns what the element of a start tag belongs to: svg, math, or "" for HTML."""
        around = self.stack[-1] if self.stack else None
        if around is None or not around.is_foreign or ((around.foreign, around.name) == _ANNOTATION and name == "svg"):
            return name if name in FOREIGN else ""
        return "" if name in BREAKING_OUT or font else around.foreign

    def _break_out(self) -> list[OpenElement]:
        """Close svg and math up to where HTML's own rules hold."""
        index = len(self.stack)
        while index and self.stack[index - 1].is_foreign:
            index -= 1
        return self._pop_to(index)

    # -- what is implied --

    def _missing(self, name: str) -> tuple[str, ...]:
        """Returns the elements that a start tag, or "text", is to find open and does not."""
        within = self.innermost
        if within == "table":
            return {"tr": ("tbody",), "td": ("tbody", "tr"), "th": ("tbody", "tr"), "col": ("colgroup",)}.get(name, ())
        if within in _SECTIONS:
            return ("tr",) if name in ("td", "th") else ()
        if not self._page or within not in ("", "html") or name == "html":
            return ()
        missing = () if "html" in self._seen else ("html",)
        if name == "head" or "body" in self._seen:
            return missing
        if "head" not in self._seen:
            missing = (*missing, "head")
        return missing if name in HEAD or name == "body" else (*missing, "body")

    def _implied(self, name: str, closed: list[OpenElement], offset: int) -> TreeChange:
        """Open what a start tag implies; before the blocks in which nothing stands yet, since their branches share
        it."""
        names = self._missing(name) if name else ()
        empty_head = "head" in names and name not in HEAD
        before = 0
        if names:
            # An element that is implied at the head of a block would be opened in one branch and be open behind it. It
            # is opened before the block instead, where all branches share it.
            for block in reversed(self._blocks):
                if block.touched:
                    break
                before += 1
                block.lost = []
                block.depth = len(self.stack) + len(names) - empty_head
            if self._blocks and not before and not _OF_PAGE.isdisjoint(names):
                raise OutOfBranch(OpenElement("head", offset, offset, implied=True))
        implied = tuple(OpenElement(name, offset, offset, implied=True) for name in names)
        for element in implied:
            if element.name == "head" and empty_head:
                self._seen.add("head")
            else:
                self._push(element)
        return TreeChange(tuple(closed), implied, before=before, empty_head=empty_head)

    def _closed_by(self, name: str) -> list[OpenElement]:
        """Close what a start tag closes, innermost first."""
        closed: list[OpenElement] = []
        if self._page and self.innermost == "head" and name not in HEAD:
            return closed + self._pop_to(len(self.stack) - 1)
        if name == "li":
            closed += self._close_item(frozenset({"li"}))
        elif name in ("dt", "dd"):
            closed += self._close_item(frozenset({"dt", "dd"}))
        elif name in ("option", "optgroup"):
            # Outside of a select, an optgroup start tag closes an option alone.
            ended = frozenset({"option", name if self._at.get("select") else "option"})  # 13.2.6.4.7, 16
            while self.innermost in ended:
                closed += self._pop_to(len(self.stack) - 1)
        elif name in _RUBY and self._find(frozenset({"ruby"}), _SCOPE) is not None:
            ended = _ENDED_IN_RUBY if name in ("rb", "rtc") else _ENDED_IN_RUBY - {"rtc"}
            while self.innermost in ended:
                closed += self._pop_to(len(self.stack) - 1)
        elif name == "button":
            index = self._find(frozenset({name}), _SCOPE)
            closed += [] if index is None else self._pop_to(index)
        elif name in _TABLE_CLOSES:
            closed += self._close_in_table(_TABLE_CLOSES[name])
        # In quirks mode a table may stand in a paragraph (13.2.6.4.7, a start tag "table").
        if name in CLOSING_P and not (name == "table" and self.quirks):
            index = self._find(frozenset({"p"}), _BUTTON_SCOPE)
            closed += [] if index is None else self._pop_to(index)
        if name in HEADINGS and self.innermost in HEADINGS:
            closed += self._pop_to(len(self.stack) - 1)
        return closed

    # -- the stack --

    def _push(self, element: OpenElement) -> None:
        index = len(self.stack)
        self.stack.append(element)
        self._at[element.key].append(index)
        if not element.foreign:
            self._html.append(index)
        if element.name in _OF_PAGE:
            self._seen.add(element.name)
        if _is_special(element):
            self._special.append(index)
        if _is_barrier(element):
            self._barriers.append(index)

    def _last(self, names: Iterable[str]) -> int | None:
        """Returns where the innermost element with one of `names` stands."""
        found = [at[-1] for name in names if (at := self._at.get(name))]
        return max(found) if found else None

    def _find(self, names: frozenset[str], scope: frozenset[str]) -> int | None:
        """Returns where the innermost of `names` stands, if none of `scope` stands within it."""
        index = self._last(names)
        if index is None:
            return None
        barrier = self._last(scope)
        return index if barrier is None or barrier <= index else None

    def _close_item(self, names: frozenset[str]) -> list[OpenElement]:
        index = self._last(names)
        return self._pop_to(index) if index is not None and self._barriers[-1] == index else []

    def _close_in_table(self, names: frozenset[str]) -> list[OpenElement]:
        # Cells and rows of an outer table stay open: nothing outside of the innermost table is closed.
        table = self._last(TABLE_SCOPE)
        outermost = len(self.stack)
        for name in names:
            at = self._at.get(name, [])
            after = bisect_right(at, -1 if table is None else table)
            if after < len(at):
                outermost = min(outermost, at[after])
        return self._pop_to(outermost)

    def _pop_to(self, index: int) -> list[OpenElement]:
        """Close all from `index` on.  Of what was open before the block, only what no author wrote may be closed."""
        # A branch may close what was implied before its block, as a second <tr> does; an element that an author wrote
        # outside of the block is none of its business.
        lost = self.stack[index : self._blocks[-1].floor] if self._blocks else []
        for element in reversed(lost):
            if not element.implied:
                raise OutOfBranch(element)
        if lost:
            self._blocks[-1].lost = lost + self._blocks[-1].lost
        closed = self.stack[index:][::-1]
        del self.stack[index:]
        for element in closed:
            self._at[element.key].pop()
            if not element.foreign:
                self._html.pop()
            if _is_special(element):
                self._special.pop()
            if _is_barrier(element):
                self._barriers.pop()
        return closed
