"""Late styling: of pages whose styles only the data decide, when they are rendered, and of pages from elsewhere.

It is the slow way, right for every page, and what the fast one is tested against.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path

from pribble.cascade.inlining import PageResources
from pribble.cascade.urls import is_elsewhere
from pribble.edits import Edit, spliced
from pribble.errors import Place, Source, TemplateError
from pribble.findings import MOST_OF_A_RULE, Finding
from pribble.markup.contexts import MarkupError, is_picture_place
from pribble.markup.events import Opened
from pribble.markup.foreign_pages import UNFINISHED, read_foreign_page
from pribble.markup.page import Page, read_page
from pribble.markup.references import decode_references
from pribble.markup.scanner import Attribute, StartTag
from pribble.mime.flowed import FlowingText
from pribble.passes.fragment_cuts import fragment_boundaries
from pribble.passes.page_resources import (
    RESOURCE_NUMBER,
    LoadedSheets,
    TemplateResources,
    Where,
    markup_findings,
    resource_tags,
    sheet_findings,
    slot_text,
)
from pribble.passes.pieces import PREHEADER, Boundary, Piece, texts_of
from pribble.passes.style_edits import StyleEdits, StylePiece, find_style_edits
from pribble.passes.text_events import literal, page_events
from pribble.passes.traces import RangesInOrder, TraceMark, traced_ranges, with_traces
from pribble.pictures.picture_finder import PictureFinder
from pribble.pictures.picture_slots import PictureSlot
from pribble.plaintext.flow import flow
from pribble.plaintext.layout import WIDTH, layout
from pribble.plaintext.links import Links
from pribble.records import field, record

# Where the preheader goes, in a text that is being styled.
_PREHEADER = "<!--pribble:preheader-->"
_PageEdit = Edit[StylePiece]


@record(frozen=True, slots=True)
class LateStyler:
    """Styles pages: with these pictures, beside the file `near`; `named` where the page itself may name pictures,
    `sheets` where it may name style sheets, `foreign` where it is no template's: nothing in it is refused then."""

    finder: PictureFinder
    domain: str
    near: Path
    old_attributes: bool = False
    named: bool = False
    sheets: bool = True
    foreign: bool = False
    own: LoadedSheets = field(default_factory=LoadedSheets)

    def style(self, pieces: Sequence[Piece]) -> tuple[list[Piece], list[Finding]]:
        """Returns the pieces of a page with its styles, and the findings.  Raises `TemplateError` for one that cannot
        be read."""
        slots = {**self.own.slots, **{slot_text(piece): piece for piece in pieces if isinstance(piece, PictureSlot)}}
        texts = [_piece_text(piece) for piece in pieces]
        text = "".join(texts)
        page = read_foreign_page(text, comments=True) if self.foreign else _read_rendered(text)
        source = Source(str(self.near), text)
        where: Where = source.place if self.foreign else self._standing(page, text)
        resources = self._resources(where, slots)
        style_edits = find_style_edits(text, page, literal, resources, old_attributes=self.old_attributes)
        edits: list[_PageEdit] = [Edit(offset, offset, (at,)) for offset, at in fragment_boundaries(page, text)]
        edits += style_edits.edits
        edits += _picture_edits(text, page, style_edits, resources)
        edits += [Edit(note.start, note.end, ()) for note in page.findings if note.rule == UNFINISHED]
        edits += [] if self.foreign else [Edit(one.start - 1, one.end, ()) for _, one in _numbered_resources(page)]
        made: list[Piece] = []
        traces = RangesInOrder(traced_ranges(pieces, texts))
        for piece in _apply_edits(text, edits, traces):
            made += resources.split(piece) if isinstance(piece, str) else [piece]
        finished = _restore_preheader(made)
        if not self.foreign:  # findings of its markup and sheets were reported when it was compiled
            return finished, resources.findings
        told = [
            *markup_findings(page.findings, where),
            *resources.findings,
            *sheet_findings(style_edits.findings, where),
        ]
        return finished, _first_of_each_rule(told)

    def plain_text(self, page: str, links: Links | None = None, width: int = WIDTH) -> FlowingText:
        """Returns the plain text of a page."""
        read = read_foreign_page(page)
        resources = self._resources(self._standing(read, page), None, named=False)
        return text_of_page(page, read, resources, links or Links(), width)

    def _standing(self, page: Page, text: str) -> Where:
        """Returns where the style sheets and pictures of a page stand in the files of its template."""
        found: list[tuple[int, int, Place]] = []
        for tag, attribute in _numbered_resources(page):
            number = text[attribute.value_start : attribute.value_end]
            if number.isdecimal() and len(number) < 9 and int(number) < len(self.own.places):
                found.append((tag.start, tag.end, self.own.places[int(number)]))
        starts = [start for start, _, _ in found]

        def where(start: int, end: int) -> Place | None:
            index = bisect_right(starts, start) - 1
            # The text of a style element begins where its tag ends.
            return found[index][2] if index >= 0 and start <= found[index][1] else None

        return where

    def _resources(
        self, where: Where, slots: dict[str, PictureSlot] | None, *, named: bool | None = None
    ) -> TemplateResources:
        return TemplateResources(
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


def _numbered_resources(page: Page) -> Iterator[tuple[StartTag, Attribute]]:
    """Yields the tags of style sheets and pictures that say where they stand."""
    for tag in resource_tags(page):
        attribute = tag.attribute(RESOURCE_NUMBER)
        if attribute is not None:
            yield tag, attribute


def _first_of_each_rule(found: list[Finding]) -> list[Finding]:
    """Of each rule the first findings: a page from elsewhere may break one a thousand times."""
    met: Counter[str] = Counter()
    kept = []
    for finding in found:
        met[finding.rule] += 1
        if met[finding.rule] <= MOST_OF_A_RULE:
            kept.append(finding)
    return kept


def text_of_page(html: str, page: Page, resources: PageResources, links: Links, width: int) -> FlowingText:
    """Returns the plain text of any page, which was read."""
    return layout(flow(page_events(html, page, resources), links), width)


def _piece_text(piece: Piece) -> str:
    if piece is PREHEADER:
        return _PREHEADER
    return slot_text(piece) if isinstance(piece, PictureSlot) else texts_of([piece])[0]


def _read_rendered(text: str) -> Page:
    try:
        return read_page(text, literal)
    except MarkupError as error:
        raise TemplateError(error.problem, hint=error.hint) from None


def _picture_edits(text: str, page: Page, style_edits: StyleEdits, resources: TemplateResources) -> list[_PageEdit]:
    """Returns the pictures of a page: found, with no more pixels than are shown, their missing sizes added."""
    sizes = dict(style_edits.sizes)
    edits: list[_PageEdit] = []
    for event in (*page.events, *page.hidden):
        if not isinstance(event, Opened) or event.implied:
            continue
        for attribute in event.tag.attributes:
            if not is_picture_place(event.tag.name, attribute.name):
                continue
            start, end = attribute.value_start, attribute.value_end
            name = decode_references(text[start:end], attribute=True).strip()
            source = None if is_elsewhere(name) and name not in resources.slots else resources.picture(name, start, end)
            if source is None:
                continue
            missing, size = "", sizes.get(event.tag.start) if attribute.name == "src" else None
            if size is not None:
                source, missing = resources.completed(source, size, size.width_of(source.picture), start, end)
            quote = attribute.quote or '"'
            written = f"{attribute.name}={quote}{slot_text(source)}{quote}{missing}"
            edits.append(Edit(attribute.start, attribute.end, (written,)))
    return edits


def _apply_edits(text: str, edits: Sequence[_PageEdit], traces: RangesInOrder) -> Iterator[str | Boundary | TraceMark]:
    for part in spliced(edits, 0, len(text)):
        for piece in part.pieces if isinstance(part, Edit) else (part,):
            if isinstance(piece, tuple):
                yield from with_traces(text, *piece, traces.within(*piece))
            else:
                yield piece


def _restore_preheader(pieces: Sequence[Piece]) -> list[Piece]:
    """Returns `pieces`, with the slot of the preheader in the place of the comment that stood for it."""
    made: list[Piece] = []
    for piece in pieces:
        before, found, after = piece.partition(_PREHEADER) if isinstance(piece, str) else ("", "", "")
        made += [before, PREHEADER, after] if found else [piece]
    return made
