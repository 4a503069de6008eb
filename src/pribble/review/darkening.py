"""How a program that turns light pages dark by itself changes their colours.  The formula is our own, and plain:

a colour's lightness L (HSL, 0 to 1) becomes 1 − 0.88·L where it is the ground of an element and lighter than 0.4, or
that of text and darker than 0.6.  Hue, saturation and opacity stay.  Pictures, gradients, borders and what is dark
already are left alone.
"""

from __future__ import annotations

import colorsys
from dataclasses import replace

from pribble.cascade.colours import WHITE, Colour
from pribble.cascade.computed import PageStyles
from pribble.cascade.elements import Element
from pribble.cascade.media_queries import Screen
from pribble.edits import Edit, replaced
from pribble.markup.foreign_pages import read_foreign_page
from pribble.values.escaping import markup

_SHARE, _LIGHT, _DARK = 0.88, 0.4, 0.6


def dark_ground(colour: Colour) -> Colour:
    """Returns the ground that takes the place of one."""
    return _turned(colour) if _lightness(colour) > _LIGHT else colour


def dark_text(colour: Colour) -> Colour:
    """Returns the colour of text that takes the place of one."""
    return _turned(colour) if _lightness(colour) < _DARK else colour


def _lightness(colour: Colour) -> float:
    return (max(colour.red, colour.green, colour.blue) + min(colour.red, colour.green, colour.blue)) / 510


def _turned(colour: Colour) -> Colour:
    hue, lightness, saturation = colorsys.rgb_to_hls(colour.red / 255, colour.green / 255, colour.blue / 255)
    red, green, blue = colorsys.hls_to_rgb(hue, 1 - _SHARE * lightness, saturation)
    return replace(colour, red=round(red * 255), green=round(green * 255), blue=round(blue * 255))


def darkened(html: str) -> str:
    """Returns a page with its colours turned dark, each written into its element."""
    styled = PageStyles(html, read_foreign_page(html)).on(Screen())
    edits: list[Edit[str]] = []
    for element, style in zip(styled.elements, styled.styles, strict=True):
        if element.implied or element.unrendered or element.foreign:
            continue
        parent = styled.styles[element.parent.number] if element.parent else None
        said = []
        if element.local_name == "body" or style.background_color.alpha:
            ground = style.background_color if style.background_color.alpha else WHITE
            if not style.pictured:
                said.append(f"background-color: {_css(dark_ground(ground))} !important")
        if parent is None or style.color != parent.color or element.local_name == "body":
            said.append(f"color: {_css(dark_text(style.color))} !important")
        if said:
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
