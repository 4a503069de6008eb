"""The HTML program: the linked source, read as a page, as steps.

What no edit touches comes out as its author wrote it.  Edits are few: pictures, sizes, end tags that a
branch left out, attributes and declarations whose value may be nothing, the charset, the preheader, and
what a value beside it could change the meaning of.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from pribble.compiler.block_program import build_block_steps, dedented
from pribble.compiler.picture_steps import PictureEdits, outer_start
from pribble.compiler.runtime import BLANK_STYLE
from pribble.compiler.steps import (
    LINE,
    MARKUP,
    BeginCapture,
    BlockStep,
    DynamicPicture,
    EndCapture,
    OptionalAttribute,
    ShowValue,
    StaticPicture,
    Step,
    block_steps,
    edited_steps,
    join_literals,
    merge_slices,
)
from pribble.edits import Edit
from pribble.errors import Place
from pribble.language.linked_source import CLOSE, OPEN, SET, SHOW, ExtractedBlock, LinkedSource
from pribble.markup.contexts import MARK, Context, is_picture_place
from pribble.markup.events import Characters, Closed, Marked, Opened, between
from pribble.markup.page import Page
from pribble.markup.references import decode_references
from pribble.markup.scanner import Attribute, StartTag
from pribble.passes.fragment_cuts import fragment_boundaries
from pribble.passes.page_resources import RESOURCE_NUMBER, TemplateResources, resource_tags
from pribble.passes.pieces import PREHEADER
from pribble.passes.style_edits import StyleEdits, StylePiece
from pribble.pictures.picture_slots import PictureSlot
from pribble.regexes import regex
from pribble.values.escaping import markup

# A declaration up to its value, and what ends it.
_PROPERTY = regex("(?:\\A|(?<=[;{}\U000f0000-\U0010ffff])|(?<=\\*/))\\s*(?P<own>[-\\w]+\\s*:\\s*)\\Z")
_CHARSET = regex(r"charset\s*=\s*([^\s;\"']+)", re.IGNORECASE)
_DECLARATION_END = regex("\\s*(?:(?P<own>;)|(?=[}\U000f0000-\U0010ffff])|\\Z)")


def build_html_steps(
    linked: LinkedSource,
    page: Page,
    resources: TemplateResources,
    style_edits: StyleEdits | None,
    *,
    preheader: bool,
    traced: bool = False,
) -> list[Step]:
    """Returns the steps of the HTML program; without `style_edits`, of a page that is styled when it is rendered.
    `traced` ones say of each text where it was written.  Raises `PictureError` for a picture that is not there."""
    steps = _PageEdits(linked, page, resources, style_edits, traced=traced).steps(preheader)
    return list(steps) if traced else list(merge_slices(list(join_literals(steps))))


def resource_places(linked: LinkedSource, page: Page) -> tuple[Place, ...]:
    """Returns where the style sheets of a page stand, in its own ``style`` elements and linked, and its pictures are
    named."""
    places = []
    for tag in resource_tags(page):
        source = tag.attribute("src")
        at = (tag.start, tag.end) if source is None else (source.value_start, source.value_end)
        places.append(linked.place(*at))
    return tuple(places)


def build_text_page_steps(
    linked: LinkedSource, page: Page, resources: TemplateResources, *, traced: bool = False
) -> list[Step]:
    """Returns the steps of the page that a text is taken from when it is rendered: what only the HTML has left out,
    what only the text has put in, and no pictures; `traced` as `build_html_steps` has it."""
    edits: list[Edit[Step]] = []
    opened: list[tuple[int, bool]] = []
    for event in page.events:
        if isinstance(event, Marked):
            mark = linked.mark(event.offset)
            if mark.role == OPEN:
                opened.append((event.offset, mark.loop is None and mark.value is None))
            elif mark.role == CLOSE:
                start, only_html = opened.pop()
                if only_html:
                    edits.append(Edit(start, event.offset + 1, ()))
            elif mark.extracted is not None and mark.extracted.kind == "only":
                edits.append(Edit(event.offset, event.offset + 1, tuple(_only_text(mark.extracted))))
    steps = _PageEdits(linked, page, resources, None, traced=traced).bare_steps(edits)
    return [step for step in (steps if traced else join_literals(steps)) if not isinstance(step, DynamicPicture)]


def _only_text(block: ExtractedBlock) -> Iterator[Step]:
    steps = build_block_steps(dedented(block.linked), MARKUP, references=True)
    inside = [markup(step) if isinstance(step, str) else step for step in steps]
    yield from (_ALONE, *inside, "</span>") if block.alone else inside


# An element that stays within what it stands in, and shows as one alone on its lines is set.
_ALONE = '<span style="display:block;white-space:pre;margin:1em 0">'


class _PageEdits:
    """All edits of a page."""

    def __init__(
        self,
        linked: LinkedSource,
        page: Page,
        resources: TemplateResources,
        style_edits: StyleEdits | None,
        *,
        traced: bool = False,
    ) -> None:
        self.linked, self.page, self.resources, self.traced = linked, page, resources, traced
        self.contexts = _contexts(page)
        self.is_late = style_edits is None
        self.style_edits = style_edits or StyleEdits()
        self.pictures = PictureEdits(linked, resources, None if style_edits is None else dict(style_edits.sizes))

    def steps(self, preheader: bool) -> Iterator[Step]:
        linked, page = self.linked, self.page
        edits = self._of_balance()
        edits += [Edit(offset, offset, (corner,)) for offset, corner in fragment_boundaries(page, linked.text)]
        edits += [Edit(change.start, change.end, tuple(self._pieces(change))) for change in self.style_edits.edits]
        edits += self._of_events()
        edits += self._of_resources()
        if preheader:
            edits.append(Edit(offset := _body_start(linked, page), offset, (PREHEADER,)))
        return edited_steps(linked, self.contexts, edits, 0, len(linked.text), traced=self.traced)

    def bare_steps(self, edits: Sequence[Edit[Step]]) -> Iterator[Step]:
        """Returns the steps of the page as it is, with these edits: no pictures, no styles."""
        tags = [
            edit
            for event in self.page.events
            if isinstance(event, Opened) and not event.implied
            for edit in self._tag(event)
        ]
        marks = [
            e.offset
            for e in self.page.events
            if isinstance(e, Marked) and e.context and e.context.escaper in ("css", "font")
        ]
        end = len(self.linked.text)
        rules = _declaration_edits(self.linked, marks, self.contexts, 0, end)
        own = [*edits, *self._of_balance(), *self._of_resources(), *tags, *rules]
        return edited_steps(self.linked, self.contexts, own, 0, end, traced=self.traced)

    def _of_balance(self) -> list[Edit[Step]]:
        """Returns what keeps apart or together what an author left to the page around it."""
        page = self.page
        return [
            *(Edit(offset, offset, (end_tag,)) for offset, end_tag in page.end_tags),
            *(Edit(offset, offset, (" ",)) for offset in page.joints),
            *(Edit(start, end, (written,)) for start, end, written in page.rewritten),
        ]

    def _of_resources(self) -> list[Edit[Step]]:
        """Returns where each style sheet and picture stands, for a page that is styled when it is rendered: by its
        place in `resource_places`."""
        if not self.is_late:
            return []
        ends = [tag.start + 1 + len(tag.name) for tag in resource_tags(self.page)]
        return [Edit(end, end, (f' {RESOURCE_NUMBER}="{number}"',)) for number, end in enumerate(ends)]

    def _pieces(self, change: Edit[StylePiece]) -> Iterator[Step]:
        for piece in change.pieces:
            if isinstance(piece, tuple):
                start, end = piece
                marks = [found.start() for found in MARK.finditer(self.linked.text, start, end)]
                edits = [
                    *_declaration_edits(self.linked, marks, self.contexts, start, end),
                    *self.pictures.css_edits(start, end, '"'),
                ]
                yield from edited_steps(self.linked, self.contexts, edits, start, end, traced=self.traced)
            elif isinstance(piece, str):
                for part in self.resources.split(piece):
                    yield StaticPicture(part) if isinstance(part, PictureSlot) else part
            else:
                yield piece

    def _of_events(self) -> Iterator[Edit[Step]]:
        opened = [e for e in (*self.page.events, *self.page.hidden) if isinstance(e, Opened) and not e.implied]
        widths = self.pictures.shown_widths(opened)
        sheet: int | None = None  # where the tag of the style sheet stands that is being read
        for event in (*self.page.events, *self.page.hidden):
            match event:
                case Opened() if not event.implied:
                    yield from self.pictures.edits(event, widths)
                    yield from self._tag(event)
                    sheet = event.tag.start
                case Marked() if event.context and event.context.escaper in ("css", "font"):
                    yield from _declaration_edits(self.linked, [event.offset], self.contexts, 0, len(self.linked.text))
                case Characters(raw="style") if sheet not in self.style_edits.edited_sheets:
                    yield from self.pictures.css_edits(event.start, event.end)

    def _tag(self, opened: Opened) -> Iterator[Edit[Step]]:
        tag, shown = opened.tag, sorted(opened.marks)
        for attribute in tag.attributes:
            marks = between(shown, attribute.value_start, attribute.value_end)
            if attribute.name == "charset" and tag.name == "meta":
                yield Edit(attribute.start, attribute.end, ('charset="utf-8"',))
            elif attribute.name == "content" and (found := self._charset(tag, attribute)):
                yield Edit(found.start(1), found.end(1), ("utf-8",))
            elif attribute.name == "style":
                if tag.start not in self.style_edits.styled_tags:
                    yield from self._style(opened, attribute, marks)
            elif len(marks) == 1 == attribute.value_end - attribute.value_start and not (
                attribute.name in _NEVER_LEFT_OUT or is_picture_place(tag.name, attribute.name)
            ):
                yield _optional_attribute(self.linked, attribute, opened.marks[marks[0]])

    def _charset(self, tag: StartTag, attribute: Attribute) -> re.Match[str] | None:
        """Returns the charset that an older page names: ``<meta http-equiv="Content-Type" content="text/html;
        charset=…">``."""
        pragma = next((a for a in tag.attributes if a.name == "http-equiv"), None)
        if tag.name != "meta" or pragma is None:
            return None
        said = self.linked.text[pragma.value_start : pragma.value_end].strip().lower()
        if said != "content-type":
            return None
        return _CHARSET.search(self.linked.text, attribute.value_start, attribute.value_end)

    def _style(self, opened: Opened, attribute: Attribute, marks: Sequence[int]) -> Iterator[Edit[Step]]:
        start, end = attribute.value_start, attribute.value_end
        urls = list(self.pictures.css_edits(start, end, attribute.quote or '"'))
        yield from _style_edits(self.linked, opened, attribute, marks, self.contexts, urls)


def build_title_steps(linked: LinkedSource, page: Page) -> list[BlockStep] | None:
    """Returns the steps that give the text of the page's ``<title>``, or None where it has none."""
    depth, inside, found = 0, False, False
    steps: list[BlockStep] = []
    for event in page.events:
        match event:
            case Opened(tag=StartTag(name="title")) if not depth and not found:
                inside = found = True
            case Closed(name="title"):
                inside = False
            case Marked(offset=offset):
                mark = linked.mark(offset)
                depth += (mark.role == OPEN) - (mark.role == CLOSE)
                if inside or (mark.role == SET and not depth and not found):
                    steps += block_steps(mark, LINE)
            case Characters(start=start, end=end) if inside:
                steps.append(decode_references(linked.text[start:end]))
    return steps if found else None


# ---- edits ----------------------------------------------------------------------------------------------------


def _contexts(page: Page) -> dict[int, Context]:
    contexts: dict[int, Context] = {}
    for event in (*page.events, *page.hidden):
        if isinstance(event, Marked) and event.context:
            contexts[event.offset] = event.context
        elif isinstance(event, Opened):
            contexts |= event.marks
    return contexts


def _body_start(linked: LinkedSource, page: Page) -> int:
    """Returns where the preheader goes: at the head of the body, also of one that is implied."""
    return next((e.tag.end for e in page.events if isinstance(e, Opened) and e.tag.name == "body"), len(linked.text))


_NEVER_LEFT_OUT = frozenset({"alt", "src", "srcset"})


def _optional_attribute(linked: LinkedSource, attribute: Attribute, context: Context) -> Edit[Step]:
    start = outer_start(linked, attribute)
    mark = linked.mark(attribute.value_start)
    assert mark.value is not None
    before, after = linked.text[start : attribute.value_start], linked.text[attribute.value_end : attribute.end]
    return Edit(start, attribute.end, (OptionalAttribute(before, ShowValue(mark.value, context), after),))


# ---- styles ---------------------------------------------------------------------------------------------------


def _style_edits(
    linked: LinkedSource,
    opened: Opened,
    attribute: Attribute,
    marks: Sequence[int],
    contexts: dict[int, Context],
    urls: list[Edit[Step]],
) -> Iterator[Edit[Step]]:
    """Yields declarations that may be left out, the pictures it names, the whole attribute where nothing may be left of
    it."""
    start, end = attribute.value_start, attribute.value_end
    declarations = list(_declaration_edits(linked, marks, contexts, start, end))
    if not _may_be_empty(linked, opened, declarations, start, end):
        yield from (*declarations, *urls)
        return
    outer = outer_start(linked, attribute)
    steps = edited_steps(linked, contexts, [*declarations, *urls], start, end)
    yield Edit(
        outer,
        attribute.end,
        (BeginCapture(), *steps, EndCapture(linked.text[outer:start], linked.text[end : attribute.end])),
    )


def _may_be_empty(linked: LinkedSource, opened: Opened, declarations: list[Edit[Step]], start: int, end: int) -> bool:
    """Returns whether a style holds nothing for certain: only blocks, and declarations that may be left out."""
    blocks = set(between(opened.blocks, start, end))
    if not blocks and not declarations:
        return False
    certain, depth, position = "", 0, start
    left_out = {edit.start: edit.end for edit in declarations}
    while position < end:
        if position in left_out:
            position = left_out[position]
            continue
        if position in blocks:
            role = linked.mark(position).role
            depth += (role == OPEN) - (role == CLOSE)
        elif not depth:
            certain += linked.text[position]
        position += 1
    return not certain.strip(BLANK_STYLE)


def _declaration_edits(
    linked: LinkedSource, marks: Sequence[int], contexts: dict[int, Context], start: int, end: int
) -> Iterator[Edit[Step]]:
    """Yields the declarations whose whole value is one mark, in the style from `start` to `end`."""
    for offset in marks:
        begin = max(start, offset - 200)
        before = _PROPERTY.search(("" if begin == start else "x") + linked.text[begin:offset])
        after = _DECLARATION_END.match(linked.text, offset + 1, end)
        mark, context = linked.mark(offset), contexts[offset]
        if before is None or after is None or context.escaper not in ("css", "font") or mark.value is None:
            continue
        following = linked.text[after.end() : after.end() + 1]
        if not after["own"] and MARK.match(following) and after.end() < end and linked.mark(after.end()).role == SHOW:
            continue
        first = offset - len(before["own"])
        shown = ShowValue(mark.value, context)
        yield Edit(
            first, after.end(), (OptionalAttribute(before["own"], shown, linked.text[offset + 1 : after.end()]),)
        )
