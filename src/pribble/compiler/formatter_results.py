"""What the formatters of an application gave in one rendering: each is called once a mark and turn, since it may issue
something, as a token, however often a program is run."""

from __future__ import annotations

from collections.abc import Callable
from contextvars import ContextVar

from pribble.errors import FieldError, Place, PribbleError
from pribble.values.kinds import Data

# Where it stands, and the marks that put the part which it stands in.
_Mark = tuple[Place, tuple[Place | None, ...]]


class FormatterResults:
    """What was given so far, by the mark: of each mark in the order of its turns."""

    __slots__ = ("_given", "_turns")

    def __init__(self) -> None:
        self._given: dict[_Mark, list[tuple[Data, PribbleError | None]]] = {}
        self._turns: dict[_Mark, int] = {}

    def begin(self) -> None:
        """A program is run, from its first mark on."""
        self._turns.clear()

    def at(self, place: Place, call: Callable[[], Data]) -> Data:
        """Returns what `call` gives, or gave before in this turn of the mark at a place."""
        mark = place, tuple(related.place for related in place.via)
        given, turn = self._given.setdefault(mark, []), self._turns.get(mark, 0)
        self._turns[mark] = turn + 1
        if turn == len(given):
            try:
                given.append((call(), None))
            except PribbleError as error:
                given.append((None, error))
        made, failed = given[turn]
        if failed is not None:
            raise failed
        return made


# That of the rendering that is made just now.
FORMATTER_RESULTS: ContextVar[FormatterResults | None] = ContextVar("issued", default=None)
# What a run showed with a point, by its place, and the locale that does not write one.
POINTED: ContextVar[dict[Place, tuple[str, str]] | None] = ContextVar("pointed", default=None)


def remember_results(
    formatter: Callable[..., Data], name: str, place: Callable[[], Place | None]
) -> Callable[..., Data]:
    """Returns a formatter of an application, called once a mark and turn; `place` gives the mark that calls it.

    What it raises becomes an error of the template's, with the original as its cause.
    """

    def issued(*arguments: Data) -> Data:
        def call() -> Data:
            try:
                return formatter(*arguments)
            except PribbleError:
                raise
            except Exception as error:
                says = f"{type(error).__name__}: {error}" if str(error) else type(error).__name__
                raise FieldError(f"the formatter {name} fails: {says}") from error

        known, mark = FORMATTER_RESULTS.get(), place()
        return call() if known is None or mark is None else known.at(mark, call)

    return issued
