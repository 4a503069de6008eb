"""What a viewer makes of a message: its page with what that takes away gone, and queries of width and scheme settled.

It is a function of the message and the profile alone; nothing is fetched.
"""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache

from pribble.arguments import are_instances
from pribble.cascade import style_attribute
from pribble.cascade.computed import declares_schemes
from pribble.cascade.elements import Document, Element
from pribble.cascade.media_queries import condition_holds, media_holds
from pribble.cascade.rules import condition
from pribble.cascade.syntax import AtRule, Declaration, QualifiedRule, StyleSheet
from pribble.cascade.urls import replace_urls
from pribble.edits import Edit, replaced
from pribble.markup.events import Closed, Opened
from pribble.markup.foreign_pages import read_foreign_page
from pribble.markup.page import Page
from pribble.markup.scanner import Attribute
from pribble.mime.base import BaseMessage
from pribble.mime.reading import Entity, read_message
from pribble.mime.stored import named_pictures, text_and_page
from pribble.records import record
from pribble.review.conditional_comments import comments_as_read, shapes_as_boxes
from pribble.review.darkening import darkened
from pribble.review.viewers import Viewer, named_viewer
from pribble.values.escaping import markup

# What every viewer takes out with all that is in it.
_NEVER = frozenset({"script", "noscript"})
_LINKED = frozenset({"link", "base"})
_SMALLEST = 12


@record(frozen=True, slots=True)
class Lost:
    """Something that a viewer takes out: `what` it is (``<svg>``, ``position``), and where it stands in the page."""

    what: str
    start: int
    end: int


@record(frozen=True, slots=True)
class View:
    """What a reader with one viewer gets.

    `html` is the page, None where the plain `text` shows; `width` that of the window in CSS pixels.  `lost` is what is
    taken out, `cut` where the page or text is cut off, in characters of what was sent, or None.
    """

    viewer: Viewer
    html: str | None
    text: str | None
    width: int
    lost: tuple[Lost, ...] = ()
    cut: int | None = None


def simulate(message: BaseMessage | bytes, viewer: str | Viewer) -> View:
    """Returns what a viewer's reader gets of a message: ``simulate(message, "phone-dark")``.

    `viewer` is the name of a profile, or one.  A picture that does not show leaves its box and its words.  Raises
    `ValueError` for an unknown viewer.
    """
    are_instances((BaseMessage, bytes), "a Message or bytes", message=message)
    chosen = viewer if isinstance(viewer, Viewer) else named_viewer(viewer)
    raw = bytes(message)
    root = read_message(raw.decode("latin-1"))
    text, page = (message.text, message.html) if isinstance(message, BaseMessage) else text_and_page(root)
    if chosen.text_only or page is None:
        cut = cut_of(text or "", chosen)
        return View(chosen, None, text if cut is None or text is None else text[:cut], chosen.width, cut=cut)
    html, lost, cut = seen_page(page, chosen, addresses_of(root))
    return View(chosen, html, text, chosen.width, lost, cut)


def addresses_of(root: Entity) -> dict[str, str]:
    """Returns the pictures of a message as ``data:`` addresses, by those that its page names them by."""
    return {
        address: f"data:{entity.type.value};base64,{base64.b64encode(entity.decoded()).decode()}"
        for address, entity in named_pictures(root)
    }


@record(frozen=True, slots=True)
class SeenPage:
    """A page as a viewer shows it: the `source` and its `page`, with `edits` that leave out what is not shown, and what
    that is, `lost`.  With `recast`, shapes are drawn and colours changed after that."""

    source: str
    page: Page
    edits: Sequence[Edit[str]]
    lost: tuple[Lost, ...]
    recast: tuple[Callable[[str], str], ...] = ()

    def html(self) -> str:
        """Returns it."""
        made = replaced(self.source, self.edits)
        for step in self.recast:
            made = step(made)
        return made


def seen_page(html: str, viewer: Viewer, pictures: Mapping[str, str]) -> tuple[str, tuple[Lost, ...], int | None]:
    """Returns a page as a viewer shows it, what that takes out, and where it cuts the page off."""
    cut = cut_of(html, viewer)
    seen = seen_of(html if cut is None else html[:cut], viewer, pictures)
    return seen.html(), seen.lost, cut


def seen_of(html: str, viewer: Viewer, pictures: Mapping[str, str]) -> SeenPage:
    """Returns a page as a viewer shows it, who cuts nothing off."""
    made = _Seeing(comments_as_read(html, viewer.engine), viewer, pictures)
    edits = made.settle()
    shapes = (shapes_as_boxes,) if viewer.engine else ()
    colours = (darkened,) if viewer.scheme == "forced" else ()
    return SeenPage(made.html, made.read, edits, tuple(made.lost), shapes + colours)


def cut_of(text: str, viewer: Viewer) -> int | None:
    """Returns after how many characters a viewer cuts a page or text off; None where it shows all."""
    octets = text.encode("utf-8", "replace") if viewer.cut else b""
    return len(octets[: viewer.cut].decode("utf-8", "ignore")) if len(octets) > viewer.cut else None


class _Seeing:
    """One page for one viewer: a list of edits."""

    def __init__(self, html: str, viewer: Viewer, pictures: Mapping[str, str]) -> None:
        self.html, self.viewer, self.pictures = html, viewer, pictures
        self.read, self.document = _read_page(html)
        self.lost: list[Lost] = []
        self.edits: list[Edit[str]] = []

    def settle(self) -> Sequence[Edit[str]]:
        """Returns the edits of the page."""
        elements = iter(self.document.elements)
        opened: list[tuple[Element, bool, bool]] = []  # whether its tag goes, and all that is in it
        for event in self.read.events:
            match event:
                case Opened():
                    element = next(elements)
                    gone = bool(opened) and opened[-1][2]
                    tag, whole = (False, False) if gone else self._open(element)
                    if not event.void:
                        opened.append((element, tag, whole or gone))
                    elif whole:
                        self._drop(element.opening.start, element.opening.end)
                case Closed(start=start, end=end):
                    element, tag, whole = opened.pop()
                    outer = bool(opened) and opened[-1][2]
                    if whole and not outer:
                        self._drop(element.opening.start, end)
                    elif tag and not outer and start < end:
                        self._drop(start, end)
        return self.edits

    def _drop(self, start: int, end: int, written: str = "") -> None:
        self.edits.append(Edit(start, end, (written,) if written else ()))

    def _lose(self, what: str, start: int, end: int) -> None:
        self.lost.append(Lost(what, start, end))

    def _open(self, element: Element) -> tuple[bool, bool]:
        """Takes in a start tag; returns whether it goes, and whether all that is in it goes with it."""
        name, tag, viewer = element.local_name, element.opening, self.viewer
        if name in _NEVER or (name == "head" and not viewer.head):
            return False, True
        if name in _LINKED or declares_schemes(element):
            self._drop(tag.start, tag.end)
            return False, False
        if name == "style" and not element.foreign:
            return False, not self._sheet(element)
        if name in viewer.elements:
            self._lose(f"<{name}>", tag.start, tag.end)
            if name in ("svg", "math", "object", "video", "audio", "canvas"):
                return False, True
            self._drop(tag.start, tag.end)
            return True, False
        if name == "img":
            self._picture(element)
            return False, False
        for attribute in tag.attributes:
            self._attribute(element, attribute)
        return False, False

    # -- attributes --

    def _attribute(self, element: Element, attribute: Attribute) -> None:
        name = attribute.name
        if name.startswith("on"):
            self._drop(attribute.start, attribute.end)
        elif name == "style":
            if self._keeps(self.html[attribute.value_start : attribute.value_end]):
                return
            style = self._style(element)
            self._drop(attribute.start, attribute.end, f'style="{markup(style)}"' if style else "")
        elif name == "background" and (shown := self._shown(element.values[name], "attributes")) is not None:
            self._drop(attribute.start, attribute.end, f'background="{shown}"' if shown else "")

    def _keeps(self, written: str) -> bool:
        """Returns whether the viewer leaves the value of a ``style`` attribute as it is."""
        kept = self.viewer.style_attributes and "(" not in written
        return kept and not any(self._is_dropped(declaration) for _, _, declaration in _declarations(written))

    def _style(self, element: Element) -> str:
        """Returns the style of an element without what the viewer drops."""
        attribute = element.opening.attribute("style")
        if attribute is None:
            return ""
        if not self.viewer.style_attributes:
            self._lose("style=", attribute.start, attribute.end)
            return ""
        kept = []
        for start, end, declaration in _declarations(self.html[attribute.value_start : attribute.value_end]):
            if self._is_dropped(declaration):
                self._lose(_called(declaration), attribute.value_start + start, attribute.value_start + end)
            else:
                mark = " !important" if declaration.important else ""
                kept.append(f"{declaration.text}{mark}")
        return self._with_pictures("; ".join(kept))

    def _is_dropped(self, one: Declaration) -> bool:
        viewer = self.viewer
        if one.name == "display" and one.value.strip().lower() in viewer.displays:
            return True
        return one.name in viewer.properties or one.name == "color-scheme"

    def _with_pictures(self, css: str) -> str:
        return replace_urls(css, lambda named: None if named.font else self._shown(named.address, "css"))

    def _shown(self, address: str, place: str) -> str | None:
        """Returns the address of a picture as it shows: "" where it does not, None where it is left alone."""
        viewer, lower = self.viewer, address.strip().lower()
        if lower.startswith("cid:"):
            return self.pictures.get(address.strip(), "") if place in viewer.cid else ""
        if lower.startswith("data:"):
            most = viewer.data
            return None if most is True or (most is not False and len(address) <= most) else ""
        return None if viewer.remote == "shown" else ""

    def _picture(self, element: Element) -> None:
        tag = element.opening
        source = element.values.get("src", "")
        shown = self._shown(source, "img")
        if shown == "" or not source.strip():
            self._drop(tag.start, tag.end, self._box(element))
            return
        for attribute in tag.attributes:
            if attribute.name == "src" and shown is not None:
                self._drop(attribute.start, attribute.end, f'src="{markup(shown)}"')
            elif attribute.name == "srcset":
                self._drop(attribute.start, attribute.end)
            elif attribute.name != "src":
                self._attribute(element, attribute)

    def _box(self, element: Element) -> str:
        """Returns what a picture leaves that does not show: a box of its size, with its words."""
        words = element.values.get("alt", "").strip()
        style = self._style(element)
        sizes = {name: element.values.get(name, "").strip() for name in ("width", "height")}
        small = all(value.isdecimal() and int(value[:6]) < _SMALLEST for value in sizes.values())
        line = "" if small else "outline: 1px solid #b9bcc0; outline-offset: -1px"
        written = [f"{name}: {value}px" for name, value in sizes.items() if value.isdecimal()]
        parts = ["display: inline-block", "overflow: hidden", *written, *filter(None, (style, line))]
        said = markup("; ".join(parts))
        label = f' aria-label="{markup(words)}"' if words else ""
        return f'<span role="img"{label} style="{said}">{markup(words)}</span>'

    # -- sheets --

    def _sheet(self, element: Element) -> bool:
        """Takes in a style element; returns whether it stays."""
        viewer = self.viewer
        start, end, _ = self.document.raw.get(element.number, (0, 0, 0))
        in_head = element.parent is not None and element.parent.local_name == "head"
        if viewer.style_elements == "none" or (viewer.style_elements == "head" and not in_head):
            self._lose("<style>", element.opening.start, element.opening.end)
            return False
        media = element.values.get("media", "")
        if condition("media", media) and not (viewer.media and media_holds(media, viewer.screen)):
            return False
        if (attribute := element.opening.attribute("media")) is not None:
            self._drop(attribute.start, attribute.end)
        sheet = StyleSheet(self.html[start:end])
        settled = replaced(sheet.text, self._rule_edits(sheet, list(sheet.rules()), 0))
        self._drop(start, end, self._with_pictures(settled))
        return True

    def _rule_edits(self, sheet: StyleSheet, rules: list[object], depth: int) -> Iterator[Edit[str]]:
        for rule in rules:
            match rule:
                case AtRule(keyword="media", content=content) if content is not None and depth < 20:
                    holds = self.viewer.media and condition_holds(
                        f"@media {rule.prelude_text.strip()}", self.viewer.screen
                    )
                    if not holds:
                        yield Edit(rule.start, rule.end, ())
                        continue
                    yield Edit(rule.start, rule.inner, ())
                    yield Edit(rule.inner_end, rule.end, ())
                    yield from self._rule_edits(sheet, list(sheet.rules_in(content, rule.inner_end)), depth + 1)
                case AtRule(keyword="import"):
                    yield Edit(rule.start, rule.end, ())
                case AtRule(content=content) if (
                    content is not None and rule.keyword in ("supports", "layer") and depth < 20
                ):
                    yield from self._rule_edits(sheet, list(sheet.rules_in(content, rule.inner_end)), depth + 1)
                case QualifiedRule():
                    for one in sheet.declarations_in(rule.content, rule.inner_end):
                        if isinstance(one, Declaration) and self._is_dropped(one):
                            yield Edit(one.start, one.end, ())


@lru_cache(maxsize=4)
def _read_page(html: str) -> tuple[Page, Document]:
    """Returns a page and its elements: one page is often asked for by one viewer after the other."""
    page = read_foreign_page(html)
    return page, Document(html, page, lambda _: "literal", lambda _: False)


@lru_cache(maxsize=2000)
def _declarations(written: str) -> tuple[tuple[int, int, Declaration], ...]:
    """Returns the declarations of the value of a ``style`` attribute, and where each stands in it."""
    attribute = Attribute("style", 0, len(written), 0, len(written), '"')
    own = style_attribute.read_style_attribute(written, attribute)
    return tuple((one.start, one.end, one.declaration) for one in own)


def _called(one: Declaration) -> str:
    return f"display: {one.value.strip()}" if one.name == "display" else one.name
