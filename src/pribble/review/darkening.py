"""How a program that turns light pages dark by itself changes their colours.  The formula is our own, and plain:

of the lightness L* of a colour (CIE 1976, 0 to 100) a ground above 53 and a text below 53 get 100 − 0.88·L*: the ground
by less light, the text by white light added.  Opacity stays.  Pictures, gradients, borders and what is dark already are
left alone.
"""

from __future__ import annotations

from pribble.cascade.colours import WHITE, Colour
from pribble.cascade.computed import PageStyles
from pribble.cascade.elements import Element
from pribble.cascade.media_queries import Screen
from pribble.edits import Edit, replaced
from pribble.markup.foreign_pages import read_foreign_page
from pribble.values.escaping import markup

# At this lightness the formula changes nothing: what is darker would become lighter.
_SHARE = 0.88
_MIDDLE = 100 / (1 + _SHARE)


def dark_ground(colour: Colour) -> Colour:
    """Returns the ground that takes the place of one."""
    lightness = _lightness(colour.luminance)
    if lightness <= _MIDDLE:
        return colour
    share = _luminance(100 - _SHARE * lightness) / colour.luminance
    return colour.lit([part * share for part in colour.light])


def dark_text(colour: Colour) -> Colour:
    """Returns the colour of text that takes the place of one."""
    before = colour.luminance
    lightness = _lightness(before)
    if lightness >= _MIDDLE:
        return colour
    added = (_luminance(100 - _SHARE * lightness) - before) / (1 - before)
    return colour.lit([part + (1 - part) * added for part in colour.light])


def _lightness(luminance: float) -> float:
    return 116 * luminance ** (1 / 3) - 16 if luminance > 216 / 24389 else luminance * 24389 / 27


def _luminance(lightness: float) -> float:
    return ((lightness + 16) / 116) ** 3 if lightness > 8 else lightness * 27 / 24389


def darkened(html: str) -> str:
    """Returns a page with its colours turned dark, each written into its element."""
    styled = PageStyles(html, read_foreign_page(html)).on(Screen())
    edits: list[Edit[str]] = []
    for element, style in zip(styled.elements, styled.styles, strict=True):
        if element.implied or element.unrendered or element.foreign:
            continue
        # Every element gets its colour: what one inherits, another may have been given.
        said = [f"color: {_css(dark_text(style.color))} !important"]
        if element.local_name == "body" or style.background_color.alpha:
            ground = style.background_color if style.background_color.alpha else WHITE
            if not style.pictured:
                said.append(f"background-color: {_css(dark_ground(ground))} !important")
        edits.append(_with_style(element, "; ".join(said)))
    return replaced(html, edits)


def _css(colour: Colour) -> str:
    return f"rgba({colour.red}, {colour.green}, {colour.blue}, {colour.alpha:g})"


def _with_style(element: Element, said: str) -> Edit[str]:
    """Returns the edit that adds declarations to an element's own style."""
    tag = element.opening
    attribute = tag.attribute("style")
    if attribute is None:
        end = tag.start + 1 + len(tag.name)
        return Edit(end, end, (f' style="{markup(said)}"',))
    before = element.values["style"].strip().rstrip(";")
    return Edit(attribute.start, attribute.end, (f'style="{markup(f"{before}; {said}" if before else said)}"',))
