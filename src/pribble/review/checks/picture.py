"""Pictures: words for them, their size and weight, and what is left without them."""

from __future__ import annotations

import io
from collections.abc import Mapping
from functools import lru_cache

from pribble.cascade.elements import Element
from pribble.cascade.urls import is_on_disk
from pribble.mime.media_types import SVG, is_shown_everywhere
from pribble.pictures.picture import Picture
from pribble.regexes import regex
from pribble.review.checks.words import shortened
from pribble.review.page_view import PageView
from pribble.review.report import CheckReport

# Of a picture in the page itself, and of one in a part of its own, in bytes.
MOST_IN_ADDRESS, MOST_IN_PART = 800_000, 1_000_000
_SPACER = 16  # smaller than this, in CSS pixels, a picture only arranges
_FEWEST_WORDS = 10
_PIXELS = regex(r"([0-9]{1,6}(?:\.[0-9]{1,4})?)(?:px)?")


def check_pictures(view: PageView, pictures: Mapping[str, Picture], report: CheckReport) -> None:
    """Each picture of a page; `pictures` are those that travel with it, by their addresses."""
    shown = [one for one in view.elements if one.local_name == "img" and view.shows(one.number)]
    for element in shown:
        address = element.values.get("src", "").strip()
        picture = pictures.get(address)
        called = picture.called if picture is not None else f"the picture {shortened(address, 40)}"
        size = shown_size(view, element)
        _check_words(view, element, picture, called, size, report)
        _check_source(view, element, address, picture, called, report)
        if picture is not None and picture.type != SVG.name:
            _check_size(view, element, picture, size, report)
        if size[0] is None and view.style(element.number).width == "auto":
            report.add("picture.no-size", view.tag_place(element), called)
    for link in view.links:
        if link.pictures and not link.label:
            report.add("picture.link-alt", view.tag_place(link.element))
    if shown:
        _check_alone(view, shown, report)


def _check_words(
    view: PageView,
    element: Element,
    picture: Picture | None,
    called: str,
    size: tuple[float | None, float | None],
    report: CheckReport,
) -> None:
    if "alt" in element.values:
        return
    small = all(one is not None and one < _SPACER for one in size)
    if not small and not (picture is not None and is_plain(picture)):
        report.add("picture.no-alt", view.tag_place(element), called)
        report.mend("picture.no-alt", view.tag_place(element), "img", 'alt=""')


def _check_source(
    view: PageView, element: Element, address: str, picture: Picture | None, called: str, report: CheckReport
) -> None:
    place = view.attribute_place(element, "src")
    if is_on_disk(address) or address.lower().startswith("blob:"):
        report.add("picture.local", place, called)
    elif address.lower().startswith("cid:") and picture is None:
        report.add("picture.cid-elsewhere", place, shortened(address))
    elif address.lower().startswith("data:") and len(address) > MOST_IN_ADDRESS:
        says = f"a picture in its address has {len(address):,} characters: some receivers show nothing of it"
        report.add("picture.heavy", place, says)
    if picture is not None and len(picture.content) > MOST_IN_PART:
        report.add("picture.heavy", place, f"{called} has {len(picture.content):,} bytes")
    if picture is not None and picture.type == SVG.name:
        report.add("picture.svg", place, called)
    elif picture is not None and not is_shown_everywhere(picture.type):
        report.add("picture.format", place, f"{called} is {picture.type}, which not every receiver shows")


def shown_size(view: PageView, element: Element) -> tuple[float | None, float | None]:
    """Returns how wide and high a picture is shown on a wide screen, in CSS pixels; None for what its page does not
    say in them."""
    style = view.style(element.number)
    return _pixels(style.width), _pixels(style.height)


def _pixels(size: str) -> float | None:
    found = _PIXELS.fullmatch(size)
    return float(found[1]) if found else None


def _check_size(
    view: PageView, element: Element, picture: Picture, size: tuple[float | None, float | None], report: CheckReport
) -> None:
    width, height = size
    if not width or is_plain(picture):
        return
    right = width * picture.height / picture.width
    fits = view.style(element.number).object_fit != "fill"
    if height and not fits and abs(height - right) > 2 and abs(height - right) > 0.02 * right:
        shown, own = f"{width:g} × {height:g}", f"{picture.width} × {picture.height}"
        says = f"{picture.called} is shown {shown} and has {own}: its height would be {right:.0f}"
        report.add("picture.squashed", view.tag_place(element), says)
    if picture.width < 0.9 * width:
        says = f"{picture.called} is {picture.width} pixels wide and shown with {width:g}"
        report.add("picture.coarse", view.attribute_place(element, "src"), says)


def _check_alone(view: PageView, shown: list[Element], report: CheckReport) -> None:
    words = sum(len(block.text.replace("\ufffc", " ").split()) for block in view.blocks)
    if words < _FEWEST_WORDS and any((shown_size(view, one)[0] or 0) > 100 for one in shown):
        report.add("picture.alone", view.tag_place(shown[0]), f"{words} words" if words != 1 else "one word")


@lru_cache(maxsize=256)
def is_plain(picture: Picture) -> bool:
    """Returns whether a picture is of one colour, as a spacer or a ground is."""
    from PIL import Image

    if picture.type == SVG.name:
        return False
    with Image.open(io.BytesIO(picture.content)) as image:
        return image.convert("RGBA").getcolors(1) is not None
