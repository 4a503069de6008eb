"""Steps become a program: a Python function from data to pieces, built as a syntax tree.

A pass over a tape yields steps; `compiled` nests their blocks and leaves it to a `Sink` how a straight run
of steps is written.  A `Program` is immutable; it is bound to a locale and a time zone once for each pair.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from types import CodeType, TracebackType
from typing import Any, Protocol

from pribble.compiler.lowering import FormatterCall, Lowering, Site, described, items_variable
from pribble.errors import FieldError, LimitReached, PribbleError
from pribble.language.expressions import Expression, Local, children
from pribble.language.tape import BRANCH, CLOSE, OPEN, SET, LiftedBlock, Loop, TapeMark
from pribble.values import arithmetic, escaping, lookup, showing
from pribble.values.formatters import Settings, prepared
from pribble.values.kinds import NOTHING

_FILE = "<a program of Pribble's>"

Run = Callable[[Any], Any]
Steps = Sequence[Any]


class Sink(Protocol):
    """Writes straight runs of steps; `prologue` and `result` are what the function begins and ends with."""

    prologue: str
    result: str

    def written(self, run: Sequence[Any], lowering: Lowering) -> list[ast.stmt]: ...


@dataclass(frozen=True, slots=True)
class Program:
    """A compiled function and what it needs: its code, sites, constants and formatters."""

    code: CodeType = field(repr=False)
    sites: tuple[Site, ...] = field(repr=False)
    constants: Mapping[str, Any]
    formatters: Mapping[str, FormatterCall]

    def bound(self, settings: Settings, helpers: Mapping[str, Any]) -> Run:
        """The function for one locale and time zone; it raises errors that name their place.

        `helpers` are functions beyond those of ``values/`` that its steps call.
        """
        run = self._function(self._namespace(settings, helpers))

        def program(data: Any) -> Any:
            try:
                return run(data)
            except PribbleError as error:
                raise self._placed(error, error.__traceback__) from None

        return program

    def surveyed(self, settings: Settings, helpers: Mapping[str, Any], data: Any) -> list[PribbleError]:
        """Every problem that the data have here: what cannot be read comes to nothing, and the program goes on."""
        survey = _Survey(self.sites)
        namespace = self._namespace(settings, helpers)
        watched = {name: survey.watching(f) if callable(f) and not isinstance(f, type) else f
                   for name, f in namespace.items()}
        self._function(watched | {"each": survey.each})(data)
        return survey.problems

    def _function(self, namespace: dict[str, Any]) -> Run:
        exec(self.code, namespace)
        run: Run = namespace["program"]
        return run

    def _namespace(self, settings: Settings, helpers: Mapping[str, Any]) -> dict[str, Any]:
        formatters = {name: _late(call, settings) for name, call in self.formatters.items()}
        return {**_HELPERS, "formatted": _formatting(settings), **helpers, **self.constants, **formatters}

    def _placed(self, error: PribbleError, traceback: TracebackType | None) -> PribbleError:
        while traceback is not None and traceback.tb_frame.f_code.co_filename != _FILE:
            traceback = traceback.tb_next
        if traceback is None or error.place is not None:
            return error
        return _at(error, self.sites[traceback.tb_lineno - 1])


def _at(error: PribbleError, site: Site, positions: Mapping[str, int] | None = None) -> PribbleError:
    """A copy of `error` that knows its place, with the positions of the loops it happened in."""
    problem, path = error.problem, site.path
    for loop, index in (positions or {}).items():
        problem = problem.replace(f"{loop}[]", f"{loop}[{index}]")
        path = path.replace(f"{loop}[]", f"{loop}[{index}]")
    if isinstance(error, FieldError):
        if "[" in path and "[" not in problem:
            problem = f"{path}: {problem}"
        return type(error)(problem, path=path or None, place=site.place, hint=error.hint, related=error.related)
    return type(error)(problem, place=site.place, hint=error.hint, related=error.related)


def _late(call: FormatterCall, settings: Settings) -> Run:
    """A formatter that is prepared when first applied, so that what is wrong with it is told at its place."""
    @lru_cache(maxsize=1)
    def ready() -> Run:
        return prepared(call.name, settings, call.arguments, dict(call.named))

    try:
        return ready()
    except PribbleError:
        return lambda value: ready()(value)


def _formatting(settings: Settings) -> Callable[..., Any]:
    """Applies formatters whose arguments depend on the data."""
    ready = lru_cache(maxsize=128)(
        lambda name, arguments, given: prepared(name, settings, arguments, dict(given)))

    def formatted(name: str, value: Any, arguments: tuple[Any, ...], given: dict[str, Any]) -> Any:
        try:
            apply = ready(name, arguments, tuple(given.items()))
        except TypeError:  # a list or record among the arguments: no key, so no keeping
            apply = prepared(name, settings, arguments, given)
        return apply(value)

    return formatted


_HELPERS: dict[str, Any] = {
    "NOTHING": NOTHING,
    "read": lookup.read,
    "read_maybe": lookup.read_maybe,
    "item": lookup.item,
    "item_maybe": lambda value, key, where: lookup.item(value, key, where, maybe=True),
    "or_nothing": lambda value: NOTHING if value is None else value,
    "items": lookup.items,
    "pairs": lookup.pairs,
    "each": lambda items, path: enumerate(items),
    "holds": lookup.holds,
    "absent": lookup.absent,
    "compute": arithmetic.compute,
    "negative": arithmetic.negative,
    "equal": arithmetic.equal,
    "unequal": lambda left, right: not arithmetic.equal(left, right),
    "less": arithmetic.less,
    "at_most": lambda left, right: arithmetic.less(left, right, or_equal=True),
    "more": lambda left, right: arithmetic.less(right, left),
    "at_least": lambda left, right: arithmetic.less(right, left, or_equal=True),
    "contains": arithmetic.contains,
    "lacks": lambda value, whole: not arithmetic.contains(value, whole),
    # Ways of showing, each for what is a text already and for any value.
    "markup": escaping.markup, "show_markup": showing.show_markup,
    "plain": escaping.plain_text, "show_plain": showing.show_plain,
    "line": escaping.one_line, "show_line": showing.show_line,
    "url": showing.show_url, "show_url": showing.show_url,
    "base": showing.show_base, "show_base": showing.show_base,
    "segment": showing.show_segment, "show_segment": showing.show_segment,
    "query": showing.show_query, "show_query": showing.show_query,
    "address": showing.show_address, "show_address": showing.show_address,
    "address_base": showing.show_address_base, "show_address_base": showing.show_address_base,
}


# ---- surveying ------------------------------------------------------------------------------------------------


class _Broken(str):
    """Stands for a value that could not be read or computed: an empty text that is told from any other."""

    __slots__ = ()


_BROKEN = _Broken()


class _Survey:
    """Collects the problems of one run and knows in which turns of which loops they happened."""

    def __init__(self, sites: tuple[Site, ...]) -> None:
        self.sites = sites
        self.problems: list[PribbleError] = []
        self.positions: dict[str, int] = {}

    def watching(self, function: Callable[..., Any]) -> Callable[..., Any]:
        """`function`, its errors collected and its result then broken."""

        def watched(*arguments: Any) -> Any:
            if any(argument is _BROKEN for argument in arguments):
                return _BROKEN
            try:
                return function(*arguments)
            except LimitReached:
                raise
            except PribbleError as error:
                site = self.sites[sys._getframe(1).f_lineno - 1]
                self.problems.append(_at(error, site, self.positions))
                return _BROKEN

        return watched

    def each(self, items: Iterable[Any], path: str) -> Iterator[tuple[int, Any]]:
        for index, value in enumerate(items):
            self.positions[path] = index
            yield index, value
        self.positions.pop(path, None)


# ---- building -------------------------------------------------------------------------------------------------


def compiled(steps: Steps, sink: Sink, bindings: Sequence[TapeMark] = ()) -> Program:
    """The program of `steps`: tape marks that open, branch, close and set, and whatever else `sink` writes.

    `bindings` are set first.
    """
    lowering = Lowering()
    body = _Builder([*bindings, *steps], sink, lowering).block()
    function = ast.parse(f"def program(data):\n {sink.prologue}\n return {sink.result}\n")
    definition = function.body[0]
    assert isinstance(definition, ast.FunctionDef)
    definition.body[-1:-1] = body
    code = compile(ast.fix_missing_locations(function), _FILE, "exec")
    return Program(code, tuple(lowering.sites), lowering.constants, lowering.formatters)


class _Builder:
    def __init__(self, steps: Steps, sink: Sink, lowering: Lowering) -> None:
        self.steps, self.sink, self.lowering = steps, sink, lowering
        self.index = 0
        self.loops = 0

    def block(self) -> list[ast.stmt]:
        """The statements up to the mark that ends this block, or to the end."""
        body: list[ast.stmt] = []
        run: list[Any] = []
        while self.index < len(self.steps):
            step = self.steps[self.index]
            if isinstance(step, TapeMark):
                if run:
                    body += self.sink.written(run, self.lowering)
                    run = []
                if step.role in (BRANCH, CLOSE):
                    return body
                self.index += 1
                if step.role == SET:
                    body += self._set(step)
                elif step.role == OPEN:
                    body += self._for(step.loop, step) if step.loop else self._if(step)
            else:
                run.append(step)
                self.index += 1
        if run:
            body += self.sink.written(run, self.lowering)
        return body

    def _set(self, mark: TapeMark) -> list[ast.stmt]:
        binding = mark.binding
        assert binding is not None and binding.value is not None
        value = self.lowering.value(binding.value)
        return [ast.Assign([ast.Name(self.lowering.variable(binding), ast.Store())], value)]

    def _if(self, mark: TapeMark) -> list[ast.stmt]:
        assert mark.value is not None
        test = self.lowering.test(mark.value)
        body = self.block()
        following = self.steps[self.index]
        self.index += 1
        otherwise: list[ast.stmt] = []
        if following.role == BRANCH:
            if following.value is not None:
                otherwise = self._if(following)
            else:
                otherwise = self.block()
                self.index += 1  # past the closing mark
        return [ast.If(test, body or [ast.Pass()], otherwise)]

    def _for(self, loop: Loop, mark: TapeMark) -> list[ast.stmt]:
        lowering, path = self.lowering, described(loop.items)
        self.loops += 1
        index = lowering.variable(loop.at) if loop.at else f"turn_{self.loops}"
        listed = items_variable(index)
        reader = "items" if len(loop.names) == 1 else "pairs"
        items = lowering.call(reader, lowering.value(loop.items), ast.Constant(path), place=loop.items.place, path=path)
        names: list[ast.expr] = [ast.Name(lowering.variable(name), ast.Store()) for name in loop.names]
        item = names[0] if len(names) == 1 else ast.Tuple(names, ast.Store())
        each = lowering.call("each", ast.Name(listed, ast.Load()), ast.Constant(path), place=mark.place)
        body = self.block()
        following = self.steps[self.index]
        self.index += 1
        turns = ast.For(ast.Tuple([ast.Name(index, ast.Store()), item], ast.Store()), each, body or [ast.Pass()], [])
        statements: list[ast.stmt] = [ast.Assign([ast.Name(listed, ast.Store())], items)]
        if following.role == CLOSE:
            return [*statements, turns]
        otherwise = self.block()
        self.index += 1
        return [*statements, ast.If(ast.Name(listed, ast.Load()), [turns], otherwise or [ast.Pass()])]


def needed_bindings(lifted: LiftedBlock) -> list[TapeMark]:
    """The marks that set what a message block uses of the ``let``s above it, in their order."""
    used: set[Any] = set()

    def look(expression: Expression) -> None:
        if isinstance(expression, Local) and expression.binding not in used:
            used.add(expression.binding)
            if expression.binding.value is not None:
                look(expression.binding.value)
        for child in children(expression):
            look(child)

    for mark in lifted.tape.marks:
        for expression in mark.expressions():
            look(expression)
    return [TapeMark(SET, binding.place, binding=binding) for binding in lifted.bindings if binding in used]
