"""The elements of a page, as selectors see them.

Of a template's page some things depend on the data: the attributes that hold marks, and which siblings an element has
beside a loop or a branch.  An element knows them, so that a selector which asks for one of them is found out.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable

from pribble.markup.events import Characters, Closed, Marked, Opened, between
from pribble.markup.page import Page
from pribble.markup.references import decode_references
from pribble.markup.scanner import StartTag
from pribble.markup.value_branches import CLOSE, ENDING, OPENING, SHOW, Role
from pribble.regexes import regex

# Elements of which nothing is rendered, so that no style is written into them.
UNRENDERED = frozenset("head title meta link style script base template noscript area param source track".split())


_WORD = regex("[^ \t\r\n\f]+")


def words(value: str) -> frozenset[str]:
    """Returns the words of an attribute such as ``class`` (WHATWG HTML 2.3.7)."""
    return frozenset(_WORD.findall(value))


class Element:
    """An element; `number` is its place among all of the page and `last` that of the last one within it, `opening` its
    start tag, `implied` whether none is written, `index` its place among its siblings.

    `values` are its attributes' values, references read.  `dynamic_attributes` are the names of those whose value
    depends on the data, `conditional_attributes` of those that may not be there at all; with `varying`, which children
    it has depends on the data, with `filling` what text it holds.
    """

    def __init__(self, number: int, tag: StartTag, parent: Element | None, block: int, *, implied: bool) -> None:
        self.number, self.opening, self.parent, self.block, self.implied = number, tag, parent, block, implied
        self.local_name = tag.name
        self.last = number
        self.children: list[Element] = []
        self.index = len(parent.children) if parent else 0
        self.values: dict[str, str] = {}
        self.dynamic_attributes: frozenset[str] = frozenset()
        self.conditional_attributes: frozenset[str] = frozenset()
        self.varying = self.filling = False
        self.foreign = ""  # svg or math, where it belongs to one of them
        self.text = ""
        self.classes: frozenset[str] = frozenset()
        self.unrendered: bool = tag.name in UNRENDERED or (parent is not None and parent.unrendered)


class Document:
    """The elements of a page that has been read, in order."""

    def __init__(self, text: str, page: Page, role: Role, may_lack: Callable[[int], bool]) -> None:
        self.text, self.page, self.role, self.may_lack = text, page, role, may_lack
        self.elements: list[Element] = []
        self.shown: list[int] = []  # the marks between tags that show a value
        # Where the text of each style element stands, and where the element ends, by its number.
        self.raw: dict[int, tuple[int, int, int]] = {}
        self._build()

    def _build(self) -> None:
        open_: list[Element] = []
        blocks, count = [0], 0
        for event in self.page.events:
            inner = open_[-1] if open_ else None
            match event:
                case Opened():
                    element = self._element(event, inner, blocks[-1])
                    if not event.void:
                        open_.append(element)
                case Closed(start=start, end=end):
                    closed = open_.pop()
                    closed.last = len(self.elements) - 1
                    if closed.local_name == "style":
                        self.raw[closed.number] = closed.opening.end, start, end
                case Characters(start=start, end=end):
                    if inner:
                        inner.text = inner.text or self.text[start:end]
                case Marked(offset=offset):
                    role = self.role(offset)
                    if role == SHOW:
                        self.shown.append(offset)
                    if role in OPENING:
                        count += 1
                        blocks.append(count)
                    elif role == CLOSE:
                        blocks.pop()
                    elif role in ENDING:
                        count += 1
                        blocks[-1] = count
                    if inner and role != "set":
                        inner.filling = True
        for element in open_:
            element.last = len(self.elements) - 1

    def _element(self, opened: Opened, parent: Element | None, block: int) -> Element:
        tag = opened.tag
        element = Element(len(self.elements), tag, parent, block, implied=opened.implied)
        element.foreign = opened.foreign
        self.elements.append(element)
        if parent is not None:
            parent.children.append(element)
            parent.varying |= block != parent.block
        dynamic, conditional = set(), set()
        starts = [attribute.value_start for attribute in tag.attributes] if opened.blocks else []
        open_ended = any(
            not (at := bisect_right(starts, offset)) or offset >= tag.attributes[at - 1].value_end
            for offset in opened.blocks
        )  # whether a block stands between attributes
        marks = sorted((*opened.marks, *opened.blocks)) if opened.marks or opened.blocks else ()
        for attribute in tag.attributes:
            value = decode_references(self.text[attribute.value_start : attribute.value_end], attribute=True)
            element.values.setdefault(attribute.name, value)
            held = between(marks, attribute.value_start, attribute.value_end)
            if held or open_ended:
                dynamic.add(attribute.name)
            if open_ended or (len(held) == 1 == attribute.value_end - attribute.value_start and self.may_lack(held[0])):
                conditional.add(attribute.name)
        element.dynamic_attributes, element.conditional_attributes = frozenset(dynamic), frozenset(conditional)
        if "class" in element.values:
            element.classes = words(element.values["class"])
        return element
