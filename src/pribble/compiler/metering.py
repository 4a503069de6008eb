"""Counting the steps of a program, for templates that a stranger wrote (`Limits.steps`).

A program calls functions for all that takes time.  Each call is a step, and so are each ten characters and each item
that go into it or come out of it.  A program without such a limit is never run so, and pays nothing for it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

from pribble.errors import LimitReached
from pribble.values.kinds import Data

_CHARACTERS = 10
# What takes no more time for a longer text or list; what goes through its items is counted as turns.
_AT_ONCE = frozenset(
    "read read_maybe item item_maybe common holds or_nothing items kept kept_value walked visited".split()
)


class Meter:
    """What is left of the steps of one run; `costs` are the formatters in the program, and how their time grows."""

    def __init__(self, steps: int, costs: Mapping[str, str]) -> None:
        self._left, self._costs = steps, costs

    def take(self, steps: int) -> None:
        """Count so many steps; raises `LimitReached` where they are more than is permitted."""
        self._left -= steps
        if self._left < 0:
            raise LimitReached(
                "more steps than are permitted", hint="Limits(steps=…) of the template folder permits more"
            )

    def metered(self, namespace: Mapping[str, Data]) -> dict[str, Data]:
        """Returns the namespace of a program, its functions counting."""
        made = {
            name: self._counting(value, name) if callable(value) and not isinstance(value, type) else value
            for name, value in namespace.items()
        }
        return made | {"each": self._each}

    def _counting(self, function: Callable[..., Data], name: str) -> Callable[..., Data]:
        cost = self._costs.get(name, "constant" if name in _AT_ONCE else "size")

        def counted(*arguments: Data) -> Data:
            if cost == "constant" and not isinstance(arguments[0], str):
                made = function(*arguments)
                self.take(1 + _weight(made))
                return made
            weight = 1 + sum(map(_weight, arguments))
            self.take(weight * weight.bit_length() if cost == "sort" else weight)
            made = function(*arguments)
            self.take(_weight(made))
            return self._counting(made, name) if callable(made) and not isinstance(made, str) else made

        return counted

    def _each(self, items: Iterable[Data], path: str) -> Iterator[Data]:
        for turn in items:
            self.take(1)
            yield turn


def _weight(value: Data) -> int:
    if isinstance(value, str):
        return len(value) // _CHARACTERS
    return len(value) if isinstance(value, list | tuple | dict) else 0
