"""The HTML program: a tape, read as a page, as steps.

What no edit touches comes out as its author wrote it.  Edits are few: pictures, sizes, end tags that a
branch left out, attributes and declarations whose value may come to nothing, the charset, the preheader, and
what a value beside it could change the meaning of.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from pribble.compiler.helpers import BLANK_STYLE
from pribble.compiler.program import needed
from pribble.compiler.steps import (
    LINE,
    PREHEADER,
    Chosen,
    ChosenSize,
    Edit,
    Embedded,
    Hold,
    LeftOut,
    Raw,
    Release,
    Shown,
    block_steps,
    edited,
    joined,
    value_parts,
)
from pribble.errors import Place
from pribble.language.tape import CLOSE, OPEN, SET, SHOW, Tape
from pribble.markup.contexts import MARK, Context, is_picture_place
from pribble.markup.events import Characters, Closed, Marked, Opened, between
from pribble.markup.page import Page
from pribble.markup.references import decoded
from pribble.markup.scanner import Attribute, StartTag
from pribble.pictures.picture import Picture, Source

_ELSEWHERE = re.compile(r"(?:[a-z][a-z0-9+.-]*:|//|#)", re.IGNORECASE)
_STYLED_SIZE = re.compile(r"(?:^|[;\s-])(?:width|height)\s*:", re.IGNORECASE)
# A declaration up to its value, and what ends it.
_PROPERTY = re.compile("(?:\\A|(?<=[;{}\U000f0000-\U0010ffff])|(?<=\\*/))\\s*(?P<own>[-\\w]+\\s*:\\s*)\\Z")
_DECLARATION_END = re.compile("\\s*(?:(?P<own>;)|(?=[}\U000f0000-\U0010ffff])|\\Z)")


class Pictures(Protocol):
    """Finds the picture that an author named, relative to the file that names it."""

    def written(self, name: str, place: Place) -> Source: ...


def html_steps(tape: Tape, page: Page, pictures: Pictures, *, preheader: bool) -> list[Any]:
    """The steps of the HTML program.  Raises `PictureError` for a picture that is not there."""
    contexts = _contexts(page)
    edits = [Edit(offset, offset, (end_tag,)) for offset, end_tag in page.end_tags]
    edits += [Edit(offset, offset, (" ",)) for offset in page.joints]
    edits += [Edit(start, end, (written,)) for start, end, written in page.rewritten]
    for event in (*page.events, *page.hidden):
        if isinstance(event, Opened) and not event.implied:
            edits += _tag_edits(tape, event, pictures, contexts)
        elif isinstance(event, Marked) and event.context and event.context.way in ("css", "font"):
            edits += _declaration_edits(tape, [event.offset], contexts, 0, len(tape.text))
    if preheader:
        edits.append(Edit(offset := _body_start(tape, page), offset, (PREHEADER,)))
    return list(joined(edited(tape, contexts, edits, 0, len(tape.text))))


def title_steps(tape: Tape, page: Page) -> list[Any] | None:
    """The steps that give the text of the page's ``<title>``, or None where it has none."""
    depth, inside, found = 0, False, False
    steps: list[Any] = []
    for event in page.events:
        match event:
            case Opened(tag=StartTag(name="title")) if not depth and not found:
                inside = found = True
            case Closed(name="title"):
                inside = False
            case Marked(offset=offset):
                mark = tape.mark(offset)
                depth += (mark.role == OPEN) - (mark.role == CLOSE)
                if inside or (mark.role == SET and not depth and not found):
                    steps += block_steps(mark, LINE)
            case Characters(start=start, end=end) if inside:
                steps.append(decoded(tape.text[start:end]))
    return steps if found else None


def text_block_steps(tape: Tape, context: Context, *, references: bool) -> list[Any]:
    """The steps of a tape that is text and no markup, its values shown in `context`; with `references`, those in its
    literals are read."""
    used = needed(tape)
    steps: list[Any] = []
    position = 0
    for found in [*MARK.finditer(tape.text), None]:
        end = found.start() if found else len(tape.text)
        literal = tape.text[position:end]
        steps += [decoded(literal) if references else literal] if literal else []
        if found:
            steps += block_steps(tape.mark(end), context, used)
            position = found.end()
    return steps


# ---- edits ----------------------------------------------------------------------------------------------------


def _contexts(page: Page) -> dict[int, Context]:
    contexts: dict[int, Context] = {}
    for event in (*page.events, *page.hidden):
        if isinstance(event, Marked) and event.context:
            contexts[event.offset] = event.context
        elif isinstance(event, Opened):
            contexts |= event.marks
    return contexts


def _body_start(tape: Tape, page: Page) -> int:
    """Where the preheader goes: at the head of the body, also of one that is implied."""
    return next((e.tag.end for e in page.events if isinstance(e, Opened) and e.tag.name == "body"), len(tape.text))


def _tag_edits(tape: Tape, opened: Opened, pictures: Pictures, contexts: dict[int, Context]) -> Iterator[Edit]:
    tag, shown = opened.tag, sorted(opened.marks)
    size = _Size.of(tape, tag) if tag.name in _SIZED else None
    for attribute in tag.attributes:
        marks = between(shown, attribute.value_start, attribute.value_end)
        if is_picture_place(tag.name, attribute.name):
            own = size if attribute.name == "src" else None
            yield from _picture_edits(tape, opened, attribute, marks, pictures, own)
        elif attribute.name == "charset" and tag.name == "meta":
            yield Edit(attribute.start, attribute.end, ('charset="utf-8"',))
        elif attribute.name == "style":
            yield from _style_edits(tape, opened, attribute, marks, contexts)
        elif len(marks) == 1 == attribute.value_end - attribute.value_start and attribute.name not in _NEVER_LEFT_OUT:
            yield _left_out(tape, attribute, opened.marks[marks[0]])


_NEVER_LEFT_OUT = frozenset({"alt", "src", "srcset"})


def _outer_start(tape: Tape, attribute: Attribute) -> int:
    """Where the white space before an attribute begins."""
    start = attribute.start
    while tape.text[start - 1] in "\t\n\f\r ":
        start -= 1
    return start


def _left_out(tape: Tape, attribute: Attribute, context: Context) -> Edit:
    start = _outer_start(tape, attribute)
    mark = tape.mark(attribute.value_start)
    assert mark.value is not None
    before, after = tape.text[start:attribute.value_start], tape.text[attribute.value_end:attribute.end]
    return Edit(start, attribute.end, (LeftOut(before, Shown(mark.value, context), after),))


# ---- styles ---------------------------------------------------------------------------------------------------


def _style_edits(tape: Tape, opened: Opened, attribute: Attribute, marks: Sequence[int], contexts: dict[int, Context]
                 ) -> Iterator[Edit]:
    """Declarations that may be left out, and the whole attribute where nothing may be left of it."""
    start, end = attribute.value_start, attribute.value_end
    declarations = list(_declaration_edits(tape, marks, contexts, start, end))
    if not _may_be_empty(tape, opened, declarations, start, end):
        yield from declarations
        return
    outer = _outer_start(tape, attribute)
    steps = edited(tape, contexts, declarations, start, end)
    yield Edit(outer, attribute.end, (Hold(), *steps, Release(tape.text[outer:start], tape.text[end:attribute.end])))


def _may_be_empty(tape: Tape, opened: Opened, declarations: list[Edit], start: int, end: int) -> bool:
    """Whether a style holds nothing for certain: only blocks, and declarations that may be left out."""
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
            role = tape.mark(position).role
            depth += (role == OPEN) - (role == CLOSE)
        elif not depth:
            certain += tape.text[position]
        position += 1
    return not certain.strip(BLANK_STYLE)


def _declaration_edits(tape: Tape, marks: Sequence[int], contexts: dict[int, Context], start: int, end: int
                       ) -> Iterator[Edit]:
    """The declarations whose whole value is one mark, in the style from `start` to `end`."""
    for offset in marks:
        begin = max(start, offset - 200)
        before = _PROPERTY.search(("" if begin == start else "x") + tape.text[begin:offset])
        after = _DECLARATION_END.match(tape.text, offset + 1, end)
        mark, context = tape.mark(offset), contexts[offset]
        if before is None or after is None or context.way not in ("css", "font") or mark.value is None:
            continue
        following = tape.text[after.end():after.end() + 1]
        if not after["own"] and MARK.match(following) and after.end() < end and tape.mark(after.end()).role == SHOW:
            continue
        first = offset - len(before["own"])
        shown = Shown(mark.value, context)
        yield Edit(first, after.end(), (LeftOut(before["own"], shown, tape.text[offset + 1:after.end()]),))


# ---- pictures -------------------------------------------------------------------------------------------------

# Elements whose pictures get the dimensions that are missing.
_SIZED = frozenset({"img", "input"})


@dataclass(frozen=True, slots=True)
class _Size:
    """The author's own dimensions of a picture, and whether what is missing is to be filled in."""

    width: str | None
    height: str | None
    complete: bool

    @classmethod
    def of(cls, tape: Tape, tag: StartTag) -> _Size:
        style = tag.attribute("style")
        styled = style and _STYLED_SIZE.search(tape.text[style.value_start:style.value_end])
        return cls(_written_size(tape, tag, "width"), _written_size(tape, tag, "height"), not styled)


def _picture_edits(tape: Tape, opened: Opened, attribute: Attribute, marks: Sequence[int], pictures: Pictures,
                   size: _Size | None) -> Iterator[Edit]:
    place = tape.place(attribute.value_start, attribute.value_end)
    if marks:
        if opened.marks[marks[0]].way != "picture":
            return  # its author wrote where it is
        if attribute.value_end - attribute.value_start > 1:
            within = opened.marks[marks[0]].within
            steps = (Hold(), *_held(tape, attribute), Chosen(None, place, within))
            yield Edit(attribute.value_start, attribute.value_end, steps)
        if size:
            chosen = ChosenSize(place, size.width, size.height, size.complete)
            yield Edit(attribute.end, attribute.end, (chosen,))
        return
    source = decoded(tape.text[attribute.value_start:attribute.value_end], attribute=True).strip()
    if not source or _ELSEWHERE.match(source):
        return
    found = pictures.written(source, place)
    quote = attribute.quote or '"'
    missing = size_attributes(found.picture, size.width, size.height) if size and size.complete else ""
    name = tape.text[attribute.start:attribute.start + len(attribute.name)]
    yield Edit(attribute.start, attribute.end, (f"{name}={quote}", Embedded(found), quote + missing))


def _held(tape: Tape, attribute: Attribute) -> Iterator[Any]:
    """The pieces of a picture's name."""
    for part in value_parts(tape, attribute):
        mark = None if isinstance(part, str) else tape.mark(part)
        if mark is None:
            yield part
        else:
            yield Raw(mark.value) if mark.role == SHOW and mark.value is not None else mark


def _written_size(tape: Tape, tag: StartTag, name: str) -> str | None:
    """The author's own ``width`` or ``height``, "" for one that is no plain number; None where there is none."""
    attribute = tag.attribute(name)
    if attribute is None:
        return None
    written = tape.text[attribute.value_start:attribute.value_end].strip()
    return written if re.fullmatch("[0-9]{1,5}", written) and int(written) else ""


def size_attributes(picture: Picture, width: str | None, height: str | None) -> str:
    """The missing ones of ``width`` and ``height``, the second from the first by the picture's proportions."""
    if width is None and height is None:
        return f' width="{picture.width}" height="{picture.height}"'
    if width is None and height:
        return f' width="{max(1, round(int(height) * picture.width / picture.height))}"'
    if height is None and width:
        return f' height="{max(1, round(int(width) * picture.height / picture.width))}"'
    return ""
