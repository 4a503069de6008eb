"""Steps become a program: a Python function from data to pieces, built as a syntax tree.

A pass over the linked source yields steps; `ProgramBuilder` nests their blocks and leaves it to an `Emitter` how a
straight run of steps is written.  A `Program` is immutable; it is bound to a locale and a time zone once for each pair.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Callable, Collection, Mapping, Sequence
from decimal import DecimalException
from functools import partial
from types import CodeType, FrameType, TracebackType
from typing import Any, Generic, Protocol, TypeVar

from pribble.compiler.expression_compiler import (
    DATA,
    ExpressionCompiler,
    FormatterCall,
    Site,
    class_check,
    described,
    items_variable,
)
from pribble.compiler.formatter_binding import Noting, bind_formatter
from pribble.compiler.formatter_results import FORMATTER_RESULTS, POINTED
from pribble.compiler.metering import Meter
from pribble.compiler.problem_collector import ProblemCollector, with_place
from pribble.compiler.runtime import RUNTIME_FUNCTIONS
from pribble.compiler.syntax_trees import compiled, parsed, parsed_expression
from pribble.compiler.unread_values import without_unread
from pribble.errors import LimitReached, Place, PribbleError
from pribble.language.expressions import Binding, Local, children
from pribble.language.linked_source import BRANCH, CLOSE, SET, LinkedSource, Loop, Marker
from pribble.limits import Limits
from pribble.records import field, record, replace
from pribble.values import lookup
from pribble.values.arithmetic import compute, refused
from pribble.values.formatters import Formatter
from pribble.values.kinds import Data, canonical, kind
from pribble.values.settings import Settings

# To a program run with care nothing is a dict that it might read at once; all is read by the function that knows how.
_CAREFUL: dict[str, object] = {"dict": None}
_FILE = "<a program of Pribble's>"

# A program as a function: of the data, and what it gives is its emitter's.
Run = Callable[[Data], Any]


# The functions that show a value as it is, in a page and in a text.
_AS_IT_IS = ("show_markup", "show_plain", "show_line")
_WITHOUT_DECIMALS = frozenset({str, int, bool})


@record(frozen=True, slots=True)
class Optimisations:
    """Which of `pribble.compiler.optimisations` are on: parts of the text laid out when the template is compiled,
    values shown once for both forms, fixed texts encoded for the wire once."""

    text_patterns: bool = True
    value_reuse: bool = True
    wire_form: bool = True


@record(frozen=True, slots=True)
class ProgramWorld:
    """What a program is built for and runs in: the formatters it may call, values that every template sees, limits,
    `functions` that its steps call, and how it is made cheaper."""

    formatters: Mapping[str, Formatter]
    common: Mapping[str, Data]
    limits: Limits
    functions: Mapping[str, object]
    optimisations: Optimisations = Optimisations()


_Run = TypeVar("_Run", contravariant=True)  # what a straight run is made of
_Step = TypeVar("_Step")


class Emitter(Protocol[_Run]):
    """Writes straight runs of steps; `prologue` and `result` are what the function begins and ends with."""

    @property
    def prologue(self) -> str: ...
    @property
    def result(self) -> str: ...
    def emit(self, run: Sequence[_Run], expressions: ExpressionCompiler) -> list[ast.stmt]: ...


@record(frozen=True, slots=True)
class Program:
    """A compiled function and what it needs: its code, sites, constants and formatters."""

    code: CodeType = field(repr=False)
    sites: tuple[Site, ...] = field(repr=False)
    constants: Mapping[str, object]
    formatters: Mapping[str, FormatterCall]

    def bound(self, settings: Settings, world: ProgramWorld, others: Mapping[Place, str] | None = None) -> Run:
        """Returns the function for one locale and time zone; it raises errors that name their place.

        `others` are the marks that show a value without a formatter where the locale writes no point before decimals,
        and that locale: a number that is shown so is noted in `POINTED`.
        """
        namespace = self._namespace(settings, world, self._noting)
        if others:
            namespace |= {
                name: self._noting(show, others.get)
                for name, show in namespace.items()
                if name.startswith(_AS_IT_IS) and "_in_" not in name and callable(show)
            }
        steps = world.limits.steps
        # Two functions of one code: the first reads fields of dicts at once, the second through functions that know
        # what is missing.
        run, careful = self._function(dict(namespace)), self._function(namespace | _CAREFUL)

        def counted(data: Data) -> Any:
            """Runs with care, since what it computes counts, and is to be computed once."""
            assert steps is not None
            return self._function(self._metered(namespace, world, steps) | _CAREFUL)(data)

        def program(data: Data) -> Any:
            _begin()
            try:
                if steps is not None:
                    return counted(data)
                try:
                    return run(data)
                except KeyError as error:
                    if not _is_own(error.__traceback__):
                        raise
                    _begin()
                    return careful(data)  # a dict lacks a field: whoever reads with care says so
            except (PribbleError, DecimalException) as error:
                known = refused(error) if isinstance(error, DecimalException) else error
                raise self._placed(known, error.__traceback__) from error.__cause__

        return program

    def _metered(self, namespace: Mapping[str, object], world: ProgramWorld, steps: int) -> dict[str, object]:
        """Returns the namespace of a run that may take so many steps."""
        costs = {name: world.formatters[call.name].cost for name, call in self.formatters.items()}
        return Meter(steps, costs).metered(namespace)

    def collect_problems(self, settings: Settings, world: ProgramWorld, data: Data) -> list[PribbleError]:
        """Returns every problem that the data have here: what cannot be read counts as nothing, and the program goes
        on."""
        _begin()
        collector = ProblemCollector(self.sites)
        namespace = self._namespace(settings, world)
        if world.limits.steps is not None:
            namespace = self._metered(namespace, world, world.limits.steps)
        watched = {
            name: collector.watching(f) if callable(f) and not isinstance(f, type) else f
            for name, f in namespace.items()
        }
        try:
            self._function(watched | _CAREFUL | {"each": collector.each})(data)
        except LimitReached as error:
            collector.problems.append(self._placed(error, error.__traceback__))
        return collector.problems

    def _noting(self, show: Callable[[Data], str], locale_at: Callable[[Place], str | None]) -> Callable[[Data], str]:
        """Returns `show`, which notes where it shows a number with a point that the locale there does not write."""

        def noting(value: Data) -> str:
            made = show(value)
            if value.__class__ not in _WITHOUT_DECIMALS and kind(canonical(value)) == "number" and "." in made:
                noted, place = POINTED.get(), self._mark()
                if place is not None and noted is not None and (locale := locale_at(place)) is not None:
                    noted.setdefault(place, (made, locale))
            return made

        return noting

    def _mark(self) -> Place | None:
        """Returns the place of the call of this program that is going on."""
        frame: FrameType | None = sys._getframe(1)
        while frame is not None and frame.f_code.co_filename != _FILE:
            frame = frame.f_back
        return None if frame is None else self.sites[frame.f_lineno - 1].place

    def _function(self, namespace: dict[str, object]) -> Run:
        exec(self.code, namespace)  # the code is our own, built from a tree
        run = namespace["program"]
        assert callable(run)
        return run

    def _namespace(self, settings: Settings, world: ProgramWorld, noting: Noting | None = None) -> dict[str, object]:
        formatters = {
            name: bind_formatter(call, settings, world.formatters, self._mark, noting)
            for name, call in self.formatters.items()
        }
        return {
            **RUNTIME_FUNCTIONS,
            "LIMITS": _within_steps(world.limits),
            "compute": partial(compute, longest=world.limits.text),
            "common": _common(world.common),
            **world.functions,
            **self.constants,
            **formatters,
        }

    def _placed(self, error: PribbleError, traceback: TracebackType | None) -> PribbleError:
        """Returns `error` with the place of the innermost call of this program that it passed through."""
        line = 0
        while traceback is not None:
            if traceback.tb_frame.f_code.co_filename == _FILE:
                line = traceback.tb_lineno
            traceback = traceback.tb_next
        return with_place(error, self.sites[line - 1]) if line and error.place is None else error


def _begin() -> None:
    """Formatters of an application that were called in an earlier run of this rendering are not called again."""
    issued = FORMATTER_RESULTS.get()
    if issued is not None:
        issued.begin()


def _is_own(traceback: TracebackType | None) -> bool:
    """Returns whether an error was raised by a program itself, and by no function that it calls."""
    while traceback is not None and traceback.tb_next is not None:
        traceback = traceback.tb_next
    return traceback is not None and traceback.tb_frame.f_code.co_filename == _FILE


def _within_steps(limits: Limits) -> Limits:
    """Returns limits in which turns are steps too."""
    return limits if limits.steps is None else replace(limits, turns=min(limits.turns, limits.steps))


def _common(values: Mapping[str, Data]) -> Callable[[Data, str], Data]:
    """Reads a name that every template sees: the data's own first."""

    def common(data: Data, name: str) -> Data:
        found = lookup.record_field(data, name)
        return values[name] if found is lookup.MISSING else found

    return common


# ---- building -------------------------------------------------------------------------------------------------


class ProgramBuilder(Generic[_Step]):
    """Builds programs; `emitter` writes the straight runs of their steps, `expressions` what is in them."""

    def __init__(
        self, emitter: Emitter[_Step], world: ProgramWorld, expressions: ExpressionCompiler | None = None
    ) -> None:
        self.emitter = emitter
        self.expressions = expressions or ExpressionCompiler(world.formatters, frozenset(world.common))

    def build(
        self,
        steps: Sequence[Marker | _Step],
        *,
        lets: Sequence[Binding] | None = None,
        computed_elsewhere: Collection[Binding] = (),
    ) -> Program:
        """Returns the program of `steps`: marks that open, branch, close and set, and what the emitter writes.

        With `lets`, those of the page, it is given what the page's program has kept, and the values of these, beside
        the data.  What is `computed_elsewhere`, by the page's program, is computed only where it is read.
        """
        expressions, emitter = self.expressions, self.emitter
        body = _Blocks(steps, emitter, expressions, lets or ()).block()
        given = "" if lets is None else "data, runs, lets = data; "
        function = parsed(
            f"def program(data):\n {given}turns = [LIMITS.turns]; room = [LIMITS.output]\n {emitter.prologue}\n"
            f" return {emitter.result}\n"
        )
        definition = function.body[0]
        assert isinstance(definition, ast.FunctionDef)
        never = ast.Constant(None)
        ready: list[ast.stmt] = [
            ast.Assign([ast.Name(name, ast.Store())], never) for name in expressions.prepared.values()
        ]
        # They are closures over `turns` and `room`, which belong to one run.
        # The functions for lists stand within the program: what they go through counts.
        definition.body[-1:-1] = [class_check(DATA), *ready, *expressions.functions, *body]
        if computed_elsewhere:
            definition.body = without_unread(definition.body, set(map(expressions.variable, computed_elsewhere)))
        code = compiled(_located(function), _FILE)
        return Program(code, tuple(expressions.sites), expressions.constants, expressions.formatters)


def _located(tree: ast.Module) -> ast.Module:
    """Returns a tree whose nodes all have a line: their own, or that of the node around.  (The function of the standard
    library takes twice as long.)"""
    waiting: list[tuple[ast.AST, int]] = [(tree, 1)]
    while waiting:
        node, line = waiting.pop()
        if isinstance(node, ast.expr | ast.stmt | ast.arg | ast.keyword):
            if hasattr(node, "lineno"):
                line = node.lineno
            else:
                node.lineno = line
            node.end_lineno, node.col_offset, node.end_col_offset = line, 0, 0
        for name in node._fields:
            value = getattr(node, name, None)
            if isinstance(value, ast.AST):
                waiting.append((value, line))
            elif isinstance(value, list):
                waiting += [(each, line) for each in value if isinstance(each, ast.AST)]
    return tree


class _Blocks(Generic[_Step]):
    """The blocks of steps as nested statements."""

    def __init__(
        self,
        steps: Sequence[Marker | _Step],
        emitter: Emitter[_Step],
        expressions: ExpressionCompiler,
        lets: Sequence[Binding],
    ) -> None:
        self.steps, self.emitter, self.expressions = steps, emitter, expressions
        self.lets = {binding: number for number, binding in enumerate(lets)}
        self.index = 0
        self.loops = 0

    def block(self) -> list[ast.stmt]:
        """Returns the statements up to the mark that ends this block, or to the end."""
        body: list[ast.stmt] = []
        run: list[_Step] = []
        while self.index < len(self.steps):
            step = self.steps[self.index]
            if isinstance(step, Marker):
                if run:
                    body += self.emitter.emit(run, self.expressions)
                    run = []
                if step.role in (BRANCH, CLOSE):
                    return body
                self.index += 1
                if step.role == SET:
                    body += self._set(step)
                elif step.loop is not None:
                    body += self._for(step.loop, step)
                elif step.value is not None:
                    body += self._if(step)
                else:  # a stretch that only this form has
                    body += self.block()
                    self.index += 1
            else:
                run.append(step)
                self.index += 1
        if run:
            body += self.emitter.emit(run, self.expressions)
        return body

    def _following(self) -> Marker:
        """Returns the mark that ended a block."""
        mark = self.steps[self.index]
        assert isinstance(mark, Marker)
        self.index += 1
        return mark

    def _set(self, mark: Marker) -> list[ast.stmt]:
        binding = mark.binding
        assert binding is not None and binding.value is not None
        value = self.expressions.value(binding.value)
        kept = self.expressions.call("kept_value", ast.Name("room", ast.Load()), value, place=binding.value.place)
        number = self.lets.get(binding)
        if number is not None:  # None are given where the program is run by itself
            taken = parsed_expression(f"lets[{number}] if lets is not None else None")
            assert isinstance(taken, ast.IfExp)
            taken.orelse = kept
            kept = taken
        return [ast.Assign([ast.Name(self.expressions.variable(binding), ast.Store())], kept)]

    def _if(self, mark: Marker) -> list[ast.stmt]:
        assert mark.value is not None
        test = self.expressions.test(mark.value)
        body = self.block()
        following = self._following()
        otherwise: list[ast.stmt] = []
        if following.role == BRANCH:
            if following.value is not None:
                otherwise = self._if(following)
            else:
                otherwise = self.block()
                self.index += 1  # past the closing mark
        return [ast.If(test, body or [ast.Pass()], otherwise)]

    def _for(self, loop: Loop, mark: Marker) -> list[ast.stmt]:
        expressions, path = self.expressions, described(loop.items)
        self.loops += 1
        index = expressions.variable(loop.at) if loop.at is not None else f"turn_{self.loops}"
        listed = items_variable(index)
        reader = "items" if len(loop.names) == 1 else "pairs"
        items = expressions.call(
            reader, expressions.value(loop.items), ast.Constant(path), place=loop.items.place, path=path
        )
        names: list[ast.expr] = [ast.Name(expressions.variable(name), ast.Store()) for name in loop.names]
        item = names[0] if len(names) == 1 else ast.Tuple(names, ast.Store())
        each = expressions.call("each", ast.Name(listed, ast.Load()), ast.Constant(path), place=mark.place)
        if len(loop.names) == 1:
            expressions.checked.add(loop.names[0])
        checks = [class_check(expressions.variable(name)) for name in loop.names if name in expressions.checked]
        body = [*checks, *self.block()]
        following = self._following()
        if loop.at is not None:
            item = ast.Tuple([ast.Name(index, ast.Store()), item], ast.Store())
            each = ast.Call(ast.Name("enumerate", ast.Load()), [each], [])
        turns = ast.For(item, each, body or [ast.Pass()], [])
        walked = expressions.walked(items, loop.items.place)
        statements: list[ast.stmt] = [ast.Assign([ast.Name(listed, ast.Store())], walked)]
        if following.role == CLOSE:
            return [*statements, turns]
        otherwise = self.block()
        self.index += 1
        return [*statements, ast.If(ast.Name(listed, ast.Load()), [turns], otherwise or [ast.Pass()])]


def needed(linked: LinkedSource) -> set[Binding]:
    """Returns the bindings that a linked source uses, those used by others it uses among them.

    A message block carries all the ``let``s above it; only these have to be set.
    """
    used: set[Binding] = set()
    waiting = [expression for mark in linked.marks if mark.role != SET for expression in mark.expressions()]
    while waiting:
        expression = waiting.pop()
        waiting += children(expression)
        if isinstance(expression, Local) and expression.binding not in used:
            used.add(expression.binding)
            if expression.binding.value is not None:
                waiting.append(expression.binding.value)
    return used
