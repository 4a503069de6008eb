"""What makes a message cheaper, beside the plain path; the compiler calls it last.

Each of these can be switched off, and then the pages, texts and errors are the same (tests/compiler holds that).
What each brings stands in docs/house.md.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator, Sequence
from itertools import groupby

from pribble.compiler.emitters import PageEmitter, PieceEmitter
from pribble.compiler.expression_compiler import ExpressionCompiler
from pribble.compiler.program import Program, ProgramBuilder, ProgramWorld
from pribble.compiler.steps import (
    BeginCapture,
    CapturedValue,
    DynamicPicture,
    EmbedVariants,
    EndCapture,
    PieceStep,
    RunStep,
    ShowValue,
    StaticPicture,
    Step,
    TextStep,
)
from pribble.compiler.text_patterns import find_patterns
from pribble.compiler.text_program import EventEmitter
from pribble.compiler.text_steps import TextFormStep
from pribble.compiler.value_reuse import ReusedValues
from pribble.compiler.wire_form import Ordered, WireTemplate
from pribble.language.expressions import Binding
from pribble.language.linked_source import CLOSE, OPEN, SET, Marker
from pribble.passes.pieces import AFTER_PREHEADER, BEFORE_PREHEADER, Boundary, FragmentSlice, PreheaderPlace
from pribble.passes.traces import TraceBegin, TraceEnd
from pribble.records import record


@record(frozen=True, slots=True)
class PagePrograms:
    """The programs of a page and its derived text.  The `lets` are those whose values the page's program gives, with
    what it kept, to the others; None where it gives nothing.  The `wire_template` writes pages for the wire."""

    html: Program
    text: Program | None
    lets: tuple[Binding, ...] | None
    wire_template: WireTemplate | None


def page_programs(
    steps: Sequence[Step], text_steps: Sequence[TextFormStep] | None, world: ProgramWorld, *, is_final: bool
) -> PagePrograms:
    """Returns the programs of a page, and of the text that is derived from it, if one is.

    `is_final` says that the program gives the page as it travels; where it is styled late, nothing that was made when
    the template was compiled writes it for the wire.
    """
    wanted = world.optimisations
    wire = WireTemplate() if wanted.wire_form and is_final else None
    if text_steps is not None and wanted.text_patterns:
        text_steps = find_patterns(text_steps)
    reuse = ReusedValues(steps, text_steps or ()) if wanted.value_reuse else None
    lets = tuple(_lets_of_page(steps)) if wanted.value_reuse else None
    if wire is None and reuse is None:
        html = ProgramBuilder(PageEmitter(), world).build(steps)
    else:
        expressions = ExpressionCompiler(world.formatters, frozenset(world.common))
        given = None if lets is None else [expressions.variable(binding) for binding in lets]
        loops = [*_loops_around(steps)]
        emitter = KeepingEmitter(reuse or ReusedValues((), ()), wire or WireTemplate(), given, loops)
        html = ProgramBuilder(emitter, world, expressions).build(steps)
        emitter.wire.order = emitter.order
    if text_steps is None:
        text = None
    elif reuse is None:
        text = ProgramBuilder(EventEmitter(), world).build(text_steps)
    else:
        text_steps = reuse.with_whole_runs(text_steps)
        # A ``let`` of the page is checked by the page's program; one that only the text has is the text's.
        of_page = [step.binding for step in steps if isinstance(step, Marker) and step.binding is not None]
        text = ProgramBuilder(ReusingEmitter(reuse), world).build(text_steps, lets=lets, computed_elsewhere=of_page)
    return PagePrograms(html, text, lets, wire)


def _lets_of_page(steps: Sequence[Step]) -> Iterator[Binding]:
    """Yields what a page sets in no block: it has a value in every message."""
    depth = 0
    for step in steps:
        if isinstance(step, Marker):
            depth += (step.role == OPEN) - (step.role == CLOSE)
            if step.role == SET and not depth and step.binding is not None:
                yield step.binding


def _loops_around(steps: Sequence[Step]) -> Iterator[int | None]:
    """Yields for each straight run of steps, which is what stands between markers, the number of the outermost loop
    around it; 0 where there is none, but a choice; None where it is in no block at all."""
    opened: list[bool] = []  # of the blocks that are open, whether they are loops
    loops = 0
    for is_marker, several in groupby(steps, lambda step: isinstance(step, Marker)):
        if not is_marker:
            yield (loops if any(opened) else 0) if opened else None
            continue
        for marker in several:
            assert isinstance(marker, Marker)
            if marker.role == OPEN:
                loops += marker.loop is not None and not any(opened)
                opened.append(marker.loop is not None)
            elif marker.role == CLOSE:
                opened.pop()


class KeepingEmitter(PieceEmitter):
    """Writes a page's program that keeps its values, and gives them beside its pieces; `loops` are those around each
    straight run of its steps."""

    def __init__(
        self, reuse: ReusedValues, wire: WireTemplate, lets: Sequence[str] | None, loops: Sequence[int | None]
    ) -> None:
        super().__init__()
        self.reuse, self.wire, self.lets, self.loops = reuse, wire, lets, loops
        self.stretches: list[list[Ordered]] = []  # the pieces that each straight run makes
        self.is_ordered = True  # whether none of them is held back first, or has two forms
        self._texts: list[ShowValue | None] = []  # of the run that is being written, its values that the text shows too

    @property
    def prologue(self) -> str:
        return super().prologue + self.reuse.beginning

    @property
    def result(self) -> str:  # type: ignore[override]
        lets = None if self.lets is None else f"({''.join([f'{name}, ' for name in self.lets])})"
        return f"(out, {self.reuse.result}, {lets})"

    @property
    def order(self) -> list[Ordered] | None:
        """The pieces of the page in their order, where that is the same in all messages.

        What is in a block may be left out, or come again: there it is one piece that the program keeps each time, and
        in a loop the only one.
        """
        in_loops = [loop for loop in self.loops if loop]
        if not self.is_ordered or len({*in_loops}) < len(in_loops):
            return None
        for stretch, loop in zip(self.stretches, self.loops, strict=True):
            if loop is not None and not (len(stretch) == 1 and isinstance(stretch[0], int)):
                return None
        return [piece for stretch in self.stretches for piece in stretch]

    def emit(self, run: Sequence[RunStep], expressions: ExpressionCompiler) -> list[ast.stmt]:
        self.stretches.append([])
        return super().emit(run, expressions)

    def _made(self, texts: Sequence[ast.expr]) -> list[ast.stmt]:
        shown, self._texts = self._texts, []
        if self._into != "out":
            return super()._made(texts)
        # A text in a block is kept like a value: that tells whether the block was gone through.
        if all(isinstance(text, ast.Constant) for text in texts) and self.loops[len(self.stretches) - 1] is None:
            self._same("".join([str(text.value) for text in texts if isinstance(text, ast.Constant)]))
            return super()._made(texts)
        self.stretches[-1].append(len(self.wire.runs))
        self.wire.runs.append([str(t.value) if isinstance(t, ast.Constant) else None for t in texts])
        values = [text for text in texts if not isinstance(text, ast.Constant)]
        names = iter([self.reuse.named(place, text) for place, text in enumerate(values)])
        named = [text if isinstance(text, ast.Constant) else next(names) for text in texts]
        return [*super()._made(named), *self.reuse.keep(shown)]

    def _text(self, step: TextStep, expressions: ExpressionCompiler) -> ast.expr:
        text = super()._text(step, expressions)
        if not isinstance(text, ast.Constant):
            self._texts.append(step if isinstance(step, ShowValue) and self.reuse.is_kept(step) else None)
        return text

    def _statements(self, step: PieceStep, expressions: ExpressionCompiler) -> list[ast.stmt]:
        match step:
            case StaticPicture(slot=slot):
                self._same(slot.address)
            case FragmentSlice(text=text):
                self._same(text)
            case EmbedVariants(by_cid=by_cid, otherwise=otherwise):
                self.wire.texts |= {piece for piece in (*by_cid, *otherwise) if isinstance(piece, str)}
                self.is_ordered = False
            case CapturedValue() | BeginCapture() | EndCapture():
                self.is_ordered = False
            case DynamicPicture():
                self.stretches[-1].append(None)
            case PreheaderPlace():
                self.stretches[-1] += (BEFORE_PREHEADER, None, AFTER_PREHEADER)
            case Boundary():
                self.stretches[-1].append("")
            case TraceBegin() | TraceEnd():
                raise AssertionError("programs that trace keep no values")
        return super()._statements(step, expressions)

    def _same(self, text: str) -> None:
        """A piece that is this text in all messages."""
        self.wire.texts.add(text)
        self.stretches[-1].append(text)


class ReusingEmitter(EventEmitter):
    """Writes a text's program that takes over what the page's program kept."""

    def __init__(self, reuse: ReusedValues) -> None:
        super().__init__()
        self.reuse = reuse

    @property
    def prologue(self) -> str:
        return self.reuse.unpacked + super().prologue

    def shown(self, step: ShowValue, expressions: ExpressionCompiler, before: list[ast.stmt]) -> ast.expr:
        return self.reuse.taken(step, before) or super().shown(step, expressions, before)
