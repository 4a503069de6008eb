"""Pages as a frame of the preview holds them: written anew from their tree, with nothing that reaches out of it.

Only what is named here is written, so nothing has to be recognised as dangerous.  The frame runs no script and loads
nothing, whatever stands in it; that is the page's content security policy and its sandbox, not this module.
"""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache

from pribble.edits import Edit, replaced, spliced
from pribble.markup.doctype import document_mode
from pribble.markup.elements import RCDATA
from pribble.markup.events import Characters, Closed, Opened
from pribble.markup.foreign_pages import read_foreign_page
from pribble.markup.page import Page
from pribble.markup.references import decode_references
from pribble.markup.scanner import StartTag, tokens
from pribble.markup.tree import OpenElements
from pribble.regexes import regex
from pribble.review.simulating import SeenPage
from pribble.values.escaping import markup

# The attribute that says which element of the message this is.
ELEMENT = "data-pribble"
# The addresses of pictures while a page is made; the preview holds each picture once.
PICTURE = "pribble-picture:"
# Where a link leads in a frame: to the frame itself (HTML, 7.4.2.3.3), so that nothing is loaded and `:link` holds.
_NOWHERE = "about:srcdoc#"

_WRITTEN = frozenset(
    "html head body title style address article aside footer header h1 h2 h3 h4 h5 h6 hgroup main nav section "
    "blockquote dd div dl dt figcaption figure hr li menu ol p pre ul a abbr b bdi bdo big br center cite code "
    "data del dfn dir em font i img ins kbd mark q rb rp rt rtc ruby s samp small span strike strong sub sup time "
    "tt u var wbr map area caption col colgroup table tbody td tfoot th thead tr button details fieldset input "
    "label legend meter optgroup option output progress select summary textarea acronym nobr".split()
)
_DRAWN = frozenset(
    "svg g path rect circle ellipse line polyline polygon text tspan defs lineargradient radialgradient stop "
    "clippath title desc symbol".split()
)
# Left out with all that is in them.
_WHOLE = frozenset(
    "script noscript template iframe frame frameset noframes noembed object embed applet portal fencedframe video "
    "audio source track canvas link base meta math foreignobject image use animate animatemotion animatetransform "
    "set".split()
)
_VOID = frozenset("area br col hr img input wbr".split())
_ATTRIBUTES = frozenset(
    "abbr align alt axis bgcolor border cellpadding cellspacing char charoff checked cite class clear color cols "
    "colspan compact coords datetime dir disabled face frame headers height hidden high hspace id lang link alink "
    "vlink low max media min multiple noshade nowrap open optimum placeholder readonly reversed role rows rowspan "
    "rules scope selected shape size span start style summary text title translate type usemap valign value "
    "vspace width".split()
)
_OF_DRAWINGS = _ATTRIBUTES | frozenset(
    "cx cy d fill fill-opacity fill-rule clip-path clip-rule font-family font-size font-weight gradienttransform "
    "gradientunits letter-spacing offset opacity points preserveaspectratio r rx ry stop-color stop-opacity "
    "stroke stroke-dasharray stroke-linecap stroke-linejoin stroke-opacity stroke-width text-anchor transform "
    "viewbox x x1 x2 xml:space y y1 y2".split()
)
_PREFIXES = ("aria-", "data-")
_NAME = regex(r"[a-z][a-z0-9.:-]*")
_ATTRIBUTE_NAME = regex(r"[a-z][a-z0-9_.:-]*")
_LONG_ADDRESS = regex(rf"({PICTURE}[0-9a-f]+-[0-9]+;|data:[^\s\"'()<>]{{200,}})")
# What a browser could read as a tag where a style sheet is no style sheet.
_TAG_IN_SHEET = regex("<(?=[A-Za-z/!?])")
_COMMENT_IN_SHEET = regex("<!--|-->")
_FOCUSED = frozenset("a area button input select textarea summary".split())
_LOCAL = ("data:", PICTURE)
_DOCTYPE, _DOCTYPE_WITHIN = regex("<!doctype[^>]*>", re.IGNORECASE), 4000
_DOCTYPES = {
    "no-quirks": "<!DOCTYPE html>",
    "limited-quirks": '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Transitional//EN" "">',
    "quirks": "",
}
# A form finds what is in it by names of its own (HTML 4.10.3), before those that every element has.
_RENAMED = {"form": "div"}


def safe_page(seen: SeenPage, pictures: Mapping[str, str], token: str) -> Iterator[str]:
    """Yields the chunks of a page for a frame.

    `pictures` are addresses for those that begin with `PICTURE`; the number of an element is written where it begins
    with the `token`.

    The same in several pages is the same chunk, so that a page can be kept as a list of them.
    """
    if seen.recast:
        html = seen.html()
        writer = _Writer(html, read_foreign_page(html), (), token)
    else:
        writer = _Writer(seen.source, seen.page, seen.edits, token)
    yield "" if writer.page.quirks else _DOCTYPES[_mode(writer.html)]
    for chunk in writer.chunks():
        if "data:" not in chunk and PICTURE not in chunk:
            yield chunk
            continue
        for part in _LONG_ADDRESS.split(chunk):
            if part:
                yield pictures.get(part, "data:,") if part.startswith(PICTURE) else part


def _mode(html: str) -> str:
    written = _DOCTYPE.search(html, 0, _DOCTYPE_WITHIN)
    return document_mode(written[0]) if written else "no-quirks"


class _Writer:
    """Writes a page anew from its events, with edits that take tags, whole elements and attributes out of it."""

    def __init__(self, html: str, page: Page, edits: Sequence[Edit[str]], token: str, *, part: bool = False) -> None:
        self.html, self.page, self.token, self.part = html, page, token, part
        self.edits = [one for one in spliced(edits, 0, len(html)) if isinstance(one, Edit)]
        self.starts = [one.start for one in self.edits]

    def chunks(self) -> Iterator[str]:
        """Yields the chunks of the page, or, of a `part` of one, those that are written in it."""
        opened: list[str] = []  # how each open element ends
        gone = 0  # how many elements are open within one that is left out, itself included
        for event in self.page.events:
            match event:
                case Opened(tag=tag, void=void, foreign=foreign, implied=implied):
                    name = _written_name(tag.name, foreign)
                    if gone or name is None:
                        gone += not void
                        continue
                    if (around := self._around(tag.start, tag.end)) is not None:
                        yield from self._instead(around, tag.start)
                        name = ""
                    elif self.part and implied:
                        name = ""
                    if name:
                        yield from self._tag(tag, name, foreign)
                    if not void:
                        opened.append(f"</{name}>" if name and name not in _VOID else "")
                case Closed():
                    if gone:
                        gone -= 1
                    elif end := opened.pop():
                        yield end
                case Characters(start=start, end=end, raw=raw) if not gone:
                    around = self._around(start, end)
                    if raw == "style" and opened[-1:] == ["</style>"]:
                        yield _safe_sheet("".join(around.pieces) if around is not None else self.html[start:end])
                    elif around is None:
                        yield _safe_text(self.html[start:end], raw)

    def _around(self, start: int, end: int) -> Edit[str] | None:
        """Returns the edit that takes the place of a whole tag or text, perhaps with what is around it."""
        index = bisect_right(self.starts, start) - 1
        found = self.edits[index] if index >= 0 else None
        if found is None or found.end < end or (start == end and not found.start < start < found.end):
            return None
        return found

    def _instead(self, edit: Edit[str], start: int) -> Iterator[str]:
        """Yields what takes the place of a tag: a page again, which is read and written as one."""
        if edit.start == start and edit.pieces:
            written = "".join(edit.pieces)
            yield from _Writer(written, read_foreign_page(written), (), self.token, part=True).chunks()

    def _tag(self, tag: StartTag, name: str, foreign: str) -> Iterator[str]:
        html = self.html
        first, last = bisect_left(self.starts, tag.start), bisect_left(self.starts, tag.end)
        if first < last:
            inside = [Edit(one.start - tag.start, one.end - tag.start, one.pieces) for one in self.edits[first:last]]
            html = replaced(html[tag.start : tag.end], inside)
            read = _scanned(html)
            if read is None:
                return
            tag = read
        yield from _safe_tag(html, tag, name, foreign, f"{self.token}-")


@lru_cache(maxsize=5000)
def _scanned(written: str) -> StartTag | None:
    """Returns the start tag that a text is."""
    read = next(tokens(written, OpenElements()), None)
    return read if isinstance(read, StartTag) else None


def _written_name(name: str, foreign: str) -> str | None:
    """Returns the name of an element as it is written; "" for one of which only the content stays, None for one that
    goes whole."""
    if name in _WHOLE:
        return None
    if foreign:
        return name if name in _DRAWN else None
    name = _RENAMED.get(name, name)
    if name in _WRITTEN:
        return name
    # An element that nobody knows is a box all the same, which style sheets may name.
    return name if _NAME.fullmatch(name) and ("-" in name or ":" in name) else ""


def _safe_text(written: str, raw: str) -> str:
    return markup(written if raw and raw not in RCDATA else decode_references(written))


def _safe_sheet(css: str) -> str:
    return _TAG_IN_SHEET.sub(r"\\3c ", _COMMENT_IN_SHEET.sub("", css))


def _safe_tag(html: str, tag: StartTag, name: str, foreign: str, numbered: str) -> Iterator[str]:
    yield f"<{name}"
    given = tag.attribute(ELEMENT)
    value = "" if given is None else html[given.value_start : given.value_end]
    if value.startswith(numbered):
        yield f' {ELEMENT}="{value.removeprefix(numbered)}"'
    others = tuple((a.name, html[a.value_start : a.value_end]) for a in tag.attributes if a.name != ELEMENT)
    yield _safe_attributes(name, others, bool(foreign))


@lru_cache(maxsize=5000)  # viewer after viewer shows the same tags
def _safe_attributes(element: str, given: tuple[tuple[str, str], ...], foreign: bool) -> str:
    """Returns the attributes of a tag as they are written, and its end."""
    written: dict[str, str] = {}
    for name, value in given:
        if name not in written and _ATTRIBUTE_NAME.fullmatch(name):
            kept = _safe_value(element, name, decode_references(value, attribute=True), foreign)
            if kept is not None:
                written[name] = f' {name}="{markup(kept)}"'
    if element in _FOCUSED:
        written["tabindex"] = ' tabindex="-1"'
    return f"{''.join(written.values())}>"


def _safe_value(element: str, name: str, value: str, foreign: bool) -> str | None:
    """Returns the value of an attribute as it is written; None for one that is left out."""
    if name == "href":
        return _NOWHERE if element in ("a", "area") and not foreign else None
    if name in ("src", "background"):
        return value if value.strip().lower().startswith(_LOCAL) and not foreign else None
    if name == "name":
        return value if element == "map" else None
    if name == "type" and element == "input":
        return "text" if value.strip().lower() in ("image", "file", "hidden") else value
    known = _OF_DRAWINGS if foreign else _ATTRIBUTES
    return value if name in known or name.startswith(_PREFIXES) else None
