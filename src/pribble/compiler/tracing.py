"""Traced programs: one more kind of program from the same steps, which says where its output comes from.

Beside its pieces it gives which mark shows each value, in which turn of which loop, and which ways were taken:
branches, turns, choices, optional fields.  The usual programs hold nothing of it, and pay nothing for it.
"""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal

from pribble.compiler.emitters import PieceEmitter, appended, counted_output, unless_nothing
from pribble.compiler.expression_compiler import ExpressionCompiler
from pribble.compiler.program import Program, ProgramBuilder, ProgramWorld, Run
from pribble.compiler.runtime import BLANK_STYLE
from pribble.compiler.steps import (
    BeginCapture,
    CapturedValue,
    DynamicPicture,
    EndCapture,
    OptionalAttribute,
    RunStep,
    ShowValue,
    Step,
)
from pribble.errors import Place
from pribble.language.expressions import Choice, Constant, Expression, Local, Maybe
from pribble.language.linked_source import BRANCH, CLOSE, OPEN, LinkedSource, Marker
from pribble.passes.traces import TRACE_END, ShownValue, TraceBegin, TraceEnd
from pribble.records import field, record, replace
from pribble.values.settings import Settings

WayKind = Literal["branch", "loop", "choice", "optional"]
# The ways of a loop, of a choice, and of an optional field, in the order in which they are counted.
_LOOP_WAYS = ("empty", "once", "more than once")
_CHOICE_WAYS = ("where it holds", "where it does not")
_OPTIONAL_WAYS = ("there", "left out")
# So many tests of one mark are kept, with the turns they were made in.
_MOST_TESTS = 1000


@record(frozen=True, slots=True)
class Fork:
    """A place of a template where the data decide: its `ways`, and where each is written."""

    kind: WayKind
    place: Place
    ways: tuple[str, ...]
    places: tuple[Place, ...]


@record(slots=True)
class TracedSites:
    """What the numbers in a trace mean: `values` are the expressions that are shown, and the places of their marks,
    `loops` the marks that open loops, `tests` those of branches and their places, `forks` the places where the data
    decide."""

    values: list[tuple[Expression, Place]] = field(default_factory=list)
    loops: list[Marker] = field(default_factory=list)
    tests: list[tuple[Expression, Place]] = field(default_factory=list)
    forks: list[Fork] = field(default_factory=list)


@record(slots=True)
class Trace:
    """What one run of a traced program did."""

    taken: Counter[tuple[int, int]] = field(default_factory=Counter)  # a fork's number and a way's
    reached: Counter[int] = field(default_factory=Counter)
    tested: list[ShownValue] = field(default_factory=list)
    _turns: list[list[int]] = field(default_factory=list)
    _held: Counter[int] = field(default_factory=Counter)

    # What programs call.

    def begin(self, number: int) -> TraceBegin:
        """Returns the beginning of a value that is shown."""
        return TraceBegin(ShownValue(number, self._where()))

    def _where(self) -> tuple[tuple[int, int], ...]:
        return tuple((loop, turn) for loop, turn in self._turns if turn >= 0)

    def optional(self, number: int, before: str, shown: str | None, after: str) -> list[object]:
        """Returns the pieces of an attribute that is left out where its value is nothing."""
        if shown is None:
            return [self.begin(number), TRACE_END]
        return [before, self.begin(number), shown, TRACE_END, after]

    def way(self, fork: int, way: int) -> None:
        """A way was taken."""
        self.taken[fork, way] += 1

    def reach(self, fork: int) -> None:
        """A block with branches begins."""
        self.reached[fork] += 1

    def test(self, number: int) -> None:
        """A test is made."""
        self._held[number] += 1
        if self._held[number] <= _MOST_TESTS:
            self.tested.append(ShownValue(number, self._where()))

    def enter(self, loop: int) -> None:
        """A loop begins."""
        self._turns.append([loop, -1])

    def turn(self) -> None:
        """A turn of the innermost loop begins."""
        self._turns[-1][1] += 1

    def leave(self, fork: int) -> None:
        """The innermost loop ends."""
        self.way(fork, min(self._turns.pop()[1] + 1, 2))

    def chosen(self, fork: int, holds: bool) -> bool:
        """Returns whether a choice's test holds."""
        self.way(fork, 0 if holds else 1)
        return holds

    def maybe(self, fork: int, value: object, nothing: object) -> object:
        """Returns the value of an optional field."""
        self.way(fork, 1 if value is nothing else 0)
        return value


def filled_beside_traces(held: Sequence[object], before: str, after: str) -> list[object]:
    """Returns what was held, between `before` and `after`; nothing but its traces where it is empty."""
    texts = [piece for piece in held if not isinstance(piece, TraceBegin) and piece is not TRACE_END]
    if all(isinstance(piece, str) and not piece.strip(BLANK_STYLE) for piece in texts):
        return [piece for piece in held if not isinstance(piece, str)]
    return [before, *held, after]


# ---- building -------------------------------------------------------------------------------------------------


@record(frozen=True, slots=True)
class TracedProgram:
    """A traced program, and what the numbers of its traces mean; it gives its pieces and its `Trace`."""

    program: Program
    sites: TracedSites

    def bound(self, settings: Settings, world: ProgramWorld) -> Run:
        """Returns the function of the data, for one locale and time zone."""
        return self.program.bound(settings, _traced_world(world))


def _traced_world(world: ProgramWorld) -> ProgramWorld:
    functions = {**world.functions, "Trace": Trace, "TRACE_END": TRACE_END, "filled": filled_beside_traces}
    return replace(world, functions=functions)


@record(frozen=True, slots=True)
class TraceCall:
    """A step that tells the trace something, by one of its methods."""

    method: Literal["way", "reach", "test", "enter", "turn", "leave"]
    numbers: tuple[int, ...] = ()


def build_traced_program(steps: Sequence[Step], linked: LinkedSource, world: ProgramWorld) -> TracedProgram:
    """Returns the traced program of steps, whose marks are those of a linked source."""
    sites = TracedSites()
    places = {id(mark.value): mark.place for mark in linked.marks if mark.value is not None}
    tested = {id(step.value) for step in steps if isinstance(step, Marker) if step.value is not None}
    tested |= {id(step.loop.items) for step in steps if isinstance(step, Marker) if step.loop is not None}
    expressions = TracingExpressions(world.formatters, frozenset(world.common), traced=sites, tested=tested)
    emitter = TracingEmitter(sites, places, _composed_values(steps))
    builder = ProgramBuilder(emitter, _traced_world(world), expressions)
    return TracedProgram(builder.build(list(_with_calls(steps, sites))), sites)


def _with_calls(steps: Iterable[Step], sites: TracedSites) -> Iterator[Step | TraceCall]:
    """Yields steps, with calls where blocks begin and end, and where a way is taken."""
    opened: list[_OpenFork] = []
    for step in steps:
        if not isinstance(step, Marker) or step.role not in (OPEN, BRANCH, CLOSE):
            yield step
            continue
        if step.role == OPEN:
            opened.append(_OpenFork(step, len(sites.forks)))
            if opened[-1].is_fork:
                sites.forks.append(opened[-1].fork())  # the ways of branches are known where the block ends
        fork = opened[-1]
        if step.role == OPEN and step.loop is not None:
            sites.loops.append(step)
            yield from (TraceCall("enter", (len(sites.loops) - 1,)), step, TraceCall("turn"))
        elif step.role == OPEN and step.value is not None:
            yield TraceCall("reach", (fork.number,))
            sites.tests.append((step.value, step.place))
            yield TraceCall("test", (len(sites.tests) - 1,))
            yield step
            yield TraceCall("way", (fork.number, 0))
        elif step.role == BRANCH and fork.mark.loop is None:
            fork.branches.append(step)
            yield step
            yield TraceCall("way", (fork.number, len(fork.branches) - 1))
        else:
            yield step
        if step.role == CLOSE:
            if fork.is_fork:
                sites.forks[fork.number] = fork.fork()
            if fork.mark.loop is not None:
                yield TraceCall("leave", (fork.number,))
            opened.pop()


class _OpenFork:
    """A block that is open: a loop, or branches; `number` is that of its fork."""

    def __init__(self, mark: Marker, number: int) -> None:
        self.mark, self.number = mark, number
        self.branches = [mark]

    @property
    def is_fork(self) -> bool:
        """Whether the data decide about it: it is no stretch that only one form has."""
        return self.mark.loop is not None or self.mark.value is not None

    def fork(self) -> Fork:
        """Returns its ways, as far as they are known."""
        place = self.mark.place
        if self.mark.loop is not None:
            return Fork("loop", place, _LOOP_WAYS, (place,) * len(_LOOP_WAYS))
        ways = [f"branch {number}" for number, _ in enumerate(self.branches, 1)]
        places = [branch.place for branch in self.branches]
        if self.branches[-1].value is not None:  # without an else none may be taken
            ways, places = [*ways, "no branch"], [*places, place]
        return Fork("branch", place, tuple(ways), tuple(places))


@record(slots=True)
class TracingExpressions(ExpressionCompiler):
    """Compiles expressions whose choices and optional fields are traced; those that are `tested` are the tests of
    branches and the lists of loops, which are traced as such."""

    traced: TracedSites = field(default_factory=TracedSites)
    tested: set[int] = field(default_factory=set)

    def value(self, node: Expression) -> ast.expr:
        made = ExpressionCompiler.value(self, node)
        if isinstance(node, Choice) and isinstance(made, ast.IfExp):
            made.test = _traced("chosen", self._fork("choice", node.place, _CHOICE_WAYS), made.test)
        elif isinstance(node, Maybe) and id(node) not in self.tested:
            number = self._fork("optional", node.step.place, _OPTIONAL_WAYS)
            made = _traced("maybe", number, made, ast.Name("NOTHING", ast.Load()))
        return made

    def _fork(self, kind: WayKind, place: Place, ways: tuple[str, ...]) -> int:
        self.traced.forks.append(Fork(kind, place, ways, (place,) * len(ways)))
        return len(self.traced.forks) - 1


class TracingEmitter(PieceEmitter):
    """Writes straight runs with a trace around each value."""

    result = "(out, trace)"

    def __init__(self, sites: TracedSites, places: Mapping[int, Place], composed: Iterator[Expression | None]) -> None:
        super().__init__()
        self.sites, self.places = sites, places
        self._held = composed
        self._composed: Expression | None = None  # while the name of a picture is held, the first value in it

    @property
    def prologue(self) -> str:
        return f"{super().prologue}; trace = Trace()"

    def emit(self, run: Sequence[RunStep | TraceCall], expressions: ExpressionCompiler) -> list[ast.stmt]:
        statements: list[ast.stmt] = []
        constant: list[object] = []  # texts and their traces, which are added together
        for step in run:
            if isinstance(step, str | TraceBegin | TraceEnd):
                constant.append(step)
                continue
            if constant:
                statements.append(self._added(expressions.constant(tuple(constant))))
                constant = []
            match step:
                case TraceCall(method=method, numbers=numbers):
                    statements.append(ast.Expr(_traced(method, *numbers)))
                case BeginCapture():
                    self._composed = next(self._held)
                    statements += super().emit([step], expressions)
                case ShowValue() if self._composed is None:
                    shown = counted_output(self._text(step, expressions))
                    statements += self._around(step.value, [appended(shown, self._into)])
                case OptionalAttribute(before=before, shown=shown_value, after=after):
                    text = unless_nothing(shown_value, ast.Constant(None), lambda shown: shown, expressions)
                    number = self._number(shown_value.value)
                    around = [ast.Constant(before), text, ast.Constant(after)]
                    statements.append(self._added(_traced("optional", number, *around)))
                case DynamicPicture(value=value):
                    inner = super().emit([step], expressions)
                    source = value if value is not None else self._composed
                    statements += inner if source is None else self._around(source, inner)
                    self._composed = None
                case _:
                    statements += super().emit([step], expressions)
        if constant:
            statements.append(self._added(expressions.constant(tuple(constant))))
        return statements

    def _added(self, pieces: ast.expr) -> ast.stmt:
        """Returns the statement that adds several pieces."""
        return ast.AugAssign(ast.Name(self._into, ast.Store()), ast.Add(), pieces)

    def _around(self, value: Expression, statements: list[ast.stmt]) -> list[ast.stmt]:
        """Returns statements that make the text of a value, between the marks of a trace."""
        begin = appended(_traced("begin", self._number(value)), self._into)
        return [begin, *statements, appended(ast.Name("TRACE_END", ast.Load()), self._into)]

    def _number(self, value: Expression) -> int:
        place = self.places.get(id(value), value.place)
        # What a part is put with is written where it is put.
        if isinstance(value, Local) and value.binding.place.source is not place.source:
            place = value.binding.value.place if isinstance(value.binding.value, Constant) else value.binding.place
        self.sites.values.append((value, place))
        return len(self.sites.values) - 1


def _composed_values(steps: Iterable[Step]) -> Iterator[Expression | None]:
    """Yields for each capture the first value in the name of the picture that is held, or None where a style is."""
    holding, first = False, None
    for step in steps:
        match step:
            case BeginCapture():
                holding, first = True, None
            case ShowValue(value=value) | CapturedValue(value=value) if holding:
                first = first or value
            case DynamicPicture(value=None):
                holding = False
                yield first
            case EndCapture():
                holding = False
                yield None


def _traced(method: str, *arguments: int | ast.expr) -> ast.expr:
    called = ast.Attribute(ast.Name("trace", ast.Load()), method, ast.Load())
    return ast.Call(called, [ast.Constant(one) if isinstance(one, int) else one for one in arguments], [])
