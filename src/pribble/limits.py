"""What a template may multiply, and how far: bounds for templates from strangers, generous for all others."""

from __future__ import annotations

from pribble.arguments import integers
from pribble.records import record


@record(frozen=True, slots=True)
class Limits:
    """The sizes at which a template or a rendering stops with `LimitReached`.

    - `characters`: of a template, after layouts and parts are linked.
    - `output`: characters of one form of a rendering.
    - `text`: characters of any text that is computed on the way.
    - `turns`: turns of all loops together.  The items that formatters and comparisons go through count too, also those
      of lists within lists.
    - `parts`: how many parts are put into the template; `depth`: how deep within each other.
    - `steps`: how much each program of a rendering (its subject, its HTML, its text) computes.  Each call of a
      formatter, each operator, each shown value and each turn of a loop is a step, and so are each ten characters and
      each item that go into it or come out of it.  Without this limit nothing is counted, and no message pays for it;
      set it for templates that a stranger wrote.  A million steps take a few seconds.
    """

    characters: int = 2_000_000
    output: int = 20_000_000
    text: int = 1_000_000
    turns: int = 1_000_000
    parts: int = 5_000
    depth: int = 20
    steps: int | None = None

    def __post_init__(self) -> None:
        for name in Limits.__annotations__:
            value = getattr(self, name)
            if name != "steps" or value is not None:
                integers(**{name: value})
                if not 0 <= value < 2**63:
                    raise ValueError(f"{name} is at least 0, and below 2 to the power of 63")
