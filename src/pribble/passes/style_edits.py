"""A page dressed: styles in its elements, what is left of its sheets, old attributes on request, sizes of pictures.

The page is a template's, when it is compiled, or a rendering's, where only the data decide what its elements get.  What
comes back is a list of changes at offsets, which are applied to the tape or to the rendered text.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

from pribble.cascade import presentational_attributes, style_attribute
from pribble.cascade.cascade_order import ElementStyles
from pribble.cascade.elements import Element
from pribble.cascade.inlining import (
    InlinedStyles,
    PageResources,
    RuntimeDependency,
    SheetRemainder,
    StyledElement,
    inline_sheets,
)
from pribble.cascade.residual_sheets import MatchLabel
from pribble.cascade.rules import SheetFinding
from pribble.cascade.style_attribute import TextOrSpan
from pribble.markup.events import Closed, Opened
from pribble.markup.page import Page
from pribble.markup.scanner import Attribute
from pribble.markup.value_branches import Role
from pribble.passes.picture_sizes import PictureSize, is_sized, size_depends_on_data


class FragmentBoundary(str):
    """A place in a page that a fragment of it is cut at: an empty text that is told from all others.  Wherever a page
    is copied to, there is one of each `name`."""

    __slots__ = ("name",)

    name: str

    @classmethod
    def named(cls, name: str) -> FragmentBoundary:
        """The place of this name."""
        made = cls()
        made.name = name
        return made

    def __reduce__(self) -> Any:
        return self.name


# The head's style sheets; the body's attributes and its content; end tags that are no content.
SHEET, SHEET_END = FragmentBoundary.named("SHEET"), FragmentBoundary.named("SHEET_END")
BODY_TAG, BODY = FragmentBoundary.named("BODY_TAG"), FragmentBoundary.named("BODY")
TAIL, TAIL_END = FragmentBoundary.named("TAIL"), FragmentBoundary.named("TAIL_END")


@dataclass(frozen=True, slots=True)
class StyleEdit:
    """What takes the place of a page's text from `start` to `end`: texts, corners, stretches of the page."""

    start: int
    end: int
    pieces: tuple[TextOrSpan, ...]


@dataclass(frozen=True, slots=True)
class StyleEdits:
    """The changes to a page, the sizes of its pictures by the offsets of their tags, what is told, and what cannot be
    decided without the data; `inlined` is what it was made of."""

    edits: tuple[StyleEdit, ...] = ()
    sizes: tuple[tuple[int, PictureSize], ...] = ()
    findings: tuple[SheetFinding, ...] = ()
    runtime_dependencies: tuple[RuntimeDependency, ...] = ()
    styled_tags: frozenset[int] = frozenset()  # the offsets of the tags whose style is among the changes
    edited_sheets: frozenset[int] = frozenset()  # likewise of the style sheets
    inlined: InlinedStyles = field(default_factory=InlinedStyles)


def find_style_edits(text: str, page: Page, role: Role, around: PageResources, *, old_attributes: bool) -> StyleEdits:
    """Dress a page; `old_attributes` asks for the presentational attributes."""
    made = inline_sheets(text, page, role, around)
    changes: list[StyleEdit] = []
    doubts = list(made.runtime_dependencies)
    written = _StyleWriter()
    for dressed in made.styled:
        changes += _element_edits(dressed, written)
        if dressed.added and "class" in dressed.element.dynamic_attributes:
            doubts.append(
                RuntimeDependency(dressed.element.opening.start, dressed.element.opening.end, "its class holds a mark")
            )
    if old_attributes:
        for number, group in made.styles.items():
            changes += _old_attributes(made.elements[number], group)
    for left in made.sheets:
        changes += _sheet(left, made.raw.get(left.element.number))
    sizes = []
    for element in filter(is_sized, made.elements):
        said = made.styles.get(element.number)
        sizes.append((element.opening.start, PictureSize.of(element, said)))
        if size_depends_on_data(element, said):
            doubts.append(
                RuntimeDependency(element.opening.start, element.opening.end, "a picture's size holds a mark")
            )
    return StyleEdits(
        tuple(changes),
        tuple(sizes),
        tuple(made.findings),
        tuple(doubts),
        frozenset(d.element.opening.start for d in made.styled if d.style is not None),
        frozenset(left.element.opening.start for left in made.sheets if left.before != left.text),
        made,
    )


def _name_end(element: Element) -> int:
    return element.opening.start + 1 + len(element.local_name)


class _StyleWriter:
    """Styles as they are written between quotes; once for all elements that get the same."""

    def __init__(self) -> None:
        self._known: dict[tuple[int, str], tuple[TextOrSpan, ...]] = {}

    def __call__(self, style: tuple[tuple[TextOrSpan, ...], ...], quote: str) -> tuple[TextOrSpan, ...]:
        key = id(style), quote
        if key not in self._known:
            self._known[key] = style_attribute.join_declarations(style, quote)
        return self._known[key]


def _element_edits(dressed: StyledElement, written: _StyleWriter) -> Iterator[StyleEdit]:
    element, tag = dressed.element, dressed.element.opening
    if element.implied:
        style = written(dressed.style or (), '"')
        added = f" {_label_attribute(dressed.added)}" if dressed.added else ""
        corners: tuple[TextOrSpan, TextOrSpan] = (BODY_TAG, BODY) if element.local_name == "body" else ("", "")
        yield StyleEdit(
            tag.start, tag.start, (f"<{element.local_name}", corners[0], f'{added} style="', *style, '">', corners[1])
        )
        return
    if dressed.style is not None:
        own = tag.attribute("style")
        if own is None:
            pieces = (' style="', *written(dressed.style, '"'), '"')
            yield StyleEdit(_name_end(element), _name_end(element), pieces)
        else:
            quote = "'" if own.quote == "'" else '"'
            pieces = written(dressed.style, quote)
            yield StyleEdit(own.start, own.end, (f"style={quote}", *pieces, quote))
    if dressed.added and dressed.added.is_class:
        yield from _class(tag.attribute("class"), element, f"pribble-{dressed.added.number}")
    elif dressed.added:
        yield StyleEdit(_name_end(element), _name_end(element), (f" {_label_attribute(dressed.added)}",))


def _label_attribute(label: MatchLabel) -> str:
    name = "class" if label.is_class else "data-pribble"
    return f'{name}="{f"pribble-{label.number}" if label.is_class else label.number}"'


def _class(own: Attribute | None, element: Element, name: str) -> Iterator[StyleEdit]:
    if own is None or own.quote is None:
        start, end = (own.start, own.end) if own else (_name_end(element), _name_end(element))
        yield StyleEdit(start, end, (f' class="{name}"' if own is None else f'class="{name}"',))
        return
    bare = "" if own.quote else '"'
    yield StyleEdit(own.value_start, own.value_start, (f"{bare}{name} ",))
    if bare:
        yield StyleEdit(own.value_end, own.value_end, (bare,))


def _old_attributes(element: Element, group: ElementStyles) -> Iterator[StyleEdit]:
    if element.implied or element.unrendered:
        return
    added = "".join(
        f' {name}="{value}"' for name, value in presentational_attributes.presentational_attributes(element, group)
    )
    if added:
        yield StyleEdit(_name_end(element), _name_end(element), (added,))


def _sheet(left: SheetRemainder, raw: tuple[int, int, int] | None) -> Iterator[StyleEdit]:
    tag = left.element.opening
    end = raw[2] if raw else tag.end
    if raw is None:
        yield StyleEdit(tag.start, tag.end, (SHEET, left.text, SHEET_END) if left.text is not None else ())
    elif left.text is None:
        yield StyleEdit(tag.start, end, ())
    elif left.text != left.before:
        yield StyleEdit(raw[0], raw[1], (left.text,))
    if left.after:
        yield StyleEdit(end, end, (SHEET, left.after, SHEET_END))


class FragmentSlice(FragmentBoundary):
    """A text between two corners, with the first of them: what of a page a fragment takes or leaves as a whole."""

    __slots__ = ("corner",)

    corner: FragmentBoundary

    @classmethod
    def of(cls, corner: FragmentBoundary, text: str) -> FragmentSlice:
        """The text behind a corner, up to its end."""
        made = cls(text)
        made.corner = corner
        return made

    def __reduce__(self) -> Any:
        return FragmentSlice.of, (self.corner, str(self))


_ENDS = {id(SHEET): SHEET_END, id(BODY_TAG): BODY, id(TAIL): TAIL_END}


def merge_slices(steps: Sequence[Any]) -> Iterator[Any]:
    """`steps`, each text that stands alone between two corners as one of them: pieces cost time."""
    index = 0
    while index < len(steps):
        step = steps[index]
        end = _ENDS.get(id(step))
        if end is not None and index + 2 < len(steps) and steps[index + 1].__class__ is str and steps[index + 2] is end:
            yield FragmentSlice.of(step, steps[index + 1])
            index += 3
        else:
            yield step
            index += 1


def fragment_boundaries(page: Page, text: str) -> Iterator[tuple[int, FragmentBoundary]]:
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


def _unmerge_slices(pieces: Sequence[str]) -> Iterator[str]:
    for piece in pieces:
        if isinstance(piece, FragmentSlice):
            yield from (piece.corner, str(piece), _ENDS[id(piece.corner)])
        else:
            yield piece


def cut_fragment(pieces: Sequence[str]) -> list[str]:
    """The pieces of a fragment: the head's style sheets, then the inside of the body, in a ``div`` where the body says
    something of it."""
    made: list[str] = []
    closing: list[str] = []
    body: list[str] | None = None
    taking = False
    for piece in _unmerge_slices(pieces):
        if piece.__class__ is not FragmentBoundary:
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
