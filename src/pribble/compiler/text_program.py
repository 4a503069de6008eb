"""The text program: the same linked source and page, as steps that yield events for `plaintext/`.

Values flow in as plain text; what surrounds them is constant.  Laying the events out is left for when the
text is asked for.
"""

from __future__ import annotations

import ast
from collections.abc import Iterable, Iterator, Sequence

from pribble.compiler.block_program import build_block_steps, dedented
from pribble.compiler.emitters import appended, counted_output, formatted, holding, unless_nothing
from pribble.compiler.expression_compiler import ExpressionCompiler
from pribble.compiler.steps import EVENT, PLAIN, BeginCapture, ShowValue, block_steps, value_parts
from pribble.compiler.syntax_trees import parsed
from pribble.compiler.text_steps import (
    BeginAttributes,
    BeginPart,
    CapturedAttribute,
    EndPart,
    EventStep,
    FillPattern,
    FillRow,
    OpenCaptured,
    OpenWithValues,
    TakeRows,
    TextCall,
    TextFormStep,
    TextParts,
)
from pribble.language.linked_source import CLOSE, OPEN, SHOW, LinkedSource, Marker
from pribble.markup.contexts import Context
from pribble.markup.events import Closed, Marked, Opened, between
from pribble.markup.page import Page
from pribble.markup.scanner import Attribute
from pribble.passes.text_events import decode_text
from pribble.plaintext.events import READ_ATTRIBUTES, Close, Open, TextEvent
from pribble.plaintext.patterns import Filled
from pribble.plaintext.style import NO_STYLE, Style

_ALONE = Style(display="block", collapse="preserve", wrap=False, above=True, below=True)


def build_text_steps(linked: LinkedSource, page: Page, styles: Sequence[Style]) -> list[TextFormStep]:
    """Returns the steps of the text program: texts and events as they are, values, and the marks of blocks; `styles`
    are those of the page's elements.

    Stretches that only the HTML has are left out, those that only the text has put in.
    """
    steps: list[TextFormStep] = []
    style = iter(styles)
    blocks: list[bool] = []  # of each open block, whether it is one that only the HTML has
    for event in page.events:
        if isinstance(event, Marked):
            mark = linked.mark(event.offset)
            if mark.role == OPEN:
                blocks.append(mark.loop is None and mark.value is None)
                if blocks[-1]:
                    continue
            elif mark.role == CLOSE and blocks.pop():
                continue
            if not any(blocks):
                steps += _mark_steps(mark, event.context)
            continue
        own = next(style) if isinstance(event, Opened) else NO_STYLE
        if any(blocks):
            continue
        if isinstance(event, Opened):
            steps += _open(linked, event, own)
        elif isinstance(event, Closed):
            steps.append(Close(event.name))
        else:
            steps.append(decode_text(linked.text[event.start : event.end], event.raw))
    return steps


def _mark_steps(mark: Marker, context: Context | None) -> Sequence[TextFormStep]:
    if mark.role == SHOW and not (context and context.escaper in ("markup", "plain")):
        return []
    if mark.extracted is not None and mark.extracted.kind == "only":
        steps = build_block_steps(dedented(mark.extracted.linked), PLAIN, references=True)
        return [Open("span", {}, False, _ALONE), *steps, Close("span")] if mark.extracted.alone else steps
    return block_steps(mark, EVENT)


def _open(linked: LinkedSource, event: Opened, style: Style) -> Iterator[TextFormStep]:
    tag = event.tag
    if event.blocks:
        yield from _open_in_steps(linked, event, style)
        return
    read = {
        a.name: tuple(_value_parts(linked, a, event)) for a in reversed(tag.attributes) if a.name in READ_ATTRIBUTES
    }
    if any(isinstance(part, ShowValue) for parts in read.values() for part in parts):
        yield OpenWithValues(tag.name, event.void, tuple(read.items()), style)
    else:
        yield Open(tag.name, {name: "".join(map(str, parts)) for name, parts in read.items()}, event.void, style)


def _open_in_steps(linked: LinkedSource, event: Opened, style: Style) -> Iterator[TextFormStep]:
    """Yields a start tag with blocks in it, attribute by attribute."""
    inside = {offset for a in event.tag.attributes for offset in between(event.blocks, a.value_start, a.value_end)}
    found: list[tuple[int, Attribute | None]] = [(a.start, a) for a in event.tag.attributes]
    found += [(offset, None) for offset in event.blocks if offset not in inside]
    yield BeginAttributes()
    for offset, attribute in sorted(found, key=lambda one: one[0]):
        if attribute is None:
            mark = linked.mark(offset)
            yield mark
        elif attribute.name in READ_ATTRIBUTES:
            if between(event.blocks, attribute.value_start, attribute.value_end):
                yield BeginCapture()
                yield from _value_steps(linked, attribute, event)
                yield CapturedAttribute(attribute.name, None)
            else:
                yield CapturedAttribute(attribute.name, tuple(_value_parts(linked, attribute, event)))
    yield OpenCaptured(event.tag.name, event.void, style)


def _value_parts(linked: LinkedSource, attribute: Attribute, event: Opened) -> Iterator[str | ShowValue]:
    """Yields the value of an attribute that has no blocks in it."""
    for step in _value_steps(linked, attribute, event):
        assert not isinstance(step, Marker)
        yield step


def _value_steps(linked: LinkedSource, attribute: Attribute, event: Opened) -> Iterator[Marker | str | ShowValue]:
    for part in value_parts(linked, attribute):
        if isinstance(part, str):
            yield part
        elif (mark := linked.mark(part)).role != SHOW or mark.value is None:
            yield mark
        elif (escaper := event.marks[part].escaper) != "picture":
            yield ShowValue(mark.value, Context(escaper))


class EventEmitter:
    """Writes straight runs: constant events are added together, values one by one."""

    result = "out"

    def __init__(self) -> None:
        self._in_value = False

    @property
    def prologue(self) -> str:
        """What the function begins with."""
        return "into = out = []"

    def shown(self, step: ShowValue, expressions: ExpressionCompiler, before: list[ast.stmt]) -> ast.expr:
        """Returns the text of a value; `before` gets the statements that have to go before it."""
        return expressions.shown(step.value, step.context)

    def emit(self, run: Sequence[EventStep], expressions: ExpressionCompiler) -> list[ast.stmt]:
        statements: list[ast.stmt] = []
        constant: list[TextEvent | Filled] = []

        def flush() -> None:
            if constant:
                added = counted_output(expressions.constant(tuple(constant)))
                statements.append(ast.AugAssign(ast.Name("into", ast.Store()), ast.Add(), added))
                constant.clear()

        for step in run:
            if isinstance(step, FillPattern) and not step.texts:
                constant.append((step.pattern, ()))
                continue
            if isinstance(step, str | Open | Close) and not self._in_value:
                constant.append(step)
                continue
            flush()
            statements += self._statements(step, expressions)
        flush()
        return statements

    def _statements(self, step: EventStep, expressions: ExpressionCompiler) -> list[ast.stmt]:
        match step:
            case OpenWithValues(name=name, attributes=attributes, void=void, style=style):
                keys: list[ast.expr | None] = [ast.Constant(name) for name, _ in attributes]
                values = ast.Dict(keys, [_attribute_value(parts, expressions) for _, parts in attributes])
                return [appended(_opened(name, values, void, style, expressions), "into")]
            case BeginPart(number=number):
                return parsed(f"into = part_{number} = []").body
            case EndPart(outer=outer, number=number, cells=cells):
                columns = f"; part_{number} = in_columns(part_{number}, {cells})" if cells else ""
                return parsed(f"into = {'out' if outer is None else f'part_{outer}'}{columns}").body
            case TakeRows(number=number, run=run, cells=cells):
                return parsed(f"part_{number} = shared_columns(runs, {run}, {cells!r})").body
            case FillPattern(pattern=pattern, texts=texts):
                # Not counted: the HTML of the same values has been, and is longer.
                before, filling = self._filling(texts, expressions)
                filled = ast.Tuple([expressions.constant(pattern), filling], ast.Load())
                return [*before, appended(filled, "into")]
            case FillRow(texts=texts):
                before, filling = self._filling(texts, expressions)
                return [*before, ast.AugAssign(ast.Name("into", ast.Store()), ast.Add(), filling)]
            case ShowValue() if not self._in_value:
                first: list[ast.stmt] = []
                text = self.shown(step, expressions, first)
                return [*first, appended(counted_output(text), "into")]
            case BeginAttributes():
                return [ast.Assign([ast.Name("attributes", ast.Store())], ast.Dict([], []))]
            case BeginCapture():
                self._in_value = True
                return holding()
            case CapturedAttribute(name=name, parts=parts):
                self._in_value = False
                value = _attribute_value(parts, expressions) if parts is not None else _joined_held()
                setdefault = ast.Attribute(ast.Name("attributes", ast.Load()), "setdefault", ast.Load())
                return [ast.Expr(ast.Call(setdefault, [ast.Constant(name), value], []))]
            case OpenCaptured(name=name, void=void, style=style):
                made = ast.Name("attributes", ast.Load())
                return [appended(_opened(name, made, void, style, expressions), "into")]
            case str() | ShowValue():  # within a value
                text = ast.Constant(step) if isinstance(step, str) else expressions.shown(step.value, step.context)
                return [appended(counted_output(formatted([text])), "held")]
            case Open() | Close():
                raise AssertionError("a tag is a constant event, and stands in no value")

    def _filling(
        self, texts: Iterable[TextParts | int], expressions: ExpressionCompiler
    ) -> tuple[list[ast.stmt], ast.expr]:
        """Returns what is put into slots, and before it the statements that have to go before."""
        before: list[ast.stmt] = []
        pieces = [
            ast.Name(f"part_{text}", ast.Load()) if isinstance(text, int) else self._text(text, expressions, before)
            for text in texts
        ]
        return before, ast.Tuple(pieces, ast.Load())

    def _text(self, text: TextParts, expressions: ExpressionCompiler, before: list[ast.stmt]) -> ast.expr:
        """Returns a text for a slot, or for a function that makes something of one; `before` gets what has to go before
        it."""
        only = text.parts[0] if text.parts else ""
        if text.maybe and isinstance(only, ShowValue):
            return unless_nothing(only, ast.Constant(None), lambda shown: shown, expressions)
        made: list[ast.expr] = []
        for part in text.parts:
            match part:
                case str():
                    made.append(ast.Constant(part))
                case ShowValue():
                    made.append(self.shown(part, expressions, before))
                case TextCall(function=function, arguments=arguments):
                    given = [
                        ast.Constant(one) if isinstance(one, str) else self._text(one, expressions, before)
                        for one in arguments
                    ]
                    made.append(ast.Call(ast.Name(function, ast.Load()), given, []))
        return formatted(made) if made else ast.Constant("")


def _joined_held() -> ast.expr:
    return ast.Call(ast.Attribute(ast.Constant(""), "join", ast.Load()), [ast.Name("held", ast.Load())], [])


def _opened(name: str, attributes: ast.expr, void: bool, style: Style, expressions: ExpressionCompiler) -> ast.expr:
    return ast.Call(
        ast.Name("Open", ast.Load()),
        [ast.Constant(name), attributes, ast.Constant(void), expressions.constant(style)],
        [],
    )


def _attribute_value(parts: tuple[str | ShowValue, ...], expressions: ExpressionCompiler) -> ast.expr:
    if len(parts) == 1 and isinstance(parts[0], ShowValue):
        return unless_nothing(parts[0], ast.Constant(None), counted_output, expressions)
    texts: list[ast.expr] = [
        ast.Constant(part) if isinstance(part, str) else expressions.shown(part.value, part.context) for part in parts
    ]
    return counted_output(formatted(texts)) if texts else ast.Constant("")
