"""How much the style sheets of one page may amount to.

What a rule declares it declares for each element that it selects, and custom properties name one another: the result of
that is a product, of which the bounds are here.  They are far beyond what a message holds.
"""

from __future__ import annotations

from collections import Counter

from pribble.errors import LimitReached
from pribble.records import record


@record(frozen=True, slots=True)
class CountLimit:
    """So much at the most of something that is counted, and how errors say it."""

    most: int
    problem: str


# Elements that selectors are for; one that is written twice counts once.
MATCHES = CountLimit(2_000_000, "the style sheets select elements more than {:,} times")
# Declarations that meet, of elements that get different ones.
DECLARATIONS = CountLimit(200_000, "the style sheets come to more than {:,} declarations for the elements of the page")
# Characters of values that are made, and of styles that are written.
CHARACTERS = CountLimit(20_000_000, "the style sheets come to more than {:,} characters in the elements of the page")


class CascadeCounter:
    """Counts what the style sheets of a page amount to."""

    def __init__(self) -> None:
        self._counted: Counter[CountLimit] = Counter()

    def count(self, bound: CountLimit, number: int) -> None:
        """Count so many more; raises `LimitReached` where it is too much."""
        self._counted[bound] += number
        if self._counted[bound] > bound.most:
            raise LimitReached(
                bound.problem.format(bound.most),
                hint="fewer rules that are for all elements, fewer elements, or shorter values",
            )
