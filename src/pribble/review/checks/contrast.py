"""Whether text and pictures stand apart from their grounds (WCAG 2.2 1.4.3 and 1.4.11), in light and in dark."""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping
from functools import lru_cache

from pribble.cascade.colours import Colour, contrast
from pribble.cascade.computed import ComputedStyle
from pribble.cascade.elements import Element
from pribble.cascade.media_queries import Screen
from pribble.errors import Place
from pribble.findings import Severity
from pribble.markup.references import decode_references
from pribble.pictures.picture import Picture
from pribble.review.darkening import dark_ground, dark_text
from pribble.review.page_view import DARK, WIDE, PageView, Text, screens_of
from pribble.review.report import CheckReport

LEAST, LEAST_OF_LARGE, LEAST_OF_PICTURES = 4.5, 3.0, 3.0
# Text is large from these sizes on, in CSS pixels: 18 and 14 points (WCAG 2.2, large scale).
_LARGE, _LARGE_BOLD, _BOLD = 24.0, 18.66, 700
# A picture is looked at where it is at least so large, and so much of it must be seen.
_SMALLEST_PICTURE, _SHARE = 16, 0.6
_SAMPLED = 64
# Elements that take a ground as an attribute; lighter text than this is for a dark one.
_GROUNDED, _MIDDLE = frozenset({"td", "th", "table", "body"}), 0.18


def least_contrast(style: ComputedStyle) -> float:
    """Returns the least contrast ratio that text of this style needs."""
    large = style.font_size >= _LARGE or (style.font_size >= _LARGE_BOLD and style.font_weight >= _BOLD)
    return LEAST_OF_LARGE if large else LEAST


def check_text_contrast(view: PageView, report: CheckReport, *, forced: bool = False) -> None:
    """Text and its ground, on each screen that the page looks different on; with `forced`, where a viewer turns its
    colours dark as well."""
    for called, screen in screens_of(view):
        styles, grounds = view.on(screen).styles, view.grounds(screen)
        for text, start, end in _read_texts(view, screen):
            style, ground = styles[text.element], grounds[text.element]
            over, beneath = ground.seen(style.color)
            ratio, least = contrast(over, beneath), least_contrast(style)
            says = f"text in {over} on {beneath} has a contrast of {ratio:.1f}, and needs {least:g}{called}"
            if ground.pictured:
                report.add("contrast.unknown", view.place(start, end))
                if ratio < least:
                    place = view.place(start, end)
                    report.add("contrast.without-picture", place, says)
                    _mend_ground(view, text.element, style, place, report)
            elif ratio < least:
                report.add("contrast.text", view.place(start, end), says)
    if forced:
        _check_forced(view, report)


def _check_forced(view: PageView, report: CheckReport) -> None:
    """Text that stands apart from its ground, and no more where a viewer turns both dark."""
    styles, before, grounds = view.on(WIDE).styles, view.grounds(WIDE), view.grounds(WIDE, dark_ground)
    for text, start, end in _read_texts(view, WIDE):
        style, ground = styles[text.element], grounds[text.element]
        over, beneath = ground.seen(dark_text(style.color))
        ratio, least = contrast(over, beneath), least_contrast(style)
        if ratio < least and not ground.pictured and contrast(*before[text.element].seen(style.color)) >= least:
            says = (
                f"text in {over} on {beneath} has a contrast of {ratio:.1f}, and needs {least:g}, where a viewer turns"
            )
            report.add("contrast.text", view.place(start, end), f"{says} the page dark")


def _read_texts(view: PageView, screen: Screen) -> Iterator[tuple[Text, int, int]]:
    """Yields the texts with a letter or digit that can be read on a screen, and where they begin and end."""
    for text in view.texts:
        written = view.html[text.start : text.end]
        if any(c.isalnum() for c in decode_references(written)) and view.is_read(text.element, screen):
            start = text.start + len(written) - len(written.lstrip())
            yield text, start, text.start + len(written.rstrip())


def _mend_ground(view: PageView, number: int, style: ComputedStyle, place: Place | None, report: CheckReport) -> None:
    """Give the cell with a background picture the ground from which the text stands apart: dark, or light."""
    around: Element | None = view.elements[number]
    while around is not None and not (view.style(around.number).pictured and around.local_name in _GROUNDED):
        around = around.parent
    if around is None or place is None or "bgcolor" in around.values:
        return
    ground = "#222222" if style.color.luminance > _MIDDLE else "#ffffff"
    tag = view.tag_place(around)
    if tag is not None and tag.source is place.source:
        report.mend("contrast.without-picture", tag, around.local_name, f'bgcolor="{ground}"', of=place)


def check_picture_contrast(view: PageView, pictures: Mapping[str, Picture], report: CheckReport) -> None:
    """Pictures with transparency, and the ground that they stand on."""
    for called, screen in screens_of(view):
        if screen not in (WIDE, DARK):
            continue
        grounds = view.grounds(screen)
        for element in view.elements:
            picture = pictures.get(element.values.get("src", "")) if element.local_name == "img" else None
            if picture is None or not view.shows(element.number, screen):
                continue
            if min(picture.width, picture.height) < _SMALLEST_PICTURE:
                continue
            style = view.on(screen).styles[element.number]
            own = style.background_color
            ground = own.over(grounds[element.number].colour) if own.alpha else grounds[element.number].colour
            share = None if grounds[element.number].pictured else lost_share(picture, ground)
            if share is not None and share > _SHARE:
                decorates = not element.values.get("alt", "").strip()
                says = (
                    f"{picture.called} is hardly seen on {ground}{called}: {share:.0%} of it has less contrast than 3"
                )
                severity: Severity | None = "note" if decorates else None
                report.add("contrast.picture", view.attribute_place(element, "src"), says, severity=severity)


@lru_cache(maxsize=256)
def lost_share(picture: Picture, ground: Colour) -> float | None:
    """Returns which share of a picture's visible pixels has less contrast than 3 against a ground; None of one without
    transparency, or that cannot be read."""
    from PIL import Image

    if picture.type == "image/svg+xml":
        return None
    with Image.open(io.BytesIO(picture.content)) as opened:
        image = opened.convert("RGBA")
    image.thumbnail((_SAMPLED, _SAMPLED), Image.Resampling.NEAREST)
    pixels = image.getcolors(_SAMPLED * _SAMPLED) or []
    if not any(pixel[3] < 255 for _, pixel in pixels if isinstance(pixel, tuple)):
        return None
    seen = lost = 0
    for count, pixel in pixels:
        if isinstance(pixel, tuple) and pixel[3] > 25:
            seen += count
            colour = Colour(pixel[0], pixel[1], pixel[2], pixel[3] / 255).over(ground)
            lost += count if contrast(colour, ground) < LEAST_OF_PICTURES else 0
    return lost / seen if seen else None
