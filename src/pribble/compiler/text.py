"""The text program: the same tape and page as steps that yield events for `plaintext/`.

Values flow in as plain text; what surrounds them is constant.  Laying the events out is left for when the
text is asked for.
"""

from __future__ import annotations

import ast
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from pribble.compiler.html import Shown, appended, joined, or_if_nothing
from pribble.compiler.lowering import Lowering
from pribble.language.expressions import Expression
from pribble.language.tape import BRANCH, CLOSE, LITERAL, OPEN, SET, SHOW, Tape
from pribble.markup.contexts import Characters, Closed, Marked, Opened, Page
from pribble.markup.references import decoded
from pribble.markup.scanner import Attribute
from pribble.plaintext.flow import READ_ATTRIBUTES, Close, Event, Open

# How a value in an attribute is written where no markup has to be minded.
_HOW = {"attribute": "plain", "url": "address", "url-base": "address_base", "url-path": "segment",
        "url-query": "query"}


@dataclass(frozen=True, slots=True)
class OpenWith:
    """A start tag of which some attributes depend on the data."""

    name: str
    void: bool
    attributes: tuple[tuple[str, tuple[str | Shown, ...]], ...]


def text_steps(tape: Tape, page: Page) -> list[Any]:
    """The steps of the text program: texts and events as they are, values, and the marks of blocks."""
    steps: list[Any] = []
    for event in page.events:
        match event:
            case Opened():
                steps.append(_open(tape, event))
            case Closed(name=name):
                steps.append(Close(name))
            case Characters(start=start, end=end, raw=raw):
                written = tape.text[start:end]
                steps.append(written if raw in ("style", "script") else decoded(written))
            case Marked(offset=offset):
                mark = tape.mark(offset)
                if mark.role == SHOW and mark.value is not None:
                    steps.append(Shown(mark.value, "plain"))
                elif mark.role == LITERAL:
                    steps.append(mark.literal)
                elif mark.role in (OPEN, BRANCH, CLOSE, SET):
                    steps.append(mark)
    return steps


def _open(tape: Tape, event: Opened) -> Open | OpenWith:
    tag, marks = event.tag, event.marks
    read = {a.name: a for a in reversed(tag.attributes) if a.name in READ_ATTRIBUTES}
    if not any(a.value_start <= offset < a.value_end for offset in marks for a in read.values()):
        written = {name: decoded(tape.text[a.value_start:a.value_end], attribute=True) for name, a in read.items()}
        return Open(tag.name, written, event.void)
    return OpenWith(tag.name, event.void, tuple((name, _parts(tape, a, event)) for name, a in read.items()))


def _parts(tape: Tape, attribute: Attribute, event: Opened) -> tuple[str | Shown, ...]:
    parts: list[str | Shown] = []
    position = attribute.value_start
    for offset in sorted(event.marks):
        if attribute.value_start <= offset < attribute.value_end:
            value = tape.mark(offset).value
            assert value is not None
            parts += [decoded(tape.text[position:offset], attribute=True), Shown(value, _HOW[event.marks[offset]])]
            position = offset + 1
    parts.append(decoded(tape.text[position:attribute.value_end], attribute=True))
    return tuple(part for part in parts if part != "")


class EventSink:
    """Writes straight runs: constant events are added together, values one by one."""

    prologue = "out = []; append = out.append; extend = out.extend"
    result = "out"

    def written(self, run: Sequence[Any], lowering: Lowering) -> list[ast.stmt]:
        statements: list[ast.stmt] = []
        constant: list[Event] = []

        def flush() -> None:
            if constant:
                added = ast.Call(ast.Name("extend", ast.Load()), [lowering.constant(tuple(constant))], [])
                statements.append(ast.Expr(added))
                constant.clear()

        for step in run:
            if isinstance(step, str | Open | Close):
                constant.append(step)
                continue
            flush()
            statements.append(appended(_opened(step, lowering) if isinstance(step, OpenWith)
                                       else lowering.shown(step.value, step.how)))
        flush()
        return statements


def _opened(step: OpenWith, lowering: Lowering) -> ast.expr:
    keys: list[ast.expr | None] = [ast.Constant(name) for name, _ in step.attributes]
    values = [_attribute(parts, lowering) for _, parts in step.attributes]
    arguments = [ast.Constant(step.name), ast.Dict(keys, values), ast.Constant(step.void)]
    return ast.Call(ast.Name("Open", ast.Load()), arguments, [])


def _attribute(parts: tuple[str | Shown, ...], lowering: Lowering) -> ast.expr:
    if len(parts) == 1 and isinstance(parts[0], Shown):
        value: Expression = parts[0].value
        shown = lowering.call(f"show_{parts[0].how}", ast.Name("whole", ast.Load()), place=value.place)
        return or_if_nothing(lowering.value(value), ast.Constant(None), shown)
    texts: list[ast.expr] = [ast.Constant(part) if isinstance(part, str) else lowering.shown(part.value, part.how)
                             for part in parts]
    return joined(texts) if texts else ast.Constant("")
