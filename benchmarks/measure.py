"""Measuring two ways of doing one thing against each other, in turn, so that a drifting machine does not matter."""

from __future__ import annotations

import gc
import statistics
from collections.abc import Callable
from dataclasses import dataclass
from time import perf_counter


@dataclass(frozen=True, slots=True)
class Ratio:
    """Medians over rounds: seconds a call of each, and the ratio of the first to the second round by round."""

    first: float
    second: float
    ratio: float
    low: float
    high: float


def compared(first: Callable[[], object], second: Callable[[], object], *, rounds: int = 25, calls: int = 40) -> Ratio:
    """Call both in turn, `calls` times a round."""
    for function in (first, second):
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
    return Ratio(statistics.median(a for a, _ in pairs), statistics.median(b for _, b in pairs),
                 statistics.median(ratios), ratios[len(ratios) // 10], ratios[-1 - len(ratios) // 10])


def timed(function: Callable[[], object], calls: int) -> float:
    """Seconds a call."""
    began = perf_counter()
    for _ in range(calls):
        function()
    return (perf_counter() - began) / calls
