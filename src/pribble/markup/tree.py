"""Which elements are open, and which end tags an author may leave out (WHATWG HTML 13.2.6.4, 13.1.2.4).

`OpenElements` follows start and end tags and says which elements each of them closes.  Misnested
formatting is not imitated: an end tag closes what is open inside its element.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

VOID = frozenset("area base basefont bgsound br col embed frame hr img input keygen link meta param source track "
                 "wbr".split())
# Elements whose end tag may be omitted, and which therefore end with what contains them.
OMITTABLE = frozenset("li p dt dd td th tr thead tbody tfoot colgroup caption option optgroup rb rp rt rtc".split())

_CLOSE_P = frozenset(
    "address article aside blockquote center details dialog dir div dl fieldset figcaption figure footer header hgroup "
    "main menu nav ol p search section summary ul h1 h2 h3 h4 h5 h6 pre listing form table hr xmp plaintext li dd dt"
    .split())
_HEADINGS = frozenset("h1 h2 h3 h4 h5 h6".split())
_SCOPE = frozenset("applet caption html table td th marquee object template svg math".split())
_BUTTON_SCOPE = _SCOPE | {"button"}
_FORMATTING = frozenset("a b big code em font i nobr s small strike strong tt u".split())
_TABLE_SCOPE = frozenset({"html", "table", "template"})
_TRANSPARENT = frozenset({"address", "div", "p"})  # a new li looks through these for the last one
_SPECIAL = _CLOSE_P | _SCOPE | frozenset("body button iframe input select textarea tr tbody thead tfoot col colgroup "
                                         "img br head style script title link meta".split())

# A start tag of the left closes these, up to the end of the table scope.
_TABLE_CLOSES: dict[str, frozenset[str]] = {
    "td": frozenset({"td", "th"}),
    "th": frozenset({"td", "th"}),
    "tr": frozenset({"td", "th", "tr", "caption", "colgroup"}),
    **dict.fromkeys(("tbody", "thead", "tfoot"),
                    frozenset({"td", "th", "tr", "tbody", "thead", "tfoot", "caption", "colgroup"})),
    "caption": frozenset({"caption", "colgroup"}),
    "colgroup": frozenset({"caption", "colgroup"}),
}


@dataclass(frozen=True, slots=True)
class Element:
    """An open element; `start` is the offset of its start tag."""

    name: str
    start: int
    end: int


def _end_scope(name: str) -> frozenset[str]:
    """The elements that an end tag does not reach beyond (13.2.6.4.7)."""
    if name in ("table", "html", "body", "svg", "math"):
        return frozenset({"template"})
    if name in _TABLE_CLOSES:
        return _TABLE_SCOPE
    if name == "p":
        return _BUTTON_SCOPE
    return _SCOPE if name in _SPECIAL or name in _FORMATTING else _SPECIAL


class OutOfBranch(Exception):
    """A tag would close `element`, which was opened outside the block that the tag stands in."""

    def __init__(self, element: Element) -> None:
        super().__init__(element.name)
        self.element = element


class OpenElements:
    """The stack of open elements; `floor` is how many of them belong to outside the current branch."""

    def __init__(self) -> None:
        self.stack: list[Element] = []
        self.floor = 0
        self.foreign = 0
        self._open: Counter[str] = Counter()  # spares the search for what is not open: it would be quadratic

    @property
    def innermost(self) -> str:
        return self.stack[-1].name if self.stack else ""

    def start(self, name: str, start: int, end: int, *, self_closing: bool = False) -> list[Element]:
        """Take in a start tag; returns the elements that it closes, innermost first."""
        closed = [] if self.foreign else self._closed_by(name)
        if name in VOID or (self_closing and (":" in name or self.foreign or name in ("svg", "math"))):
            return closed
        if name in ("svg", "math"):
            self.foreign += 1
        self.stack.append(Element(name, start, end))
        self._open[name] += 1
        return closed

    def _closed_by(self, name: str) -> list[Element]:
        closed: list[Element] = []
        if name == "li":
            closed += self._close_item({"li"})
        elif name in ("dt", "dd"):
            closed += self._close_item({"dt", "dd"})
        elif name in ("option", "optgroup"):
            while self.innermost == "option" or (name == "optgroup" and self.innermost == "optgroup"):
                closed += self._pop_to(len(self.stack) - 1)
        elif name in _TABLE_CLOSES:
            closed += self._close_in_table(_TABLE_CLOSES[name])
        if name in _CLOSE_P and (index := self._find({"p"}, _BUTTON_SCOPE)) is not None:
            closed += self._pop_to(index)
        if name in _HEADINGS and self.innermost in _HEADINGS:
            closed += self._pop_to(len(self.stack) - 1)
        return closed

    def end(self, name: str) -> list[Element] | None:
        """Take in an end tag; returns the elements it closes, its own last, or None where it closes nothing."""
        names = _HEADINGS if name in _HEADINGS else frozenset({name})
        index = self._find(names, _end_scope(name) - names)
        return None if index is None else self._pop_to(index)

    def leave(self, depth: int) -> list[Element]:
        """Close what is open above `depth`, as the end of a branch or of the page does."""
        return self._pop_to(depth)

    def _find(self, names: Iterable[str], scope: Iterable[str]) -> int | None:
        if not any(self._open[name] for name in names):
            return None
        for index in range(len(self.stack) - 1, -1, -1):
            if self.stack[index].name in names:
                return index
            if self.stack[index].name in scope:
                return None
        return None

    def _close_item(self, names: set[str]) -> list[Element]:
        if not any(self._open[name] for name in names):
            return []
        for index in range(len(self.stack) - 1, -1, -1):
            name = self.stack[index].name
            if name in names:
                return self._pop_to(index)
            if name in _SPECIAL and name not in _TRANSPARENT:
                break
        return []

    def _close_in_table(self, names: frozenset[str]) -> list[Element]:
        if not any(self._open[name] for name in names):
            return []
        index = len(self.stack)
        for at in range(len(self.stack) - 1, -1, -1):
            if self.stack[at].name in _TABLE_SCOPE:
                break
            if self.stack[at].name in names:
                index = at
        return self._pop_to(index)

    def _pop_to(self, index: int) -> list[Element]:
        if index < min(self.floor, len(self.stack)):
            raise OutOfBranch(self.stack[self.floor - 1])
        closed = self.stack[index:][::-1]
        del self.stack[index:]
        self._open.subtract(element.name for element in closed)
        self.foreign -= sum(element.name in ("svg", "math") for element in closed)
        return closed
