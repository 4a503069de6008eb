"""A page dressed: styles in its elements, what is left of its sheets, old attributes on request, sizes of pictures.

The page is a template's, when it is compiled, or a rendering's, where only the data decide what its elements get.  What
comes back is a list of changes at offsets, which are applied to the tape or to the rendered text.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from pribble.cascade import presentational_attributes, style_attribute
from pribble.cascade.cascade_order import Group
from pribble.cascade.elements import Element
from pribble.cascade.inlining import Doubt, Dressed, Inlined, Left, Surroundings, inline
from pribble.cascade.residual_sheets import Label
from pribble.cascade.rules import Told
from pribble.cascade.style_attribute import Piece
from pribble.markup.events import Closed, Opened
from pribble.markup.page import Page
from pribble.markup.scanner import Attribute
from pribble.markup.value_branches import Role
from pribble.passes.picture_sizes import Size, depends_on_data, is_sized


class Corner(str):
    """A place in a page that a fragment of it is cut at: an empty text that is told from all others.  Wherever a page
    is copied to, there is one of each `name`."""

    __slots__ = ("name",)

    name: str

    @classmethod
    def named(cls, name: str) -> Corner:
        """The place of this name."""
        made = cls()
        made.name = name
        return made

    def __reduce__(self) -> Any:
        return self.name


# The head's style sheets; the body's attributes and its content; end tags that are no content.
SHEET, SHEET_END = Corner.named("SHEET"), Corner.named("SHEET_END")
BODY_TAG, BODY = Corner.named("BODY_TAG"), Corner.named("BODY")
TAIL, TAIL_END = Corner.named("TAIL"), Corner.named("TAIL_END")


@dataclass(frozen=True, slots=True)
class Change:
    """What takes the place of a page's text from `start` to `end`: texts, corners, stretches of the page."""

    start: int
    end: int
    pieces: tuple[Piece, ...]


@dataclass(frozen=True, slots=True)
class Dressing:
    """The changes to a page, the sizes of its pictures by the offsets of their tags, what is told, and what cannot be
    decided without the data; `inlined` is what it was made of."""

    changes: tuple[Change, ...] = ()
    sizes: tuple[tuple[int, Size], ...] = ()
    told: tuple[Told, ...] = ()
    doubts: tuple[Doubt, ...] = ()
    dressed: frozenset[int] = frozenset()  # the offsets of the tags whose style is among the changes
    sheets: frozenset[int] = frozenset()  # likewise of the style sheets
    inlined: Inlined = field(default_factory=Inlined)


def dress(text: str, page: Page, role: Role, around: Surroundings, *, old_attributes: bool) -> Dressing:
    """Dress a page; `old_attributes` asks for the presentational attributes."""
    made = inline(text, page, role, around)
    changes: list[Change] = []
    doubts = list(made.doubts)
    written = _Written()
    for dressed in made.dressed:
        changes += _dressed(dressed, written)
        if dressed.added and "class" in dressed.element.unsure:
            doubts.append(Doubt(dressed.element.opening.start, dressed.element.opening.end, "its class holds a mark"))
    if old_attributes:
        for number, group in made.styles.items():
            changes += _old_attributes(made.elements[number], group)
    for left in made.sheets:
        changes += _sheet(left, made.raw.get(left.element.number))
    sizes = []
    for element in filter(is_sized, made.elements):
        said = made.styles.get(element.number)
        sizes.append((element.opening.start, Size.of(element, said)))
        if depends_on_data(element, said):
            doubts.append(Doubt(element.opening.start, element.opening.end, "a picture's size holds a mark"))
    return Dressing(
        tuple(changes),
        tuple(sizes),
        tuple(made.told),
        tuple(doubts),
        frozenset(d.element.opening.start for d in made.dressed if d.style is not None),
        frozenset(left.element.opening.start for left in made.sheets if left.before != left.text),
        made,
    )


def _name_end(element: Element) -> int:
    return element.opening.start + 1 + len(element.local_name)


class _Written:
    """Styles as they are written between quotes; once for all elements that get the same."""

    def __init__(self) -> None:
        self._known: dict[tuple[int, str], tuple[Piece, ...]] = {}

    def __call__(self, style: tuple[tuple[Piece, ...], ...], quote: str) -> tuple[Piece, ...]:
        key = id(style), quote
        if key not in self._known:
            self._known[key] = style_attribute.joined(style, quote)
        return self._known[key]


def _dressed(dressed: Dressed, written: _Written) -> Iterator[Change]:
    element, tag = dressed.element, dressed.element.opening
    if element.implied:
        style = written(dressed.style or (), '"')
        added = f" {_attribute(dressed.added)}" if dressed.added else ""
        corners: tuple[Piece, Piece] = (BODY_TAG, BODY) if element.local_name == "body" else ("", "")
        yield Change(
            tag.start, tag.start, (f"<{element.local_name}", corners[0], f'{added} style="', *style, '">', corners[1])
        )
        return
    if dressed.style is not None:
        own = tag.attribute("style")
        if own is None:
            pieces = (' style="', *written(dressed.style, '"'), '"')
            yield Change(_name_end(element), _name_end(element), pieces)
        else:
            quote = "'" if own.quote == "'" else '"'
            pieces = written(dressed.style, quote)
            yield Change(own.start, own.end, (f"style={quote}", *pieces, quote))
    if dressed.added and dressed.added.is_class:
        yield from _class(tag.attribute("class"), element, f"pribble-{dressed.added.number}")
    elif dressed.added:
        yield Change(_name_end(element), _name_end(element), (f" {_attribute(dressed.added)}",))


def _attribute(label: Label) -> str:
    name = "class" if label.is_class else "data-pribble"
    return f'{name}="{f"pribble-{label.number}" if label.is_class else label.number}"'


def _class(own: Attribute | None, element: Element, name: str) -> Iterator[Change]:
    if own is None or own.quote is None:
        start, end = (own.start, own.end) if own else (_name_end(element), _name_end(element))
        yield Change(start, end, (f' class="{name}"' if own is None else f'class="{name}"',))
        return
    bare = "" if own.quote else '"'
    yield Change(own.value_start, own.value_start, (f"{bare}{name} ",))
    if bare:
        yield Change(own.value_end, own.value_end, (bare,))


def _old_attributes(element: Element, group: Group) -> Iterator[Change]:
    if element.implied or element.unrendered:
        return
    added = "".join(f' {name}="{value}"' for name, value in presentational_attributes.attributes(element, group))
    if added:
        yield Change(_name_end(element), _name_end(element), (added,))


def _sheet(left: Left, raw: tuple[int, int, int] | None) -> Iterator[Change]:
    tag = left.element.opening
    end = raw[2] if raw else tag.end
    if raw is None:
        yield Change(tag.start, tag.end, (SHEET, left.text, SHEET_END) if left.text is not None else ())
    elif left.text is None:
        yield Change(tag.start, end, ())
    elif left.text != left.before:
        yield Change(raw[0], raw[1], (left.text,))
    if left.after:
        yield Change(end, end, (SHEET, left.after, SHEET_END))


class Cut(Corner):
    """A text between two corners, with the first of them: what of a page a fragment takes or leaves as a whole."""

    __slots__ = ("corner",)

    corner: Corner

    @classmethod
    def of(cls, corner: Corner, text: str) -> Cut:
        """The text behind a corner, up to its end."""
        made = cls(text)
        made.corner = corner
        return made

    def __reduce__(self) -> Any:
        return Cut.of, (self.corner, str(self))


_ENDS = {id(SHEET): SHEET_END, id(BODY_TAG): BODY, id(TAIL): TAIL_END}


def together(steps: Sequence[Any]) -> Iterator[Any]:
    """`steps`, each text that stands alone between two corners as one of them: pieces cost time."""
    index = 0
    while index < len(steps):
        step = steps[index]
        end = _ENDS.get(id(step))
        if end is not None and index + 2 < len(steps) and steps[index + 1].__class__ is str and steps[index + 2] is end:
            yield Cut.of(step, steps[index + 1])
            index += 3
        else:
            yield step
            index += 1


def corners(page: Page, text: str) -> Iterator[tuple[int, Corner]]:
    """Where a fragment of a page is cut."""
    begun = False
    for event in page.events:
        match event:
            case Opened() if event.tag.name == "style" and not begun:
                yield event.tag.start, SHEET
            case Closed(name="style", end=end) if not begun:
                yield end, SHEET_END
            case Opened() if event.tag.name == "body":
                begun = True
                if not event.implied:
                    yield event.tag.start + len("<body"), BODY_TAG
                yield event.tag.end, BODY
    ends = page.page_ends
    for index, (start, end) in enumerate(ends):
        if not index or text[ends[index - 1][1] : start].strip():
            yield start, TAIL
        if index + 1 == len(ends) or text[end : ends[index + 1][0]].strip():
            yield end, TAIL_END


def _apart(pieces: Sequence[str]) -> Iterator[str]:
    for piece in pieces:
        if isinstance(piece, Cut):
            yield from (piece.corner, str(piece), _ENDS[id(piece.corner)])
        else:
            yield piece


def cut(pieces: Sequence[str]) -> list[str]:
    """The pieces of a fragment: the head's style sheets, then the inside of the body, in a ``div`` where the body says
    something of it."""
    made: list[str] = []
    closing: list[str] = []
    body: list[str] | None = None
    taking = False
    for piece in _apart(pieces):
        if piece.__class__ is not Corner:
            if taking:
                (made if body is None else body).append(piece)
        elif piece is SHEET:
            taking = True
        elif piece is SHEET_END:
            taking = body is not None
        elif piece is BODY_TAG:
            body, taking = [], True
        elif piece is BODY:
            said = "".join(body or ()).strip().rstrip("/").removesuffix(">").strip()
            if said and body:
                made += ["<div", *body]
                closing = ["</div>"]
            body, taking = [], True
        elif piece is TAIL:
            taking = False
        elif piece is TAIL_END:
            taking = True
    return made if body is None else [*made, *body, *closing]
