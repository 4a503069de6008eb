"""Measuring two ways of doing one thing against each other, in turn, so that a drifting machine does not matter."""

from __future__ import annotations

import gc
import statistics
from collections.abc import Callable
from dataclasses import dataclass
from time import perf_counter


@dataclass(frozen=True, slots=True)
class Ratio:
    """The first way against the second.

    `best` is the ratio of the least times of each: other work on the machine can only add to a time, so these
    are the least disturbed.  `median` is that of the ratios round by round.  `first` and `second` are the
    least times in seconds a call.
    """

    best: float
    median: float
    first: float
    second: float


def compared(first: Callable[[], object], second: Callable[[], object], *, rounds: int = 300, calls: int = 4) -> Ratio:
    """Call both in turn, `calls` times a round."""
    for function in (first, second):
        for _ in range(20):
            function()
    pairs = []
    gc.disable()
    try:
        for number in range(rounds):
            order = (first, second) if number % 2 else (second, first)
            took = {function: timed(function, calls) for function in order}
            pairs.append((took[first], took[second]))
    finally:
        gc.enable()
    least = min(a for a, _ in pairs), min(b for _, b in pairs)
    return Ratio(least[0] / least[1], statistics.median(a / b for a, b in pairs), *least)


def timed(function: Callable[[], object], calls: int) -> float:
    """Seconds a call."""
    began = perf_counter()
    for _ in range(calls):
        function()
    return (perf_counter() - began) / calls
