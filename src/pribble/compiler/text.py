"""The text program: the same tape and page as steps that yield events for `plaintext/`.

Values flow in as plain text; what surrounds them is constant.  Laying the events out is left for when the
text is asked for.
"""

from __future__ import annotations

import ast
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from pribble.compiler.html import Shown, appended, attribute_parts, counted, joined, text_block_steps, unless_nothing
from pribble.compiler.lowering import Lowering
from pribble.language.tape import BRANCH, CLOSE, LITERAL, OPEN, SET, SHOW, Tape, TapeMark
from pribble.markup.contexts import Characters, Closed, Marked, Opened, Page, read
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
    """The steps of the text program: texts and events as they are, values, and the marks of blocks.

    Stretches that only the HTML has are left out, those that only the text has put in.
    """
    steps: list[Any] = []
    blocks: list[bool] = []  # of each open block, whether it is one that only the HTML has
    for event in page.events:
        if isinstance(event, Marked):
            mark = tape.mark(event.offset)
            if mark.role == OPEN:
                blocks.append(mark.loop is None and mark.value is None)
                if blocks[-1]:
                    continue
            elif mark.role == CLOSE and blocks.pop():
                continue
            if not any(blocks):
                steps += _mark_steps(mark)
        elif any(blocks):
            continue
        elif isinstance(event, Opened):
            steps.append(_open(tape, event))
        elif isinstance(event, Closed):
            steps.append(Close(event.name))
        else:
            steps.append(_said(tape.text[event.start:event.end], event.raw))
    return steps


def _said(written: str, raw: str) -> str:
    return written if raw in ("style", "script") else decoded(written)


def _mark_steps(mark: TapeMark) -> list[Any]:
    if mark.role == SHOW and mark.value is not None:
        return [Shown(mark.value, "event")]
    if mark.role == LITERAL:
        return [mark.literal]
    if mark.lifted is not None and mark.lifted.kind == "only":
        steps = text_block_steps(dedented(mark.lifted.tape), "plain", references=True)
        return [Open("pre", {}), *steps, Close("pre")] if mark.lifted.alone else steps
    return [mark] if mark.role in (OPEN, BRANCH, CLOSE, SET) else []


def dedented(tape: Tape) -> Tape:
    """A tape of plain text without the indentation that all its lines share, and without empty lines at its ends."""
    lines = tape.text.split("\n")
    filled = [line for line in lines if line.strip()]
    common = min((len(line) - len(line.lstrip(" \t")) for line in filled), default=0)
    text = "\n".join(line[common:] if line.strip() else "" for line in lines)
    return replace(tape, text=text.strip("\n"))


def events_of(html: str) -> tuple[Event, ...]:
    """The events of a page or fragment that holds no marks.  Raises `MarkupError` for a tag that is cut off."""
    events: list[Event] = []
    for event in read(html, lambda offset: "literal").events:
        match event:
            case Opened(tag=tag, void=void):
                events.append(Open(tag.name, {a.name: decoded(html[a.value_start:a.value_end], attribute=True)
                                              for a in reversed(tag.attributes) if a.name in READ_ATTRIBUTES}, void))
            case Closed(name=name):
                events.append(Close(name))
            case Characters(start=start, end=end, raw=raw):
                events.append(_said(html[start:end], raw))
            case Marked(offset=offset):
                events.append(html[offset])
    return tuple(events)


def _open(tape: Tape, event: Opened) -> Open | OpenWith:
    tag = event.tag
    read = {a.name: _parts(tape, a, event) for a in reversed(tag.attributes) if a.name in READ_ATTRIBUTES}
    if any(isinstance(part, Shown) for parts in read.values() for part in parts):
        return OpenWith(tag.name, event.void, tuple(read.items()))
    return Open(tag.name, {name: "".join(map(str, parts)) for name, parts in read.items()}, event.void)


def _parts(tape: Tape, attribute: Attribute, event: Opened) -> tuple[str | Shown, ...]:
    return tuple(part if isinstance(part, str) else Shown(part[1], _HOW[event.marks[part[0]]])
                 for part in attribute_parts(tape, attribute))


class EventSink:
    """Writes straight runs: constant events are added together, values one by one."""

    prologue = "out = []; append = out.append; extend = out.extend"
    result = "out"

    def written(self, run: Sequence[Any], lowering: Lowering) -> list[ast.stmt]:
        statements: list[ast.stmt] = []
        constant: list[Event] = []

        def flush() -> None:
            if constant:
                added = ast.Call(ast.Name("extend", ast.Load()), [counted(lowering.constant(tuple(constant)))], [])
                statements.append(ast.Expr(added))
                constant.clear()

        for step in run:
            if isinstance(step, str | Open | Close):
                constant.append(step)
                continue
            flush()
            statements.append(appended(_opened(step, lowering) if isinstance(step, OpenWith)
                                       else counted(lowering.shown(step.value, step.how))))
        flush()
        return statements


def _opened(step: OpenWith, lowering: Lowering) -> ast.expr:
    keys: list[ast.expr | None] = [ast.Constant(name) for name, _ in step.attributes]
    values = [_attribute(parts, lowering) for _, parts in step.attributes]
    arguments = [ast.Constant(step.name), ast.Dict(keys, values), ast.Constant(step.void)]
    return ast.Call(ast.Name("Open", ast.Load()), arguments, [])


def _attribute(parts: tuple[str | Shown, ...], lowering: Lowering) -> ast.expr:
    if len(parts) == 1 and isinstance(parts[0], Shown):
        return unless_nothing(parts[0], ast.Constant(None), counted, lowering)
    texts: list[ast.expr] = [ast.Constant(part) if isinstance(part, str) else lowering.shown(part.value, part.how)
                             for part in parts]
    return counted(joined(texts)) if texts else ast.Constant("")
