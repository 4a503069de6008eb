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

    `median` is that of the ratios round by round: both run in each, a few milliseconds apart, so that the
    machine's speed at the time does not matter.  `low` and `high` bound the middle four fifths of them.
    `first` and `second` are median times in seconds a call.
    """

    median: float
    low: float
    high: float
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
    ratios = sorted(a / b for a, b in pairs)
    return Ratio(
        statistics.median(ratios),
        ratios[len(ratios) // 10],
        ratios[-1 - len(ratios) // 10],
        statistics.median(a for a, _ in pairs),
        statistics.median(b for _, b in pairs),
    )


def timed(function: Callable[[], object], calls: int) -> float:
    """Seconds a call."""
    began = perf_counter()
    for _ in range(calls):
        function()
    return (perf_counter() - began) / calls
