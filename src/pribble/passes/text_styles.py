"""How the elements of a page show: what its style sheets say of its text, by the cascade."""

from __future__ import annotations

from pribble.cascade.cascade_order import ElementStyles
from pribble.cascade.inlining import InlinedStyles
from pribble.cascade.longhands import ALL, longhands
from pribble.plaintext.style import NO_STYLE, READ, Style, style_of

_READ = frozenset(READ)
_HEIGHTS = frozenset({"height", "max-height"})
_GAPS = frozenset({"margin-top", "margin-bottom", "padding-top", "padding-bottom"})
_TABLE_PARTS = frozenset("table tr td th tbody thead tfoot".split())


def text_styles(made: InlinedStyles) -> list[Style]:
    """Returns the style of each element of a page, by its number."""
    styles = [NO_STYLE] * len(made.elements)
    declared: dict[int, dict[str, list[tuple[str, str]]]] = {}
    known: dict[tuple[int, str], Style] = {}
    for number, group in made.styles.items():
        name = made.elements[number].local_name
        key = id(group), name
        if key not in known:
            if id(group) not in declared:
                declared[id(group)] = _declared_longhands(group)
            known[key] = style_of(declared[id(group)], name) if declared[id(group)] else NO_STYLE
        styles[number] = known[key]
    return styles


def _declared_longhands(group: ElementStyles) -> dict[str, list[tuple[str, str]]]:
    """Returns what sets each longhand that is read, the winner first."""
    found: dict[str, list[tuple[str, str]]] = {}
    for entry in reversed(group.inlined):
        name = entry.declaration.name
        for longhand in READ if name == ALL else longhands(name):
            if longhand in _READ:
                found.setdefault(longhand, []).append((name, entry.text))
    return found


def text_depends_on_data(made: InlinedStyles) -> bool:
    """Returns whether it depends on the data which texts of a page show, or how."""
    for name, longhand in made.unsettled:
        if longhand in ("*", ALL) or (longhand in READ and not (name in _TABLE_PARTS and longhand in _GAPS)):
            return True
    if any(
        "hidden" in element.dynamic_attributes or "hidden" in element.conditional_attributes
        for element in made.elements
    ):
        return True
    return any(_is_unsettled(made, number, group) for number, group in made.styles.items())


def _is_unsettled(made: InlinedStyles, number: int, group: ElementStyles) -> bool:
    is_dynamic = number in made.dynamic_styles
    clipped = "overflow-y" in group.by_longhand
    for entry in group.inlined:
        if entry.rule is None and (entry.span is not None or is_dynamic):
            read = _READ & set(longhands(entry.declaration.name))
            if read - _HEIGHTS or (read and clipped):
                return True
    return False
