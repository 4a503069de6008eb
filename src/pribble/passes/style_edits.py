"""The styles of a page as edits: its elements' new attributes, what is left of its sheets, the sizes of its pictures.

The page is a template's, when it is compiled, or a rendering's, where only the data decide which styles its elements
get.  The edits are applied to the template's source or to the rendered text.
"""

from __future__ import annotations

from collections.abc import Iterator

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
from pribble.edits import Edit
from pribble.markup.page import Page
from pribble.markup.scanner import Attribute
from pribble.markup.value_branches import Role
from pribble.passes.picture_sizes import PictureSize, is_sized, size_depends_on_data
from pribble.passes.pieces import Boundary
from pribble.records import field, record

# What is written: texts, boundaries of fragments, stretches of the page that stay.
StylePiece = TextOrSpan | Boundary


@record(frozen=True, slots=True)
class StyleEdits:
    """The edits of a page, the sizes of its pictures by the offsets of their tags, the findings, and what cannot be
    decided without the data; `inlined` is what it was made of."""

    edits: tuple[Edit[StylePiece], ...] = ()
    sizes: tuple[tuple[int, PictureSize], ...] = ()
    findings: tuple[SheetFinding, ...] = ()
    runtime_dependencies: tuple[RuntimeDependency, ...] = ()
    styled_tags: frozenset[int] = frozenset()  # the offsets of the tags whose style is among the changes
    edited_sheets: frozenset[int] = frozenset()  # likewise of the style sheets
    inlined: InlinedStyles = field(default_factory=InlinedStyles)


def find_style_edits(
    text: str, page: Page, role: Role, resources: PageResources, *, old_attributes: bool
) -> StyleEdits:
    """Find the edits that the styles of a page ask for; `old_attributes` asks for the presentational attributes."""
    made = inline_sheets(text, page, role, resources)
    changes: list[Edit[StylePiece]] = []
    dependencies = list(made.runtime_dependencies)
    written = _StyleWriter()
    for styled in made.styled:
        changes += _element_edits(styled, written)
        if styled.added and "class" in styled.element.dynamic_attributes:
            dependencies.append(
                RuntimeDependency(styled.element.opening.start, styled.element.opening.end, "its class holds a mark")
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
            dependencies.append(
                RuntimeDependency(element.opening.start, element.opening.end, "a picture's size holds a mark")
            )
    return StyleEdits(
        tuple(changes),
        tuple(sizes),
        tuple(made.findings),
        tuple(dependencies),
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


def _element_edits(styled: StyledElement, written: _StyleWriter) -> Iterator[Edit[StylePiece]]:
    element, tag = styled.element, styled.element.opening
    if element.implied:
        style = written(styled.style or (), '"')
        added = f" {_label_attribute(styled.added)}" if styled.added else ""
        begin, end = (Boundary.BODY_TAG, Boundary.BODY) if element.local_name == "body" else ("", "")
        yield Edit(tag.start, tag.start, (f"<{element.local_name}", begin, f'{added} style="', *style, '">', end))
        return
    if styled.style is not None:
        own = tag.attribute("style")
        if own is None:
            pieces = (' style="', *written(styled.style, '"'), '"')
            yield Edit(_name_end(element), _name_end(element), pieces)
        else:
            quote = "'" if own.quote == "'" else '"'
            pieces = written(styled.style, quote)
            yield Edit(own.start, own.end, (f"style={quote}", *pieces, quote))
    if styled.added and styled.added.is_class:
        yield from _class(tag.attribute("class"), element, f"pribble-{styled.added.number}")
    elif styled.added:
        yield Edit(_name_end(element), _name_end(element), (f" {_label_attribute(styled.added)}",))


def _label_attribute(label: MatchLabel) -> str:
    name = "class" if label.is_class else "data-pribble"
    return f'{name}="{f"pribble-{label.number}" if label.is_class else label.number}"'


def _class(own: Attribute | None, element: Element, name: str) -> Iterator[Edit[StylePiece]]:
    if own is None or own.quote is None:
        start, end = (own.start, own.end) if own else (_name_end(element), _name_end(element))
        yield Edit(start, end, (f' class="{name}"' if own is None else f'class="{name}"',))
        return
    bare = "" if own.quote else '"'
    yield Edit(own.value_start, own.value_start, (f"{bare}{name} ",))
    if bare:
        yield Edit(own.value_end, own.value_end, (bare,))


def _old_attributes(element: Element, group: ElementStyles) -> Iterator[Edit[StylePiece]]:
    if element.implied or element.unrendered:
        return
    added = "".join(
        f' {name}="{value}"' for name, value in presentational_attributes.presentational_attributes(element, group)
    )
    if added:
        yield Edit(_name_end(element), _name_end(element), (added,))


def _sheet(left: SheetRemainder, raw: tuple[int, int, int] | None) -> Iterator[Edit[StylePiece]]:
    tag = left.element.opening
    end = raw[2] if raw else tag.end
    if raw is None:
        yield Edit(tag.start, tag.end, (Boundary.SHEET, left.text, Boundary.SHEET_END) if left.text is not None else ())
    elif left.text is None:
        yield Edit(tag.start, end, ())
    elif left.text != left.before:
        yield Edit(raw[0], raw[1], (left.text,))
    if left.after:
        yield Edit(end, end, (Boundary.SHEET, left.after, Boundary.SHEET_END))
