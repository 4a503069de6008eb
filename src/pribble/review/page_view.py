"""The page of a message as its readers see it: which elements show, what is said in them, its links and pictures."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterator, Sequence

from pribble.cached_property import cached_property
from pribble.cascade.colours import Colour
from pribble.cascade.computed import ComputedStyle, PageStyles, StyledPage, declares_schemes
from pribble.cascade.elements import Element
from pribble.cascade.media_queries import Screen
from pribble.errors import Place
from pribble.markup.events import Characters, Closed, Opened
from pribble.markup.foreign_pages import read_foreign_page
from pribble.markup.references import REFERENCE, decode_references
from pribble.records import record
from pribble.regexes import regex

WIDE, NARROW = Screen(1000), Screen(390)
DARK = Screen(1000, scheme="dark")
# Text that is smaller than this, in CSS pixels, is there to be hidden.
_SMALLEST = 2.5
_MOVED_OUT = ("-9999", "-999")
_INLINE = frozenset({"inline", "contents", "inline-block", "ruby", "ruby-text", "inline-flex", "inline-table"})
_REFERENCE = regex(REFERENCE)
# So much of a label is read, from so many texts; and so many elements within another are looked at.
_LONGEST_LABEL, _MOST_TEXTS, _MOST_INSIDE = 300, 100, 50
_CODE = frozenset({"pre", "code", "kbd", "samp", "tt", "listing", "xmp"})
# What stands in a text for an element without one.
_STANDING = {"br": "\n", "img": "\ufffc"}


@record(frozen=True, slots=True)
class Text:
    """A text between tags, from `start` to `end` of the page; `element` is the number of the one it stands in."""

    start: int
    end: int
    element: int


@record(frozen=True, slots=True)
class Block:
    """What is said in one block, its white space as it is shown; `offsets` are where its characters stand in the page,
    `element` is the number of the one that it is in."""

    element: int
    text: str
    offsets: Sequence[int]

    def position(self, offset: int) -> int:
        """Returns where in the text what stands at an offset of the page is."""
        return bisect_left(self.offsets, offset)

    def span(self, start: int, end: int) -> tuple[int, int]:
        """Returns the stretch of the page that a stretch of the text stands in."""
        first = self.offsets[min(start, len(self.offsets) - 1)]
        return first, max(first + 1, self.offsets[min(max(start, end - 1), len(self.offsets) - 1)] + 1)


@record(frozen=True, slots=True)
class Link:
    """A link: its address, its label (words, and those for its pictures), how many pictures it has."""

    element: Element
    address: str
    label: str
    pictures: int


class _OpenBlock:
    """A block that is being read."""

    def __init__(self, element: int) -> None:
        self.element = element
        self.characters: list[str] = []
        self.offsets: list[int] = []

    def say(self, text: str, offsets: Sequence[int]) -> None:
        """Add a text, its white space as one space."""
        for character, offset in zip(text, offsets, strict=True):
            is_space = character in " \t\n\f\r"
            if is_space and (not self.characters or self.characters[-1] in " \n"):
                continue
            self.characters.append(" " if is_space else character)
            self.offsets.append(offset)

    def finished(self) -> Block | None:
        """Returns the block; None where it says nothing."""
        text = "".join(self.characters).rstrip(" ")
        return Block(self.element, text, self.offsets[: len(text)]) if text.strip() else None


class PageView:
    """A page of a message; `place` says where a stretch of it was written."""

    def __init__(self, html: str, place: Callable[[int, int], Place | None]) -> None:
        self.html, self.place = html, place
        self.page = read_foreign_page(html, comments=True)
        self.sheets = PageStyles(html, self.page)
        self.elements: Sequence[Element] = self.sheets.document.elements
        self.texts: list[Text] = []
        self.ends = [len(html)] * len(self.elements)  # where the elements end
        self._read()
        self._screens: dict[Screen, tuple[StyledPage, list[bool]]] = {}

    def _read(self) -> None:
        opened: list[int] = []
        number = -1
        for event in self.page.events:
            match event:
                case Opened():
                    number += 1
                    if event.void:
                        self.ends[number] = event.tag.end
                    else:
                        opened.append(number)
                case Closed(end=end):
                    self.ends[opened.pop()] = end
                case Characters(start=start, end=end, raw="") if opened:
                    self.texts.append(Text(start, end, opened[-1]))

    # -- how it shows --

    def on(self, screen: Screen) -> StyledPage:
        """Returns what the elements look like on a screen."""
        return self._on(screen)[0]

    def shows(self, number: int, screen: Screen = WIDE) -> bool:
        """Returns whether an element and what is around it show, by number."""
        return self._on(screen)[1][number]

    def _on(self, screen: Screen) -> tuple[StyledPage, list[bool]]:
        found = self._screens.get(screen)
        if found is None:
            styled = self.sheets.on(screen)
            shown: list[bool] = []
            for element, style in zip(self.elements, styled.styles, strict=True):
                around = shown[element.parent.number] if element.parent else True
                shown.append(around and not style.hides)
            found = self._screens[screen] = styled, shown
        return found

    def is_read(self, number: int, screen: Screen = WIDE) -> bool:
        """Returns whether text directly in an element can be read: it shows, and is not made small, or moved out of the
        window, to be hidden."""
        style = self.on(screen).styles[number]
        small = style.font_size < _SMALLEST or style.text_indent.startswith(_MOVED_OUT)
        return self.shows(number, screen) and style.visibility == "visible" and not small

    def style(self, number: int) -> ComputedStyle:
        """Returns what an element looks like on a wide screen."""
        return self.on(WIDE).styles[number]

    # -- what it says --

    @cached_property
    def blocks(self) -> list[Block]:
        """What is said, block by block, as it shows on a wide screen."""
        blocks = [_OpenBlock(0)]
        opened: list[int] = []
        number = -1
        for event in self.page.events:
            match event:
                case Opened():
                    number += 1
                    self._open(blocks, number)
                    if not event.void:
                        opened.append(number)
                case Closed():
                    closed = opened.pop()
                    if self.style(closed).display not in _INLINE:
                        blocks.append(_OpenBlock(opened[-1] if opened else 0))
                case Characters(start=start, end=end, raw="") if opened and self.is_read(opened[-1]):
                    blocks[-1].say(*decoded(self.html, start, end))
        return [made for block in blocks if (made := block.finished()) is not None]

    def block_at(self, offset: int) -> Block | None:
        """Returns the block in which something is said before and behind an offset of the page, or at it; None where
        there is none."""
        index = bisect_right(self.block_starts, offset) - 1
        return self.blocks[index] if index >= 0 and offset <= self.blocks[index].offsets[-1] else None

    @cached_property
    def block_starts(self) -> list[int]:
        """Where the blocks begin to say something."""
        return [block.offsets[0] for block in self.blocks]

    def _open(self, blocks: list[_OpenBlock], number: int) -> None:
        element = self.elements[number]
        if self.style(number).display not in _INLINE:
            blocks.append(_OpenBlock(number))
        elif element.local_name in _STANDING and self.shows(number):
            blocks[-1].characters.append(_STANDING[element.local_name])
            blocks[-1].offsets.append(element.opening.start)

    def said(self, start: int, end: int) -> str:
        """Returns the text from `start` to `end` of the page that can be read, white space as it is shown; of a long
        one the beginning."""
        made: list[str] = []
        size = 0
        first = bisect_left(self._text_starts, start)
        for text in self.texts[first : first + _MOST_TEXTS]:
            if text.start >= end or size > _LONGEST_LABEL:
                break
            if self.is_read(text.element):
                made.append(decode_references(self.html[text.start : text.end]))
                size += len(made[-1])
        return " ".join("".join(made).split())

    def is_code(self, number: int) -> bool:
        """Returns whether an element is in one that shows what a machine reads or writes, by number."""
        return self._code[number]

    @cached_property
    def _code(self) -> list[bool]:
        made: list[bool] = []
        for element in self.elements:
            made.append(element.local_name in _CODE or (element.parent is not None and made[element.parent.number]))
        return made

    def element_at(self, offset: int) -> Element | None:
        """Returns the element whose text stands at an offset of the page; None where none does."""
        index = bisect_right(self._text_starts, offset) - 1
        if index < 0 or offset >= self.texts[index].end:
            return None
        return self.elements[self.texts[index].element]

    def reads(self, offset: int) -> bool:
        """Returns whether what stands at an offset of the page is text that can be read."""
        element = self.element_at(offset)
        return element is not None and self.is_read(element.number)

    @cached_property
    def _text_starts(self) -> list[int]:
        return [text.start for text in self.texts]

    # -- links and pictures --

    @cached_property
    def links(self) -> list[Link]:
        """The links, in order."""
        made = []
        for element in self.elements:
            if element.local_name in ("a", "area") and "href" in element.values and self.shows(element.number):
                pictures = self.inside(element, "img")
                words = self.said(element.opening.end, self.ends[element.number])
                alts = [one.values.get("alt", "").strip() for one in pictures]
                if element.local_name == "area":
                    alts.append(element.values.get("alt", "").strip())
                label = " ".join(filter(None, [words, *alts])) or element.values.get("aria-label", "").strip()
                made.append(Link(element, element.values["href"].strip(), label, len(pictures)))
        return made

    def inside(self, element: Element, name: str) -> Sequence[Element]:
        """Returns the elements of a name within one, the first of very many."""
        numbers = self._by_name.get(name, [])
        first, last = bisect_right(numbers, element.number), bisect_right(numbers, element.last)
        return [self.elements[number] for number in numbers[first : min(last, first + _MOST_INSIDE)]]

    @cached_property
    def _by_name(self) -> dict[str, list[int]]:
        made: dict[str, list[int]] = {}
        for element in self.elements:
            made.setdefault(element.local_name, []).append(element.number)
        return made

    def tag_place(self, element: Element) -> Place | None:
        """Returns where the start tag of an element was written."""
        opening = element.opening
        return self.place(opening.start, max(opening.start + 1, opening.end))

    def attribute_place(self, element: Element, name: str) -> Place | None:
        """Returns where an attribute of an element was written; its tag where there is none."""
        attribute = element.opening.attribute(name)
        if attribute is None:
            return self.tag_place(element)
        start = attribute.value_start if attribute.value_end > attribute.value_start else attribute.start
        return self.place(start, max(start + 1, attribute.value_end)) or self.tag_place(element)

    # -- grounds --

    def grounds(self, screen: Screen, turned: Callable[[Colour], Colour] = lambda colour: colour) -> list[Ground]:
        """Returns what lies under the text of each element on a screen; `turned` says what a viewer makes of the
        colours of grounds."""
        styled = self.on(screen)
        canvas = turned(styled.canvas)
        made: list[Ground] = []
        for element, style in zip(self.elements, styled.styles, strict=True):
            outer = made[element.parent.number] if element.parent else Ground(canvas, False)
            covers = style.background_color.alpha == 1
            # What the root has for a ground lies under the whole page already.
            own = turned(style.background_color) if style.background_color.alpha else style.background_color
            colour = own.over(outer.colour) if element.parent else canvas
            share, rest = outer.share, outer.rest
            if style.opacity < 1:
                beneath = (outer.colour.red, outer.colour.green, outer.colour.blue)
                left = share * (1 - style.opacity)
                rest = tuple(have + left * part for have, part in zip(rest, beneath, strict=True))
                share *= style.opacity
            made.append(Ground(colour, style.pictured or (outer.pictured and not covers), share, rest))
        return made


@record(frozen=True, slots=True)
class Ground:
    """What lies under a text: a colour, and whether there is a picture too.

    Elements that are not opaque mix what is in them with what is beneath: `share` is how much of it is left, and `rest`
    what is added of beneath, red, green and blue (CSS Color 4, 16).
    """

    colour: Colour
    pictured: bool
    share: float = 1.0
    rest: tuple[float, ...] = (0.0, 0.0, 0.0)

    def seen(self, colour: Colour) -> tuple[Colour, Colour]:
        """Returns a colour on it, and it, as they are seen."""
        return self._faded(colour.over(self.colour)), self._faded(self.colour)

    def _faded(self, colour: Colour) -> Colour:
        if self.share == 1:
            return colour
        own = (colour.red, colour.green, colour.blue)
        red, green, blue = (round(self.share * part + more) for part, more in zip(own, self.rest, strict=True))
        return Colour(red, green, blue)


def decoded(html: str, start: int, end: int) -> tuple[str, list[int]]:
    """Returns a text of a page with its references read, and where each character stands."""
    made: list[str] = []
    offsets: list[int] = []
    position = start
    for found in _REFERENCE.finditer(html, start, end):
        read = decode_references(found[0])
        if read == found[0]:
            continue
        made.append(html[position : found.start()])
        offsets += range(position, found.start())
        made.append(read)
        offsets += [found.start()] * len(read)
        position = found.end()
    made.append(html[position:end])
    offsets += range(position, end)
    return "".join(made), offsets


def screens_of(view: PageView) -> Iterator[tuple[str, Screen]]:
    """Yields the screens that a page may look different on, with how findings call them."""
    yield "", WIDE
    conditions = {condition for rule in view.sheets.rules.all for condition in rule.conditions}
    if any("width" in condition for condition in conditions):
        yield " on a narrow screen", NARROW
    if any(map(declares_schemes, view.elements)) or any(
        "prefers-color-scheme" in condition for condition in conditions
    ):
        yield " in dark", DARK
