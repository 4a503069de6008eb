"""What a page sees: the pictures and style sheets beside it, and what its marks may bring.

A `TemplateResources` serves one page: a template's while it is compiled, or a rendering's that is styled late.
It finds files, hands out the slots of pictures, and notes corrections.
"""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from pathlib import Path
from urllib.parse import quote, unquote, urljoin

from pribble.cascade import urls
from pribble.cascade.rules import SheetFinding
from pribble.cascade.urls import CssUrl, is_elsewhere, is_on_disk, rebase
from pribble.errors import PictureError, PictureOnDisk, Place, PribbleError, TemplateError
from pribble.findings import Finding
from pribble.markup.contexts import is_picture_place
from pribble.markup.events import Opened
from pribble.markup.misnesting import MarkupFinding
from pribble.markup.page import Page
from pribble.markup.scanner import StartTag
from pribble.mime.media_types import SVG
from pribble.passes.picture_sizes import PictureSize
from pribble.pictures.corrections import SIZE, Correction
from pribble.pictures.picture_finder import FoundPicture, PictureFinder
from pribble.pictures.picture_slots import Embed, PictureSlot
from pribble.records import field, record
from pribble.regexes import regex

Where = Callable[[int, int], Place | None]
_SLOT = regex(r"cid:[0-9a-f]{32}@[-A-Za-z0-9.]+(?:#[a-z]+)?")
# An attribute that a page which is styled late has on its style sheets and pictures, and loses then: where each was
# written.
RESOURCE_NUMBER = "data-pribble-stands"
_REFERENCE = "Pribble, docs/pictures-and-styles.md"


@record(frozen=True, slots=True)
class LoadedSheets:
    """The style sheets of a template that is styled late: the `places` of its sheets and pictures, what was read in
    when it was compiled, and the pictures in that."""

    places: tuple[Place, ...] = ()
    loaded: Mapping[tuple[str, str], tuple[str, str]] = field(default_factory=dict)
    slots: Mapping[str, PictureSlot] = field(default_factory=dict)


class TemplateResources:
    """The files around a page, for the passes over it.

    `where` is the place of a stretch of the page, `near` the file it stands in where it has no place; `may_lack` and
    `brings` say of a mark whether it may be nothing, and which elements it may bring.  Without `named`, pictures are in
    their slots already, and what else the page names is not looked for; without `sheets`, nor are style sheets.  Of a
    `foreign` page, which is no template's, a picture that is not there is reported, and left as it is named.  Style
    sheets that are `loaded` are not read again.
    """

    def __init__(
        self,
        finder: PictureFinder,
        domain: str,
        where: Where,
        near: Path,
        *,
        may_lack: Callable[[int], bool] = lambda offset: False,
        brings: Callable[[int], frozenset[str]] = lambda offset: frozenset(),
        slots: dict[str, PictureSlot] | None = None,
        named: bool = True,
        sheets: bool = True,
        foreign: bool = False,
        loaded: Mapping[tuple[str, str], tuple[str, str]] | None = None,
    ) -> None:
        self.finder, self.domain, self.where, self.near = finder, domain, where, near
        self.may_lack, self.brings = may_lack, brings
        self.slots: dict[str, PictureSlot] = {} if slots is None else slots
        self.named, self.sheets, self.foreign = named, sheets, foreign
        self._urls: dict[str, str] = {}  # of each style sheet, its address as the page would write it
        self._told: set[str] = set()
        # Of each style sheet that was read in, by its address and who names it, its text and where it is.
        self.loaded: dict[tuple[str, str], tuple[str, str]] = dict(loaded or {})
        self.findings: list[Finding] = []
        self.paths: list[Path] = []
        self.density = finder.density
        self.complete = SIZE in finder.wanted

    # -- style sheets --

    def base(self, offset: int) -> str:
        """Returns the file that what stands at an offset was written in."""
        place = self.where(offset, offset + 1)
        return str(Path(place.source.name)) if place else str(self.near)

    def load(self, address: str, base: str, start: int, end: int) -> tuple[str, str] | None:
        """Returns a style sheet read in, its addresses resolved, and where it is; None for one that is left alone.
        Raises `TemplateError` for one that is not there."""
        known = self.loaded.get((address, base))
        if known is None and (known := self._read(address, base, start, end)) is not None:
            self.loaded[address, base] = known
        return known

    def _read(self, address: str, base: str, start: int, end: int) -> tuple[str, str] | None:
        joined = urljoin(base, address) if base.startswith(("http:", "https:")) else address
        if joined.startswith(("http:", "https:")) and self.finder.fetch:
            css = self.finder.fetch(joined).decode("utf-8-sig", "replace")
            return urls.replace_urls(css, lambda named: rebase(named.address, joined)), joined
        if is_elsewhere(address) or not self.sheets or (self.foreign and address.startswith("/")):
            return None
        try:
            path = self.finder.file(unquote(re.split("[?#]", address)[0]), Path(base).parent, "style sheet")
            css = path.read_text(encoding="utf-8-sig")
        except PictureError as error:
            raise self._unread(error.problem, base, (start, end), error.hint) from None
        except UnicodeDecodeError as error:
            problem = f'the style sheet "{address}" is no UTF-8 (at byte {error.start})'
            raise self._unread(problem, base, (start, end), "save it as UTF-8") from None
        except OSError as error:
            problem = f'the style sheet "{address}" cannot be read: {error.strerror or error}'
            raise self._unread(problem, base, (start, end), None) from None
        self.paths.append(path)
        self._urls[str(path)] = rebase(address, self._url(base))
        return urls.replace_urls(css, lambda named: self._moved(named, path)), str(path)

    def _url(self, base: str) -> str:
        """Returns the address of a file, as the page would write it."""
        known = self._urls.get(base)
        if known is None:
            known = quote(Path(os.path.relpath(base, self.near.parent)).as_posix())
        return known

    def _moved(self, named: CssUrl, sheet: Path) -> str | None:
        """Returns what a style sheet names, once what it says stands in the page: the slot of a picture, or the
        address; None for one that stays the same."""
        found = None if named.font or (self.foreign and not self.named) else self._slot(named.address, sheet, None)
        if found is not None:
            return found
        address = rebase(named.address, self._url(str(sheet)))
        return None if address == named.address else address

    def _unread(self, problem: str, base: str, stretch: tuple[int, int], hint: str | None) -> TemplateError:
        """Returns the error: that a style sheet cannot be read, which a stretch of the page names, or another sheet,
        `base`."""
        place = self.where(*stretch) if stretch[0] >= 0 else None
        return TemplateError(problem if place else f"{base}: {problem}", place=place, hint=hint)

    def addresses(self, css: str, offset: int) -> str:
        """Returns a piece of CSS that stands at `offset`, with the pictures in it as slots."""
        if not self.named:
            return css
        return urls.replace_urls(css, lambda named: self._shown(named, offset))

    def _shown(self, named: CssUrl, offset: int) -> str | None:
        """Returns the slot of a picture that a piece of CSS at `offset` names."""
        if named.font:
            return None
        place = self.where(offset + named.start, offset + named.end)
        return self._slot(named.address, Path(self.base(offset)), place)

    def _slot(self, name: str, base: Path, place: Place | None) -> str | None:
        source = self._source(name, base, place, None)
        return None if source is None else slot_text(source)

    # -- pictures --

    def picture(self, name: str, start: int, end: int, travels: Embed | None = None) -> PictureSlot | None:
        """Returns the picture that the page names at an offset; None for one that is elsewhere.  Raises
        `PictureError`."""
        if not self.named:
            return self.slots.get(name)
        return self._source(name, Path(self.base(start)), self.where(start, end), travels)

    def _source(self, name: str, base: Path, place: Place | None, travels: Embed | None) -> PictureSlot | None:
        if name in self.slots:
            return self.slots[name]
        found: FoundPicture | None = None
        try:
            if is_on_disk(name):
                raise PictureOnDisk(
                    f'"{name[:100]}" is a file of the sender\'s, which no receiver has',
                    hint="put it into the template folder, and name it by its path from the file that names it",
                )
            if name.startswith(("http:", "https:")):
                found = self.finder.fetched(name)
            elif not is_elsewhere(name):
                found = self.finder.find(unquote(name), base.parent)
        except PribbleError as error:
            if not self.foreign:
                raise type(error)(error.problem, place=place, hint=error.hint) from None
            self._report_left(name, error, place, base)
        if found is None:
            return None
        written = name if base.parent == self.near.parent else rebase(name, self._url(str(base)))
        source = PictureSlot.of(found.picture, self.domain, path=found.path, written=written, travels=travels)
        return self._kept(source, found, place)

    def _report_left(self, name: str, error: PribbleError, place: Place | None, base: Path) -> None:
        """That a picture of a page from elsewhere is left as it is named, once for each."""
        if name not in self._told:
            self._told.add(name)
            fix = error.hint or "put it there, or let the page name another"
            says = f"{'' if place else f'{base.name}: '}{error.problem}, so it stays as it is named"
            self.findings.append(Finding("picture.left", "warning", place, says, fix, _REFERENCE))

    def fitted(self, source: PictureSlot, shown: int | None, start: int, end: int) -> PictureSlot:
        """Returns the picture with no more pixels than it is shown with."""
        found = self.finder.fitted(FoundPicture(source.picture), shown)
        if found.picture is source.picture:
            return source
        made = PictureSlot.of(
            found.picture, self.domain, path=source.path, written=source.written, travels=source.travels
        )
        return self._kept(made, found, self.where(start, end))

    def completed(
        self, source: PictureSlot, size: PictureSize, shown: int | None, start: int, end: int
    ) -> tuple[PictureSlot, str]:
        """Returns a picture with no more pixels than it is `shown` with, in CSS pixels; and its missing sizes as
        attributes."""
        missing = size.missing_attributes(source.picture) if self.complete else ""
        if missing:
            self.report_size(missing, source, start, end)
        return self.fitted(source, shown, start, end), missing

    def _kept(self, source: PictureSlot, found: FoundPicture, place: Place | None) -> PictureSlot:
        """Returns the slot of a picture; its corrections are reported where it is first met."""
        if slot_text(source) not in self.slots:
            self._report_corrections(found, place)
        return self.slots.setdefault(slot_text(source), source)

    def split(self, text: str) -> Iterator[str | PictureSlot]:
        """Yields a text with slots in it, as texts and slots."""
        position = 0
        for found in _SLOT.finditer(text):
            if found[0] in self.slots:
                if position < found.start():
                    yield text[position : found.start()]
                yield self.slots[found[0]]
                position = found.end()
        if position < len(text):
            yield text[position:]

    # -- what was corrected --

    def report_size(self, added: str, source: PictureSlot, start: int, end: int) -> None:
        """Take note of attributes that were added."""
        self.findings.append(size_finding(added, source, self.where(start, end)))

    def _report_corrections(self, found: FoundPicture, place: Place | None) -> None:
        self.findings += correction_findings(found.corrections, found.picture.called, place)
        if found.picture.type == SVG.name:
            self.findings.append(
                Finding(
                    "picture.svg",
                    "note",
                    place,
                    f"{found.picture.called} is an SVG: few receivers show it",
                    "save it as PNG, twice as large as it is shown",
                    _REFERENCE,
                )
            )


def resource_tags(page: Page) -> list[StartTag]:
    """Returns the tags of a page's style sheets and pictures."""
    tags = [event.tag for event in page.events if isinstance(event, Opened) and not event.implied]
    return [
        tag
        for tag in tags
        if tag.name in ("link", "style") or (tag.attribute("src") and is_picture_place(tag.name, "src"))
    ]


def sheet_findings(told: Iterable[SheetFinding], where: Where) -> list[Finding]:
    """Returns the findings about style sheets, with their places."""
    made = []
    for each in told:
        place = where(each.part.offset + each.start, each.part.offset + each.end) if each.part.offset >= 0 else None
        inside = "" if each.part.offset >= 0 or not each.part.base else f"{Path(each.part.base).name}: "
        made.append(Finding(each.rule, "warning", place, inside + each.message, each.fix, each.reference))
    return made


def markup_findings(notes: Iterable[MarkupFinding], where: Where) -> list[Finding]:
    """Returns the findings about the markup of a page, with their places."""
    return [
        Finding(note.rule, "warning", where(note.start, note.end), note.message, note.fix, note.reference)
        for note in notes
    ]


def slot_text(source: PictureSlot) -> str:
    """Returns what stands for a picture in a text, until it is known how it travels."""
    return f"{source.address}#{source.travels}" if source.travels else source.address


def correction_findings(changes: tuple[Correction, ...], called: str, place: Place | None) -> list[Finding]:
    """Returns the corrections of a picture as findings."""
    return [
        Finding(
            f"picture.{change.what}",
            "note",
            place,
            f"{called}: {change.message}",
            f'put_right without "{change.what}" leaves it',
            _REFERENCE,
        )
        for change in changes
    ]


def size_finding(added: str, source: PictureSlot, place: Place | None) -> Finding:
    """Returns a finding: that attributes were added to an image."""
    return Finding(
        "picture.size",
        "note",
        place,
        f"{source.picture.called} is shown with{added}",
        "write both dimensions, and nothing is added",
        _REFERENCE,
    )
