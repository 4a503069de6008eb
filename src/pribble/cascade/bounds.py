"""How much the style sheets of one page may come to.

What a rule declares it declares for each element that it selects, and custom properties name one another: what comes of
that is a product, of which the bounds are here.  They are far beyond what a message holds.
"""

from __future__ import annotations

from pribble.errors import LimitReached

_MOST_MATCHES = 2_000_000
_MOST_DECLARATIONS = 200_000
_MOST_CHARACTERS = 20_000_000


class Bounds:
    """Counts what comes of the style sheets of a page; raises `LimitReached` where it is too much."""

    def __init__(self) -> None:
        self._matches = self._declarations = self._characters = 0

    def matches(self, count: int) -> None:
        """Count elements that selectors are for; one that is written twice counts once."""
        self._matches += count
        if self._matches > _MOST_MATCHES:
            raise LimitReached(
                f"the style sheets select elements more than {_MOST_MATCHES:,} times",
                hint="fewer rules that are for many elements, or fewer elements",
            )

    def declarations(self, count: int) -> None:
        """Count declarations that meet, of elements that get different ones."""
        self._declarations += count
        if self._declarations > _MOST_DECLARATIONS:
            raise LimitReached(
                f"the style sheets come to more than {_MOST_DECLARATIONS:,} declarations for the elements of the page",
                hint="fewer rules that are for all elements, or fewer elements",
            )

    def characters(self, count: int) -> None:
        """Count characters of values that are made, and of styles that are written."""
        self._characters += count
        if self._characters > _MOST_CHARACTERS:
            raise LimitReached(
                f"the style sheets come to more than {_MOST_CHARACTERS:,} characters in the elements of the page",
                hint="fewer rules that are for all elements, or shorter values",
            )
