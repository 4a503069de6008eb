"""A page dressed when it is rendered: where only the data decide what its elements get, and pages from elsewhere.

It is the slow way, right for every page, and what the fast one is tested against.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from pribble.cascade.inlining import Surroundings as Beside
from pribble.cascade.style_attribute import Piece
from pribble.cascade.urls import is_elsewhere
from pribble.compiler.html_program import STANDS, standing
from pribble.compiler.picture_steps import completed
from pribble.compiler.steps import PREHEADER
from pribble.errors import Place, Source, TemplateError
from pribble.findings import MOST_OF_A_RULE, Finding
from pribble.markup.contexts import MarkupError, is_picture_place
from pribble.markup.events import Opened
from pribble.markup.foreign_pages import UNFINISHED, read_foreign
from pribble.markup.page import Page, read
from pribble.markup.references import decoded
from pribble.markup.scanner import Attribute, StartTag
from pribble.mime.flowed import FlowingText
from pribble.passes.page_resources import Sheets, Surroundings, Where, findings, noted, slot
from pribble.passes.style_edits import Dressing, corners, dress
from pribble.passes.text_events import literal, page_events
from pribble.pictures.picture_finder import PictureFinder
from pribble.pictures.picture_slots import Either
from pribble.pictures.picture_slots import Source as Slot
from pribble.plaintext.flow import flow
from pribble.plaintext.layout import WIDTH, layout
from pribble.plaintext.links import Links

# Where the preheader goes, in a text that is being dressed.
_PREHEADER = "<!--pribble:preheader-->"


@dataclass(frozen=True, slots=True)
class Dresser:
    """Dresses pages: with these pictures, beside the file `near`; `named` where the page itself may name pictures,
    `sheets` where it may name style sheets, `foreign` where it is no template's: nothing in it is refused then."""

    finder: PictureFinder
    domain: str
    near: Path
    old_attributes: bool = False
    named: bool = False
    sheets: bool = True
    foreign: bool = False
    own: Sheets = field(default_factory=Sheets)

    def dressed(self, pieces: Sequence[str]) -> tuple[list[str], list[Finding]]:
        """The pieces of a page, dressed, and what is told.  Raises `TemplateError` for one that cannot be read."""
        slots = {**self.own.slots, **{slot(piece): piece for piece in pieces if isinstance(piece, Slot)}}
        text = "".join(_written(piece) for piece in pieces)
        page = read_foreign(text, comments=True) if self.foreign else _read(text)
        source = Source(str(self.near), text)
        where: Where = source.place if self.foreign else self._standing(page, text)
        around = self._around(where, slots)
        dressing = dress(text, page, literal, around, old_attributes=self.old_attributes)
        edits: list[_Edit] = [(offset, offset, (corner,)) for offset, corner in corners(page, text)]
        edits += [(change.start, change.end, change.pieces) for change in dressing.changes]
        edits += _pictures(text, page, dressing, around)
        edits += [(note.start, note.end, ()) for note in page.notes if note.rule == UNFINISHED]
        edits += [] if self.foreign else [(one.start - 1, one.end, ()) for _, one in _stands(page)]
        made: list[str] = []
        for piece in _applied(text, edits):
            made += around.split(piece) if piece.__class__ is str else [piece]
        finished = list(_with_preheader(made))
        if not self.foreign:  # what its markup and its sheets are told for was told when it was compiled
            return finished, around.findings
        told = [*noted(page.notes, where), *around.findings, *findings(dressing.told, where)]
        return finished, _first(told)

    def said(self, page: str, links: Links | None = None, width: int = WIDTH) -> FlowingText:
        """The plain text of a page."""
        read = read_foreign(page)
        around = self._around(self._standing(read, page), None, named=False)
        return said(page, read, around, links or Links(), width)

    def _standing(self, page: Page, text: str) -> Where:
        """Where the style sheets and pictures of a page stand in the files of its template."""
        found: list[tuple[int, int, Place]] = []
        for tag, attribute in _stands(page):
            number = text[attribute.value_start : attribute.value_end]
            if number.isdecimal() and len(number) < 9 and int(number) < len(self.own.places):
                found.append((tag.start, tag.end, self.own.places[int(number)]))
        starts = [start for start, _, _ in found]

        def where(start: int, end: int) -> Place | None:
            index = bisect_right(starts, start) - 1
            # The text of a style element begins where its tag ends.
            return found[index][2] if index >= 0 and start <= found[index][1] else None

        return where

    def _around(self, where: Where, slots: dict[str, Slot] | None, *, named: bool | None = None) -> Surroundings:
        return Surroundings(
            self.finder,
            self.domain,
            where,
            self.near,
            slots=slots,
            named=self.named if named is None else named,
            sheets=self.sheets,
            foreign=self.foreign,
            loaded=self.own.loaded,
        )


def _stands(page: Page) -> Iterator[tuple[StartTag, Attribute]]:
    """The tags of style sheets and pictures that say where they stand."""
    for tag in standing(page):
        attribute = tag.attribute(STANDS)
        if attribute is not None:
            yield tag, attribute


def _first(found: list[Finding]) -> list[Finding]:
    """Of each rule the first findings: a page from elsewhere may break one a thousand times."""
    met: Counter[str] = Counter()
    kept = []
    for finding in found:
        met[finding.rule] += 1
        if met[finding.rule] <= MOST_OF_A_RULE:
            kept.append(finding)
    return kept


def said(html: str, page: Page, around: Beside, links: Links, width: int) -> FlowingText:
    """The plain text of any page, which was read."""
    return layout(flow(page_events(html, page, around), links), width)


def without_forks(pieces: Sequence[str], *, by_cid: bool) -> list[str]:
    """`pieces`, each that has two forms in one."""
    made: list[str] = []
    for piece in pieces:
        if isinstance(piece, Either):
            made += piece.by_cid if by_cid else piece.otherwise
        else:
            made.append(piece)
    return made


def _written(piece: str) -> str:
    if piece is PREHEADER:
        return _PREHEADER
    return slot(piece) if isinstance(piece, Slot) else piece


def _read(text: str) -> Page:
    try:
        return read(text, literal)
    except MarkupError as error:
        raise TemplateError(error.problem, hint=error.hint) from None


_Edit = tuple[int, int, tuple[Piece, ...]]


def _pictures(text: str, page: Page, dressing: Dressing, around: Surroundings) -> list[_Edit]:
    """The pictures of a page: found, with no more pixels than are shown, their missing sizes added."""
    sizes = dict(dressing.sizes)
    edits: list[_Edit] = []
    for event in (*page.events, *page.hidden):
        if not isinstance(event, Opened) or event.implied:
            continue
        for attribute in event.tag.attributes:
            if not is_picture_place(event.tag.name, attribute.name):
                continue
            start, end = attribute.value_start, attribute.value_end
            name = decoded(text[start:end], attribute=True).strip()
            source = None if is_elsewhere(name) and name not in around.slots else around.picture(name, start, end)
            if source is None:
                continue
            missing, size = "", sizes.get(event.tag.start) if attribute.name == "src" else None
            if size is not None:
                source, missing = completed(around, source, size, size.shown(source.picture), start, end)
            quote = attribute.quote or '"'
            edits.append((attribute.start, attribute.end, (f"{attribute.name}={quote}{slot(source)}{quote}{missing}",)))
    return edits


def _applied(text: str, edits: Sequence[_Edit]) -> list[str]:
    made: list[str] = []
    position = 0
    for start, end, pieces in sorted(edits, key=lambda edit: edit[:2]):
        if start < position:
            continue
        made.append(text[position:start])
        made += [text[piece[0] : piece[1]] if isinstance(piece, tuple) else piece for piece in pieces]
        position = end
    return [*made, text[position:]]


def _with_preheader(pieces: Sequence[str]) -> list[str]:
    """`pieces`, with the slot of the preheader in the place of the comment that stood for it."""
    made: list[str] = []
    for piece in pieces:
        before, found, after = piece.partition(_PREHEADER) if piece.__class__ is str else (piece, "", "")
        made += [before, PREHEADER, after] if found else [piece]
    return made
