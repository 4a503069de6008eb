"""What programs are made of: steps, between literal texts, for what depends on the data."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence

from pribble.edits import Edit, spliced
from pribble.errors import Place
from pribble.language.expressions import Binding, Expression
from pribble.language.linked_source import BRANCH, CLOSE, LITERAL, OPEN, SET, SHOW, LinkedSource, Marker
from pribble.markup.contexts import MARK, Context
from pribble.markup.references import decode_references
from pribble.markup.scanner import Attribute
from pribble.passes.picture_sizes import PictureSize
from pribble.passes.pieces import Boundary, FragmentSlice, PreheaderPlace, slice_after
from pribble.passes.traces import TRACE_END, Origin, TraceBegin, TraceMark
from pribble.pictures.picture_slots import Embed, PictureSlot
from pribble.records import record

LINE, PLAIN, EVENT, MARKUP = Context("line"), Context("plain"), Context("event"), Context("markup")


@record(frozen=True, slots=True)
class ShowValue:
    """A value, shown as its context asks."""

    value: Expression
    context: Context


@record(frozen=True, slots=True)
class OptionalAttribute:
    """An attribute or declaration that is left out where its whole value is nothing."""

    before: str
    shown: ShowValue
    after: str


@record(frozen=True, slots=True)
class StaticPicture:
    """A picture known when the template is compiled."""

    slot: PictureSlot


@record(frozen=True, slots=True)
class DynamicPicture:
    """A picture that is a value, or, with `value` None, that what is held names; how large it is shown, and how it
    travels."""

    value: Expression | None
    place: Place
    within: tuple[str, ...]
    size: PictureSize | None = None
    travels: Embed | None = None


@record(frozen=True, slots=True)
class DynamicPictureSize:
    """The dimensions of the picture chosen last that are missing, of its `size`."""

    place: Place
    size: PictureSize


@record(frozen=True, slots=True)
class EmbedVariants:
    """What is written where pictures travel by Content-ID, and otherwise: texts and pictures."""

    by_cid: tuple[str | StaticPicture, ...]
    otherwise: tuple[str | StaticPicture, ...]


@record(frozen=True, slots=True)
class CapturedValue:
    """A value, held as it is."""

    value: Expression


@record(frozen=True, slots=True)
class BeginCapture:
    """From here on what is written is held back."""


@record(frozen=True, slots=True)
class EndCapture:
    """What is held is written, unless it is empty, between `before` and `after`."""

    before: str
    after: str


# What is a text, and joined with the texts beside it; and what is a piece by itself, or says where pieces go.
TextStep = str | ShowValue | OptionalAttribute | DynamicPictureSize
PieceStep = (
    StaticPicture
    | DynamicPicture
    | EmbedVariants
    | CapturedValue
    | BeginCapture
    | EndCapture
    | Boundary
    | FragmentSlice
    | PreheaderPlace
    | TraceMark
)
# What a straight run of a page's program is made of.
RunStep = TextStep | PieceStep
# All that a pass over a page yields: marks open, branch and close blocks and set names.
Step = Marker | RunStep


def edited_steps(
    linked: LinkedSource,
    contexts: dict[int, Context],
    edits: Iterable[Edit[Step]],
    start: int,
    end: int,
    *,
    traced: bool = False,
) -> Iterator[Step]:
    """Yields the steps of a stretch of the linked source, with edits; `traced` says of each text where it was
    written."""
    for part in spliced(edits, start, end):
        if isinstance(part, Edit):
            yield from part.pieces
        else:
            yield from _span_steps(linked, *part, contexts, traced)


def _literal_steps(linked: LinkedSource, start: int, end: int, traced: bool) -> Iterator[Step]:
    if start < end and traced:
        yield from (TraceBegin(Origin(start, end)), linked.text[start:end], TRACE_END)
    elif start < end:
        yield linked.text[start:end]


def _span_steps(
    linked: LinkedSource, start: int, end: int, contexts: dict[int, Context], traced: bool
) -> Iterator[Step]:
    position = start
    for found in MARK.finditer(linked.text, start, end):
        yield from _literal_steps(linked, position, found.start(), traced)
        position = found.end()
        mark = linked.mark(found.start())
        if mark.role == SHOW and mark.value is not None:
            context = contexts[found.start()]
            if context.escaper == "picture":
                yield DynamicPicture(mark.value, linked.place(found.start(), found.end()), context.wrappers)
            else:
                yield ShowValue(mark.value, context)
        elif mark.role == LITERAL:
            yield mark.literal
        elif mark.role in (OPEN, BRANCH, CLOSE, SET):
            yield mark
    yield from _literal_steps(linked, position, end, traced)


def join_literals(steps: Iterable[Step]) -> Iterator[Step]:
    """Yields `steps`, neighbouring literals as one."""
    literal: list[str] = []
    for step in steps:
        if isinstance(step, str):
            literal.append(step)
            continue
        if literal:
            yield "".join(literal)
            literal = []
        yield step
    if literal:
        yield "".join(literal)


def merge_slices(steps: Sequence[Step]) -> Iterator[Step]:
    """Yields `steps`, each text that stands alone between two boundaries of a fragment as one slice: pieces cost
    time."""
    index = 0
    while index < len(steps):
        made = slice_after(*steps[index : index + 3]) if index + 2 < len(steps) else None
        yield steps[index] if made is None else made
        index += 1 if made is None else 3


# The steps of a text that is no markup.
BlockStep = Marker | str | ShowValue


def block_steps(mark: Marker, context: Context, used: Collection[Binding] | None = None) -> list[BlockStep]:
    """Returns the steps of a mark in a text that is no markup; with `used`, only those bindings are set."""
    if mark.role == SHOW and mark.value is not None:
        return [ShowValue(mark.value, context)]
    if mark.role == LITERAL:
        return [mark.literal]
    if mark.role == SET and used is not None and mark.binding not in used:
        return []
    return [mark] if mark.role in (OPEN, BRANCH, CLOSE, SET) else []


def value_parts(linked: LinkedSource, attribute: Attribute) -> Iterator[str | int]:
    """Yields the value of an attribute: texts, their references read, and the offsets of its marks."""
    position = attribute.value_start
    for found in MARK.finditer(linked.text, attribute.value_start, attribute.value_end):
        if position < found.start():
            yield decode_references(linked.text[position : found.start()], attribute=True)
        mark = linked.mark(found.start())
        yield mark.literal if mark.role == LITERAL else found.start()
        position = found.end()
    if position < attribute.value_end:
        yield decode_references(linked.text[position : attribute.value_end], attribute=True)
