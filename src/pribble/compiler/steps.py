"""What programs are made of: steps, between literal texts, for what depends on the data."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from pribble.errors import Place
from pribble.language.expressions import Binding, Expression
from pribble.language.linked_source import BRANCH, CLOSE, LITERAL, OPEN, SET, SHOW, Tape, TapeMark
from pribble.markup.contexts import MARK, Context
from pribble.markup.references import decoded
from pribble.markup.scanner import Attribute
from pribble.passes.picture_sizes import Size
from pribble.pictures.picture_slots import Embed, Source

LINE, PLAIN, EVENT, MARKUP = Context("line"), Context("plain"), Context("event"), Context("markup")


@dataclass(frozen=True, slots=True)
class Shown:
    """A value, shown as its context asks."""

    value: Expression
    context: Context


@dataclass(frozen=True, slots=True)
class LeftOut:
    """An attribute or declaration that is left out where its whole value comes to nothing."""

    before: str
    shown: Shown
    after: str


@dataclass(frozen=True, slots=True)
class Embedded:
    """The source of a picture known when the template is compiled."""

    source: Source


@dataclass(frozen=True, slots=True)
class Chosen:
    """A picture that is a value, or, with `value` None, that what is held names; how large it is shown, and how it
    travels."""

    value: Expression | None
    place: Place
    within: tuple[str, ...]
    size: Size | None = None
    travels: Embed | None = None


@dataclass(frozen=True, slots=True)
class ChosenSize:
    """The dimensions of the picture chosen last that are missing, of its `size`."""

    place: Place
    size: Size


@dataclass(frozen=True, slots=True)
class Forked:
    """What is written where pictures travel by Content-ID, and otherwise: texts and `Embedded`."""

    by_cid: tuple[Any, ...]
    otherwise: tuple[Any, ...]


@dataclass(frozen=True, slots=True)
class Raw:
    """A value, held as it is."""

    value: Expression


@dataclass(frozen=True, slots=True)
class Hold:
    """From here on what is written is held back."""


@dataclass(frozen=True, slots=True)
class Release:
    """What is held is written, unless it is empty, between `before` and `after`."""

    before: str
    after: str


class _PreheaderSlot(str):
    """Where the preheader goes: an empty text that is told from all others, wherever a page is copied to."""

    __slots__ = ()

    def __reduce__(self) -> str:
        return "PREHEADER"


PREHEADER = _PreheaderSlot()


@dataclass(frozen=True, slots=True)
class Edit:
    """Steps that take the place of the tape from `start` to `end`."""

    start: int
    end: int
    steps: tuple[Any, ...]


def edited(tape: Tape, contexts: dict[int, Context], edits: Iterable[Edit], start: int, end: int) -> Iterator[Any]:
    """The steps of a stretch of the tape, with edits; one that begins within another gives way to it."""
    position = start
    for edit in sorted(edits, key=lambda e: (e.start, e.end)):
        if edit.start < position:
            continue
        yield from _stretch(tape, position, edit.start, contexts)
        yield from edit.steps
        position = edit.end
    yield from _stretch(tape, position, end, contexts)


def _stretch(tape: Tape, start: int, end: int, contexts: dict[int, Context]) -> Iterator[Any]:
    position = start
    for found in MARK.finditer(tape.text, start, end):
        if position < found.start():
            yield tape.text[position : found.start()]
        position = found.end()
        mark = tape.mark(found.start())
        if mark.role == SHOW and mark.value is not None:
            context = contexts[found.start()]
            if context.way == "picture":
                yield Chosen(mark.value, tape.place(found.start(), found.end()), context.within)
            else:
                yield Shown(mark.value, context)
        elif mark.role == LITERAL:
            yield mark.literal
        elif mark.role in (OPEN, BRANCH, CLOSE, SET):
            yield mark
    if position < end:
        yield tape.text[position:end]


def joined(steps: Iterable[Any]) -> Iterator[Any]:
    """Neighbouring literals as one."""
    literal: list[str] = []
    for step in steps:
        if step.__class__ is str:
            literal.append(step)
            continue
        if literal:
            yield "".join(literal)
            literal = []
        yield step
    if literal:
        yield "".join(literal)


def block_steps(mark: TapeMark, context: Context, used: Collection[Binding] | None = None) -> list[Any]:
    """The steps of a mark in a text that is no markup; with `used`, only those bindings are set."""
    if mark.role == SHOW and mark.value is not None:
        return [Shown(mark.value, context)]
    if mark.role == LITERAL:
        return [mark.literal]
    if mark.role == SET and used is not None and mark.binding not in used:
        return []
    return [mark] if mark.role in (OPEN, BRANCH, CLOSE, SET) else []


def value_parts(tape: Tape, attribute: Attribute) -> Iterator[str | int]:
    """The value of an attribute: texts, their references read, and the offsets of its marks."""
    position = attribute.value_start
    for found in MARK.finditer(tape.text, attribute.value_start, attribute.value_end):
        if position < found.start():
            yield decoded(tape.text[position : found.start()], attribute=True)
        mark = tape.mark(found.start())
        yield mark.literal if mark.role == LITERAL else found.start()
        position = found.end()
    if position < attribute.value_end:
        yield decoded(tape.text[position : attribute.value_end], attribute=True)
