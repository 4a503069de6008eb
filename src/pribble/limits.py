"""What a template may multiply, and how far: bounds for templates from strangers, generous for all others."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Limits:
    """Where a template or rendering stops with `LimitReached`.

    `characters`: of a template after layouts and parts are linked.  `output`: characters of one form of a
    rendering.  `text`: characters of any text computed on the way.  `turns`: turns of all loops together;
    list formatters and ``in`` count too.  `parts`: how many parts are put, `depth`: how deep within each
    other.
    """

    characters: int = 2_000_000
    output: int = 20_000_000
    text: int = 1_000_000
    turns: int = 1_000_000
    parts: int = 5_000
    depth: int = 20
