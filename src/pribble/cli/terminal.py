"""The one door to a terminal: what somebody else wrote cannot steer it.

A message, a page, a reply of a server may hold control characters, which a terminal obeys: they change colours, titles,
what stands above.  Everything that is printed for people goes through here, and shows them as U+FFFD.
"""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.text import Text

from pribble.errors import visible_lines


class Terminal(Console):
    """A console whose texts have no controls but line breaks; styles are those of `Text` alone."""

    def __init__(self, *, soft_wrap: bool = False) -> None:
        super().__init__(highlight=False, soft_wrap=soft_wrap)

    def print(self, *objects: Any, **options: Any) -> None:
        super().print(*[_fit(one) for one in objects], **options)


def _fit(thing: Any) -> Any:
    if isinstance(thing, str):
        return visible_lines(thing)
    if isinstance(thing, Text):
        fit = thing.copy()
        fit.plain = visible_lines(thing.plain)  # as long as before, so that styles keep their places
        return fit
    return thing
