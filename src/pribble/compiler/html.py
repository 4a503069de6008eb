"""The HTML program: a tape, read as a page, as steps.

What no edit touches comes out as its author wrote it.  Edits are few: pictures, sizes, end tags that a
branch left out, attributes whose value may come to nothing, the charset, the preheader.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from pribble.compiler.lowering import Lowering
from pribble.compiler.program import needed
from pribble.errors import Place
from pribble.language.expressions import Binding, Expression
from pribble.language.tape import BRANCH, CLOSE, LIFTED, LITERAL, OPEN, SET, SHOW, Tape, TapeMark
from pribble.markup.contexts import PICTURE_ATTRIBUTES, Characters, Closed, Marked, Opened, Page
from pribble.markup.references import decoded
from pribble.markup.scanner import Attribute, StartTag
from pribble.pictures.picture import Picture, Source

# How a value is shown in each context: the functions `how` and `show_how` of a program.
_HOW = {"text": "markup", "attribute": "attribute", "url": "url", "url-base": "base", "url-path": "segment",
        "url-query": "query"}
_MARK = re.compile("[\U000f0000-\U0010ffff]")
_ELSEWHERE = re.compile(r"(?:[a-z][a-z0-9+.-]*:|//|#)", re.IGNORECASE)
# So many texts are joined into one piece at the most, so that each piece is counted before it grows large.
_LONGEST_PIECE = 100
_SIZED = re.compile(r"(?:^|[;\s-])(?:width|height)\s*:", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Shown:
    """A value, shown by the functions that `how` names."""

    value: Expression
    how: str


@dataclass(frozen=True, slots=True)
class LeftOut:
    """An attribute that is left out where its whole value comes to nothing."""

    before: str
    shown: Shown
    after: str


@dataclass(frozen=True, slots=True)
class Embedded:
    """The source of a picture known when the template is compiled."""

    source: Source


@dataclass(frozen=True, slots=True)
class Chosen:
    """A picture chosen by the data: what names it, and which of its dimensions are to be written."""

    parts: tuple[str | Expression, ...]
    width: str | None
    height: str | None
    complete: bool
    place: Place


class _PreheaderSlot(str):
    """Where the preheader goes: an empty text that is told from all others."""

    __slots__ = ()


PREHEADER = _PreheaderSlot()


class Pictures(Protocol):
    """Finds the picture that an author named, relative to the file that names it."""

    def written(self, name: str, place: Place) -> Source: ...


@dataclass(frozen=True, slots=True)
class Edit:
    """Steps that take the place of the tape from `start` to `end`."""

    start: int
    end: int
    steps: tuple[Any, ...]


def html_steps(tape: Tape, page: Page, pictures: Pictures, *, preheader: bool) -> list[Any]:
    """The steps of the HTML program.  Raises `PictureError` for a picture that is not there."""
    edits = [Edit(offset, offset, (end_tag,)) for offset, end_tag in page.end_tags]
    for event in page.events:
        if isinstance(event, Opened):
            edits += _tag_edits(tape, event, pictures)
    if preheader:
        edits.append(Edit(offset := _body_start(page), offset, (PREHEADER,)))
    return list(_joined(_edited(tape, _contexts(page), edits)))


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
                    steps += _block_steps(mark, "line")
            case Characters(start=start, end=end) if inside:
                steps.append(decoded(tape.text[start:end]))
    return steps if found else None


def text_block_steps(tape: Tape, how: str, *, references: bool) -> list[Any]:
    """The steps of a tape that is text and no markup, its values shown by `how`; with `references`, those in its
    literals are read."""
    used = needed(tape)
    steps: list[Any] = []
    position = 0
    for found in [*_MARK.finditer(tape.text), None]:
        end = found.start() if found else len(tape.text)
        literal = tape.text[position:end]
        steps += [decoded(literal) if references else literal] if literal else []
        if found:
            steps += _block_steps(tape.mark(end), how, used)
            position = found.end()
    return steps


def _block_steps(mark: TapeMark, how: str, used: Collection[Binding] | None = None) -> list[Any]:
    if mark.role == SHOW and mark.value is not None:
        return [Shown(mark.value, how)]
    if mark.role == LITERAL:
        return [mark.literal]
    if mark.role == SET and used is not None and mark.binding not in used:
        return []
    return [mark] if mark.role in (OPEN, BRANCH, CLOSE, SET) else []


# ---- edits ----------------------------------------------------------------------------------------------------


def _contexts(page: Page) -> dict[int, str]:
    contexts: dict[int, str] = {}
    for event in page.events:
        if isinstance(event, Marked):
            contexts[event.offset] = event.context
        elif isinstance(event, Opened):
            contexts |= event.marks
    return contexts


def _edited(tape: Tape, contexts: dict[int, str], edits: Iterable[Edit]) -> Iterator[Any]:
    position = 0
    for edit in sorted(edits, key=lambda e: (e.start, e.end)):
        yield from _stretch(tape, position, edit.start, contexts)
        yield from edit.steps
        position = edit.end
    yield from _stretch(tape, position, len(tape.text), contexts)


def _stretch(tape: Tape, start: int, end: int, contexts: dict[int, str]) -> Iterator[Any]:
    """The steps of a stretch of the tape that no edit touches."""
    position = start
    for found in _MARK.finditer(tape.text, start, end):
        if position < found.start():
            yield tape.text[position:found.start()]
        position = found.end()
        mark = tape.mark(found.start())
        if mark.role == SHOW and mark.value is not None:
            yield Shown(mark.value, _HOW[contexts[found.start()]])
        elif mark.role == LITERAL:
            yield mark.literal
        elif mark.role != LIFTED:
            yield mark
    if position < end:
        yield tape.text[position:end]


def _joined(steps: Iterable[Any]) -> Iterator[Any]:
    """Neighbouring literals as one."""
    literal: list[str] = []
    for step in steps:
        if isinstance(step, str) and step is not PREHEADER:
            literal.append(step)
            continue
        if literal:
            yield "".join(literal)
            literal = []
        yield step
    if literal:
        yield "".join(literal)


def _body_start(page: Page) -> int:
    """Where the preheader goes: at the head of the body, or of what there is of one."""
    for event in page.events:
        if isinstance(event, Opened) and event.tag.name == "body":
            return event.tag.end
    for event in page.events:
        if isinstance(event, Closed) and event.name == "head":
            return event.end
    return next((e.tag.start for e in page.events if isinstance(e, Opened) and e.tag.name not in
                 ("html", "head", "meta", "link", "title", "style")), 0)


def _tag_edits(tape: Tape, opened: Opened, pictures: Pictures) -> Iterator[Edit]:
    tag = opened.tag
    for attribute in tag.attributes:
        if (tag.name, attribute.name) in PICTURE_ATTRIBUTES:
            yield from _picture_edits(tape, opened, attribute, pictures)
        elif attribute.name == "charset" and tag.name == "meta":
            yield Edit(attribute.start, attribute.end, ('charset="utf-8"',))
        elif _is_one_mark(opened, attribute) and attribute.name != "alt":
            yield _left_out(tape, opened, attribute)


def _is_one_mark(opened: Opened, attribute: Attribute) -> bool:
    return attribute.value_end - attribute.value_start == 1 and attribute.value_start in opened.marks


def _left_out(tape: Tape, opened: Opened, attribute: Attribute) -> Edit:
    start = attribute.start
    while tape.text[start - 1] in "\t\n\f\r ":
        start -= 1
    mark = tape.mark(attribute.value_start)
    assert mark.value is not None
    shown = Shown(mark.value, _HOW[opened.marks[attribute.value_start]])
    before = tape.text[start:attribute.value_start]
    return Edit(start, attribute.end, (LeftOut(before, shown, tape.text[attribute.value_end:attribute.end]),))


# ---- pictures -------------------------------------------------------------------------------------------------


def _picture_edits(tape: Tape, opened: Opened, attribute: Attribute, pictures: Pictures) -> Iterator[Edit]:
    tag = opened.tag
    width, height = _written_size(tape, tag, "width"), _written_size(tape, tag, "height")
    style = tag.attribute("style")
    complete = not (style and _SIZED.search(tape.text[style.value_start:style.value_end]))
    if any(attribute.value_start <= offset < attribute.value_end for offset in opened.marks):
        place = tape.place(attribute.value_start, attribute.value_end)
        parts = tuple(part if isinstance(part, str) else part[1] for part in attribute_parts(tape, attribute))
        chosen = Chosen(parts, width, height, complete, place)
        quote = attribute.quote or '"'
        yield Edit(attribute.start, attribute.end, (f"src={quote}", chosen, quote, ChosenSize(chosen)))
        return
    source = decoded(tape.text[attribute.value_start:attribute.value_end], attribute=True).strip()
    if not source or _ELSEWHERE.match(source):
        return
    found = pictures.written(source, tape.place(attribute.value_start, attribute.value_end))
    quote = attribute.quote or '"'
    size = size_attributes(found.picture, width, height) if complete else ""
    yield Edit(attribute.start, attribute.end, (f"src={quote}", Embedded(found), quote + size))


@dataclass(frozen=True, slots=True)
class ChosenSize:
    """The dimensions of a chosen picture, where its author wrote none."""

    chosen: Chosen


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


def attribute_parts(tape: Tape, attribute: Attribute) -> Iterator[str | tuple[int, Expression]]:
    """The value of an attribute: texts, their references read, and the values of its marks with their offsets."""
    position = attribute.value_start
    for found in _MARK.finditer(tape.text, attribute.value_start, attribute.value_end):
        if position < found.start():
            yield decoded(tape.text[position:found.start()], attribute=True)
        mark = tape.mark(found.start())
        if mark.role == SHOW and mark.value is not None:
            yield found.start(), mark.value
        else:
            yield mark.literal
        position = found.end()
    if position < attribute.value_end:
        yield decoded(tape.text[position:attribute.value_end], attribute=True)


# ---- steps to statements --------------------------------------------------------------------------------------


class PieceSink:
    """Writes straight runs as one f-string each, appended to a list of pieces.

    Pieces are texts; a `Source` among them stands for a picture, `PREHEADER` for the preheader.
    """

    prologue = "out = []; append = out.append"
    result = "out"

    def written(self, run: Sequence[Any], lowering: Lowering) -> list[ast.stmt]:
        statements: list[ast.stmt] = []
        texts: list[ast.expr] = []

        def flush() -> None:
            if texts:
                statements.append(appended(counted(joined(texts))))
                texts.clear()

        for step in run:
            if len(texts) >= _LONGEST_PIECE:
                flush()
            match step:
                case _PreheaderSlot():
                    flush()
                    statements.append(appended(lowering.constant(step, named=True)))
                case str():
                    texts.append(ast.Constant(step))
                case Shown(value=value, how=how):
                    texts.append(lowering.shown(value, how))
                case LeftOut():
                    texts.append(_left_out_or_shown(step, lowering))
                case ChosenSize(chosen=chosen):
                    texts.append(lowering.call("picture_size", ast.Name("picture_", ast.Load()), *map(
                        ast.Constant, (chosen.width, chosen.height, chosen.complete)), place=chosen.place))
                case Chosen():
                    flush()
                    statements.append(ast.Assign([ast.Name("picture_", ast.Store())], _chosen(step, lowering)))
                    statements.append(appended(ast.Name("picture_", ast.Load())))
                case Embedded(source=source):
                    flush()
                    statements.append(appended(lowering.constant(source, named=True)))
        flush()
        return statements


class LineSink(PieceSink):
    """Writes the program of a line: its pieces are texts only, joined, each run of white space one space."""

    result = '" ".join("".join(out).split())'


class TextSink(PieceSink):
    """Writes the program of a plain text written by hand: its lines are kept, and trimmed at their ends."""

    result = '"\\n".join([line.rstrip() for line in "".join(out).split("\\n")]).strip("\\n") + "\\n"'


def counted(value: ast.expr) -> ast.expr:
    """``kept(room, value)``: no template makes more than is permitted, however it multiplies."""
    return ast.Call(ast.Name("kept", ast.Load()), [ast.Name("room", ast.Load()), value], [])


def appended(value: ast.expr) -> ast.stmt:
    """``append(value)``"""
    return ast.Expr(ast.Call(ast.Name("append", ast.Load()), [value], []))


def joined(texts: Sequence[ast.expr]) -> ast.expr:
    """An f-string of `texts`; in it, nothing shows as nothing."""
    if len(texts) == 1 and isinstance(texts[0], ast.Constant):
        return texts[0]
    return ast.JoinedStr([t if isinstance(t, ast.Constant) else ast.FormattedValue(t, -1) for t in texts])


def unless_nothing(shown: Shown, nothing: ast.expr, around: Callable[[ast.expr], ast.expr],
                   lowering: Lowering) -> ast.expr:
    """`nothing` where a value comes to nothing, else what `around` makes of the value shown."""
    text = lowering.call(f"show_{shown.how}", ast.Name("whole", ast.Load()), place=shown.value.place)
    test = ast.Compare(ast.NamedExpr(ast.Name("whole", ast.Store()), lowering.value(shown.value)), [ast.Is()],
                       [ast.Name("NOTHING", ast.Load())])
    return ast.IfExp(test, nothing, around(text))


def _left_out_or_shown(step: LeftOut, lowering: Lowering) -> ast.expr:
    return unless_nothing(step.shown, ast.Constant(""), lambda text: joined(
        [ast.Constant(step.before), text, ast.Constant(step.after)]), lowering)


def _chosen(step: Chosen, lowering: Lowering) -> ast.expr:
    near = lowering.constant(step.place)
    if len(step.parts) == 1 and not isinstance(step.parts[0], str):
        return lowering.call("picture", lowering.value(step.parts[0]), near, place=step.parts[0].place)
    texts = [ast.Constant(part) if isinstance(part, str) else
             lowering.call("picture_name", lowering.value(part), place=part.place) for part in step.parts]
    return lowering.call("picture_beside", joined(texts), near, place=step.place)
