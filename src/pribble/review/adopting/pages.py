"""A page from elsewhere becomes a template: files brought along, what no message may have left out, words made marks.

Everything is an edit of the page as it stands; what no edit covers stays as its author wrote it.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator
from urllib.parse import urljoin

from pribble.cascade.urls import is_elsewhere, is_on_disk, replace_urls
from pribble.edits import Edit, replaced
from pribble.errors import Source
from pribble.findings import Finding, Severity
from pribble.markup.contexts import is_picture_place
from pribble.markup.events import Characters, Opened
from pribble.markup.references import decode_references
from pribble.markup.scanner import Attribute, StartTag
from pribble.records import field, record
from pribble.regexes import regex
from pribble.review.adopting.braces import ADDRESSES, BRACES, braces_in_css, with_literal_braces, with_marks_written
from pribble.review.adopting.braces import mark as mark_of
from pribble.review.adopting.material import Material, path_named
from pribble.review.adopting.pictures import BroughtFiles, picture_at
from pribble.review.adopting.replacing import Replacement, Replacing
from pribble.review.adopting.tidying import debris_edits, tidy_declarations
from pribble.review.page_view import PageView, decoded
from pribble.values.escaping import markup

_REFERENCE = "Pribble, docs/adopting.md"
_NOT_FOLLOWED = regex(r"[\x00-\x20]*(?:javascript|vbscript|data)[\x00-\x20]*:", re.IGNORECASE)
_FOLLOWED = frozenset({"href", "action", "formaction", "xlink:href"})
_SAID = frozenset({"alt", "title"})
_IMPORT = regex(r"@import\s+(?:url\(\s*)?[\"']?([^\"')\s;]+)[\"']?\s*\)?([^;{}]*);?", re.IGNORECASE)
_AROUND = "give the folder that it and the page lie in, and say which page: --page"
_DEEPEST = 5  # sheets that import sheets
_HIDING = regex(r"display\s*:\s*none|(?:width|height)\s*:\s*[01](?:px)?\s*(?:;|\Z)", re.IGNORECASE)


@record(slots=True)
class AdoptedPage:
    """A page as a template: its `html`, and what was found on the way."""

    html: str
    findings: list[Finding] = field(default_factory=list)


def adopt_page(material: Material, brought: BroughtFiles, replacing: Replacing, *, tidy: bool) -> AdoptedPage:
    """Returns the page of a material as the text of a template."""
    html = with_literal_braces(material.html or "")
    return _PageReader(material, html, brought, replacing, tidy=tidy).adopted()


class _PageReader:
    """Reads one page, and writes edits."""

    def __init__(
        self, material: Material, html: str, brought: BroughtFiles, replacing: Replacing, *, tidy: bool
    ) -> None:
        self.material, self.html, self.brought, self.replacing, self.tidy = material, html, brought, replacing, tidy
        self.view = PageView(html, lambda start, end: None)
        self.source = Source(material.path, html)
        events = self.view.page.events
        self.sheets = {one.start: one for one in events if isinstance(one, Characters) and one.raw == "style"}
        self.base = next(
            (self._value(one.opening, "href").strip() for one in self.view.elements if one.local_name == "base"), ""
        )
        self.known_sheets: dict[str, str | None] = {}  # by the paths of those that they come from
        self.edits: list[Edit[str]] = []
        self.findings: list[Finding] = []
        self.counts: Counter[str] = Counter()

    def adopted(self) -> AdoptedPage:
        """Returns the page with its edits."""
        for element in self.view.elements:
            if not element.implied:
                self._element(element.number, element.opening)
        for event in self.view.page.hidden:
            if isinstance(event, Opened) and not event.implied:
                self._attributes(event.tag)
        if self.tidy:
            self._tidy()
        self._texts()
        self._told()
        return AdoptedPage(with_marks_written(replaced(self.html, self.edits)), self.findings)

    def _drop(self, start: int, end: int, what: str) -> None:
        self.edits.append(Edit(start, end, ()))
        self.counts[what] += 1

    def _note(self, rule: str, severity: Severity, start: int, end: int, message: str, fix: str) -> None:
        self.findings.append(Finding(rule, severity, self.source.place(start, end), message, fix, _REFERENCE))

    def _told(self) -> None:
        """Say what was left out, and how often it was there."""
        if self.counts:
            listed = ", ".join(what if count == 1 else f"{count} × {what}" for what, count in self.counts.items())
            said = f"left out: {listed}"
            self.findings.append(
                Finding("adopt.dropped", "note", None, said, "nothing, if it is not missed", _REFERENCE)
            )

    # -- elements --

    def _element(self, number: int, tag: StartTag) -> None:
        if tag.name in ("script", "noscript"):
            self._drop(tag.start, self.view.ends[number], "<script>" if tag.name == "script" else "<noscript>")
        elif tag.name == "base":
            self._drop(tag.start, tag.end, "<base>")
        elif tag.name == "link":
            self._link(tag)
        elif tag.name == "style":
            self._attributes(tag)
            if (raw := self.sheets.get(tag.end)) is not None:
                self._sheet_in_page(raw.start, raw.end)
        elif tag.name == "img" and (why := self._no_picture(tag)):
            self._drop(tag.start, tag.end, why)
        else:
            self._attributes(tag)

    def _value(self, tag: StartTag, name: str) -> str:
        found = tag.attribute(name)
        return "" if found is None else self._said(found)

    def _said(self, attribute: Attribute) -> str:
        return decode_references(self.html[attribute.value_start : attribute.value_end], attribute=True)

    def _no_picture(self, tag: StartTag) -> str:
        """Returns why a picture is left out; "" for one that stays."""
        source = self._value(tag, "src").strip()
        if is_on_disk(source):
            return "a picture on somebody's disk (file:)"
        sizes = [self._value(tag, name).strip().removesuffix("px") for name in ("width", "height")]
        is_small = all(size in ("0", "1") for size in sizes) or _HIDING.search(self._value(tag, "style")) is not None
        return "a tracking pixel" if is_small and source.lower().startswith(("http:", "https:", "//")) else ""

    def _link(self, tag: StartTag) -> None:
        address = self._from_base(self._value(tag, "href").strip())
        if "stylesheet" not in self._value(tag, "rel").lower().split():
            self._drop(tag.start, tag.end, f'<link rel="{self._value(tag, "rel")[:30]}">')
        elif (path := self._sheet(address, self.material.path, 0)) is not None:
            found = tag.attribute("href")
            assert found is not None
            self.edits.append(Edit(found.start, found.end, (f'href="{path}"',)))
        elif address.lower().startswith(("http:", "https:", "//")):
            self._note(
                "adopt.elsewhere",
                "warning",
                tag.start,
                tag.end,
                f'the style sheet "{address}" lies elsewhere, and stays there',
                "bring it along: few mail programs load it",
            )
        else:
            self._note(
                "adopt.missing",
                "warning",
                tag.start,
                tag.end,
                f'there is no style sheet "{address}"',
                "pack it with the page",
            )
            self._drop(tag.start, tag.end, "a style sheet that is not there")

    # -- attributes --

    def _attributes(self, tag: StartTag) -> None:
        for attribute in tag.attributes:
            self._attribute(tag, attribute)

    def _attribute(self, tag: StartTag, attribute: Attribute) -> None:
        name = attribute.name
        value = self._said(attribute)
        if name.startswith("on"):
            self._drop(attribute.start, attribute.end, "an event attribute (on…)")
        elif name in _FOLLOWED and _NOT_FOLLOWED.match(value) and not is_picture_place(tag.name, name):
            self._drop(attribute.start, attribute.end, f"a link to {value.strip().partition(':')[0].lower()}:")
        elif name == "srcset":
            self._drop(attribute.start, attribute.end, "srcset, which few mail programs read")
        elif is_picture_place(tag.name, name):
            self._picture(attribute, value)
        elif name == "style":
            css = tidy_declarations(value) if self.tidy else value
            self._write(attribute, braces_in_css(self._css(css, self.material.path)), value)
        elif name in _SAID:
            self._marked(attribute, value, self.replacing.in_text(value))
        elif name in ADDRESSES:
            absolute = self._from_base(value)
            marks = self.replacing.in_address(absolute)
            self._marked(attribute, absolute, marks)
            if not marks:
                self._write(attribute, absolute, value)

    def _from_base(self, address: str) -> str:
        """Returns an address as it is meant, where the page says what its addresses start from."""
        stripped = address.strip()
        if not self.base or not stripped or stripped.startswith("#") or is_elsewhere(stripped) or is_on_disk(stripped):
            return address
        return urljoin(self.base, stripped)

    def _write(self, attribute: Attribute, value: str, before: str) -> None:
        if value != before:
            self.edits.append(Edit(attribute.start, attribute.end, (f'{attribute.name}="{written(value)}"',)))

    def _marked(self, attribute: Attribute, value: str, marks: list[Replacement]) -> None:
        if marks:
            said = "".join(with_marks(value, marks, written))
            self.edits.append(Edit(attribute.start, attribute.end, (f'{attribute.name}="{said}"',)))

    def _picture(self, attribute: Attribute, written_as: str) -> None:
        address = self._from_base(written_as)
        path = picture_at(address, self.material.path, self.material.find, self.brought)
        if path is not None:
            self.edits.append(Edit(attribute.start, attribute.end, (f'{attribute.name}="{path}"',)))
            return
        marks = self.replacing.in_address(address)
        if marks:
            self._marked(attribute, address, marks)
        elif address.strip() and not address.lower().startswith(("http:", "https:", "//")):
            self._note(
                "adopt.missing",
                "warning",
                attribute.start,
                attribute.end,
                f'there is no picture "{address[:100]}"',
                _AROUND if address.strip().startswith("..") else "pack it with the page",
            )
        elif address.strip():
            self._write(attribute, address, written_as)
            self._stays_elsewhere(attribute, address)

    def _stays_elsewhere(self, attribute: Attribute, address: str) -> None:
        """A picture that stays where it is."""
        self._note(
            "adopt.elsewhere",
            "note",
            attribute.start,
            attribute.end,
            f'the picture "{address[:100]}" lies elsewhere, and stays there',
            "bring it along, if it is yours",
        )

    # -- style sheets --

    def _sheet_in_page(self, start: int, end: int) -> None:
        css = self.html[start:end]
        made = self._css(self._imports(css, self.material.path, 0), self.material.path)
        if self.tidy:
            made = tidy_declarations(made)
        if made != css:
            self.edits.append(Edit(start, end, (made,)))

    def _css(self, css: str, named_in: str, folder: str = "") -> str:
        """Returns CSS with its pictures brought along; `folder` leads from where it will stand to the template's."""

        def resolved(written_as: str) -> str | None:
            address = written_as if folder else self._from_base(written_as)  # a sheet starts from itself
            path = picture_at(address, named_in, self.material.find, self.brought)
            if path is None:
                return None if address == written_as else address
            return f"{folder}{path}"

        return replace_urls(css, lambda named: None if named.font else resolved(named.address))

    def _imports(self, css: str, named_in: str, depth: int, folder: str = "") -> str:
        def brought(found: re.Match[str]) -> str:
            if is_elsewhere(found[1]):
                return found[0]
            path = self._sheet(found[1], named_in, depth + 1)
            if path is None:  # it is not there, or imports itself: left out, since a template names what is there
                self.counts[f'the import of "{found[1][:60]}", which is not there or comes again'] += 1
                return ""
            return f'@import "{folder}{path}"{found[2]};'

        return _IMPORT.sub(brought, css) if depth < _DEEPEST and "@import" in css.lower() else css

    def _sheet(self, address: str, named_in: str, depth: int) -> str | None:
        """Returns the path of a style sheet, brought along with all that it names; None for one that is not there."""
        content = self.material.find(address, named_in)
        if content is None or depth > _DEEPEST:
            return None
        css = content.decode("utf-8-sig", "replace")
        own = path_named(address, named_in) or address
        if own in self.known_sheets:
            return self.known_sheets[own]
        self.known_sheets[own] = None  # one that imports itself is left as it is
        # What is not brought along keeps its place, as the page would write it.
        css = self._css(self._imports(css, own, depth, "../"), own, "../")
        if self.tidy:
            css = tidy_declarations(css)
        self.known_sheets[own] = self.brought.sheet(css, address)
        return self.known_sheets[own]

    # -- texts --

    def _texts(self) -> None:
        """Make marks of words that show, and of those of the title: the subject comes from it."""
        shown = (one for one in self.view.texts if self.view.elements[one.element].local_name != "textarea")
        titles = (one for one in self.view.page.events if isinstance(one, Characters) and one.raw == "title")
        spans = [(one.start, one.end) for one in shown] + [(one.start, one.end) for one in titles]
        for start, end in spans:
            said, offsets = decoded(self.html, start, end)
            for mark in self.replacing.in_text(said):
                mark_end = offsets[mark.end] if mark.end < len(offsets) else end
                self.edits.append(Edit(offsets[mark.start], mark_end, (mark_of(mark.path),)))
        self._cut_runs()

    def _cut_runs(self) -> None:
        """Report the texts that an element begins or ends within, so that they cannot become one mark."""
        for block in self.view.blocks:
            for mark in self.replacing.texts_in(block.text):
                start, end = block.span(mark.start, mark.end)
                first, last = self.view.element_at(start), self.view.element_at(end - 1)
                if first is not last:
                    self._note(
                        "adopt.cut",
                        "warning",
                        start,
                        end,
                        f'"{mark.text[:60]}" is cut by an element, and did not become {mark.path}',
                        "write the mark where it should stand",
                    )

    def _tidy(self) -> None:
        for edit, what in debris_edits(self.html, self.view):
            self.edits.append(edit)
            self.counts[what] += 1


def written(text: str) -> str:
    """Returns a text as it stands between tags or in an attribute of a template."""
    return markup(text).replace("{{", BRACES)


def with_marks(text: str, marks: list[Replacement], escape: Callable[[str], str]) -> Iterator[str]:
    """Yields a text with marks in it; `escape` writes what stands between them."""
    position = 0
    for mark in marks:
        yield escape(text[position : mark.start])
        yield mark_of(mark.path)
        position = mark.end
    yield escape(text[position:])
