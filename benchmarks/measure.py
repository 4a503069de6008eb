"""Measuring two ways of doing one thing against each other: CPU time of the thread, in turn, without the collector."""

from __future__ import annotations

import gc
import math
import statistics
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from time import thread_time_ns
from typing import Any

Way = Callable[[Any], object]


@dataclass(frozen=True, slots=True)
class Ratio:
    """The first way against the second.

    `median` is that of the ratios round by round: both run in each, one after the other, so that the machine's speed at
    the time does not matter.  `least` is the least time of the first by the least of the second.  `first` and `second`
    are median times in seconds.
    """

    median: float
    least: float
    first: float
    second: float


def compared(
    first: Way, second: Way, inputs: Sequence[Any], *, rounds: int = 600, together: int = 1, prepare: Way | None = None
) -> Ratio:
    """Call both in turn, with another of the inputs in each round, and the other one first in every second round.

    `prepare` makes of an input, untimed and anew for each round, what the first one takes.  A round may consist of
    several inputs `together`, as a batch makes one message after the other; the times are those of one.
    """
    pairs = []
    for number in range(-10, rounds // together):
        given = [inputs[(number * together + more) % len(inputs)] for more in range(together)]
        prepared = [prepare(one) for one in given] if prepare else given
        if number % 2:
            after = timed(second, *given)
            pair = timed(first, *prepared), after
        else:
            pair = timed(first, *prepared), timed(second, *given)
        if number >= 0:  # those before warm up
            pairs.append(pair)
    firsts, seconds = [a for a, _ in pairs], [b for _, b in pairs]
    return Ratio(
        statistics.median(a / b for a, b in pairs),
        min(firsts) / min(seconds),
        statistics.median(firsts),
        statistics.median(seconds),
    )


def timed(way: Way, *given: Any) -> float:
    """The seconds of CPU time that this thread takes for a call, of those for each of what is given."""
    gc.collect(0)
    gc.disable()
    try:
        began = thread_time_ns()
        for one in given:
            way(one)
        return (thread_time_ns() - began) / len(given) / 1e9
    finally:
        gc.enable()


def doubling(times: Sequence[tuple[float, float]]) -> float:
    """How many times as long twice the input takes: 2 to the slope of the logarithms of (size, seconds)."""
    sizes = [math.log(size) for size, _ in times]
    seconds = [math.log(max(took, 1e-9)) for _, took in times]
    slope = statistics.linear_regression(sizes, seconds).slope
    return float(2**slope)
