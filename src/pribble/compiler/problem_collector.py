"""Collecting problems: a program is run with functions that collect problems instead of raising them."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from decimal import DecimalException

from pribble.compiler.expression_compiler import Site
from pribble.errors import FieldError, LimitReached, PribbleError
from pribble.regexes import regex
from pribble.values.arithmetic import refused
from pribble.values.counting import CELL
from pribble.values.kinds import BROKEN_VALUE, AlreadyReported, Data

_POSITION = regex(r"\[[0-9…]")


def with_place(error: PribbleError, site: Site, positions: Mapping[str, int] | None = None) -> PribbleError:
    """Returns a copy of `error` that knows its place, with the positions of the loops it happened in."""
    problem, path = error.problem, site.path
    if cell := CELL.get():  # a place in a table, which no loop of the template goes through
        problem, path = f"{cell}: {problem}", ""
    for loop, index in (positions or {}).items():
        problem = problem.replace(f"{loop}[]", f"{loop}[{index}]")
        path = path.replace(f"{loop}[]", f"{loop}[{index}]")
    if isinstance(error, FieldError):
        if _POSITION.search(path) and not _POSITION.search(problem):
            problem = f"{path}: {problem}"
        return type(error)(problem, path=path or None, place=site.place, hint=error.hint, related=error.related)
    return type(error)(problem, place=site.place, hint=error.hint, related=error.related)


class ProblemCollector:
    """Collects the problems of one run and knows in which turns of which loops they happened."""

    def __init__(self, sites: tuple[Site, ...]) -> None:
        self.sites = sites
        self.problems: list[PribbleError] = []
        self.positions: dict[str, int] = {}

    def watching(self, function: Callable[..., Data]) -> Callable[..., Data]:
        """Returns `function`, its errors collected and its result then broken."""

        def watched(*arguments: Data) -> Data:
            if any(argument is BROKEN_VALUE for argument in arguments):
                return BROKEN_VALUE
            try:
                made = function(*arguments)
                return self.watching(made) if callable(made) and made is not BROKEN_VALUE else made
            except LimitReached:
                raise
            except AlreadyReported:
                return BROKEN_VALUE
            except (PribbleError, DecimalException) as error:
                known = refused(error) if isinstance(error, DecimalException) else error
                site = self.sites[sys._getframe(1).f_lineno - 1]
                made = with_place(known, site, self.positions)
                made.__cause__ = error.__cause__
                self.problems.append(made)
                return BROKEN_VALUE

        return watched

    def each(self, items: Iterable[Data], path: str) -> Iterator[Data]:
        """Yields the turns of a loop over the list at `path`."""
        for index, value in enumerate(items):
            self.positions[path] = index
            yield value
        self.positions.pop(path, None)
