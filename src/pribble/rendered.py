"""A page dressed when it is rendered: where only the data decide what its elements get, and pages from elsewhere.

It is the slow way, right for every page, and what the fast one is tested against.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from pribble.cascade.addresses import is_elsewhere
from pribble.cascade.attribute import Piece
from pribble.cascade.inlining import Surroundings as Beside
from pribble.compiler.dressing import Dressing, corners, dress
from pribble.compiler.pictures import completed
from pribble.compiler.saying import literal, page_events
from pribble.compiler.steps import PREHEADER
from pribble.errors import Place, Source, TemplateError
from pribble.findings import MOST_OF_A_RULE, Finding
from pribble.markup.contexts import MarkupError, is_picture_place
from pribble.markup.events import Opened
from pribble.markup.foreign import UNFINISHED, read_foreign
from pribble.markup.page import Page, read
from pribble.markup.references import decoded
from pribble.mime.flowed import FlowingText
from pribble.pictures.embedding import PictureFinder
from pribble.pictures.slots import Either
from pribble.pictures.slots import Source as Slot
from pribble.plaintext.flow import flow
from pribble.plaintext.layout import WIDTH, layout
from pribble.plaintext.links import Links
from pribble.surroundings import Surroundings, Where, findings, noted, slot

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

    def dressed(self, pieces: Sequence[str]) -> tuple[list[str], list[Finding]]:
        """The pieces of a page, dressed, and what is told.  Raises `TemplateError` for one that cannot be read."""
        slots = {slot(piece): piece for piece in pieces if isinstance(piece, Slot)}
        text = "".join(_written(piece) for piece in pieces)
        source = Source(str(self.near), text) if self.foreign else None

        def where(start: int, end: int) -> Place | None:
            return source.place(start, end) if source else None

        page = read_foreign(text, comments=True) if self.foreign else _read(text, where)
        around = self._around(where, slots)
        dressing = dress(text, page, literal, around, old_attributes=self.old_attributes)
        edits: list[_Edit] = [(offset, offset, (corner,)) for offset, corner in corners(page, text)]
        edits += [(change.start, change.end, change.pieces) for change in dressing.changes]
        edits += _pictures(text, page, dressing, around)
        edits += [(note.start, note.end, ()) for note in page.notes if note.rule == UNFINISHED]
        made: list[str] = []
        for piece in _applied(text, edits):
            made += around.split(piece) if piece.__class__ is str else [piece]
        told = [*around.findings, *findings(dressing.told, where)]
        return list(_with_preheader(made)), [*_first(noted(page.notes, where)), *told] if self.foreign else told

    def said(self, page: str, links: Links | None = None, width: int = WIDTH) -> FlowingText:
        """The plain text of a page."""
        return said(page, self._around(lambda start, end: None, None, named=False), links or Links(), width)

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
        )


def _first(found: list[Finding]) -> list[Finding]:
    """Of each rule the first findings: a page from elsewhere may break one a thousand times."""
    met: Counter[str] = Counter()
    kept = []
    for finding in found:
        met[finding.rule] += 1
        if met[finding.rule] <= MOST_OF_A_RULE:
            kept.append(finding)
    return kept


def said(html: str, around: Beside, links: Links, width: int) -> FlowingText:
    """The plain text of any page."""
    return layout(flow(page_events(html, read_foreign(html), around), links), width)


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


def _read(text: str, where: Where) -> Page:
    try:
        return read(text, literal)
    except MarkupError as error:
        raise TemplateError(error.problem, place=where(error.start, error.end), hint=error.hint) from None


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
