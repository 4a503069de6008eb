"""Traces: where each stretch of a rendering comes from, as marks among its pieces.

Only a traced program makes them (`pribble.compiler.tracing`); they stand between pieces and say nothing themselves.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from enum import Enum

from pribble.records import record


@record(frozen=True, slots=True)
class Origin:
    """What the author wrote, from `start` to `end` of the linked source."""

    start: int
    end: int


@record(frozen=True, slots=True)
class ShownValue:
    """What a mark shows: `number` is that of the mark among the traced ones, `turns` are the loops around it by their
    numbers, each with the turn it is in, outermost first."""

    number: int
    turns: tuple[tuple[int, int], ...]


@record(frozen=True, slots=True)
class TraceBegin:
    """From here to the next end the text comes from there."""

    source: Origin | ShownValue


class TraceEnd(Enum):
    """Where it ends."""

    END = "end"


TRACE_END = TraceEnd.END
TraceMark = TraceBegin | TraceEnd


@record(frozen=True, slots=True)
class TracedRange:
    """A stretch of a text, and where it comes from."""

    start: int
    end: int
    source: Origin | ShownValue

    def within(self, start: int, end: int) -> TracedRange | None:
        """Returns what of it stands from `start` to `end`; None for nothing."""
        if self.start == self.end:
            return self if start <= self.start < end else None
        first, last = max(self.start, start), min(self.end, end)
        if first >= last:
            return None
        source = self.source
        if isinstance(source, Origin) and (first, last) != (self.start, self.end):
            source = Origin(source.start + first - self.start, source.start + last - self.start)
        return TracedRange(first, last, source)


def traced_ranges(pieces: Iterable[object], texts: Iterable[str]) -> list[TracedRange]:
    """Returns the ranges that the traces among `pieces` make, in the text that their `texts` are together."""
    ranges: list[TracedRange] = []
    begun: tuple[int, Origin | ShownValue] | None = None
    offset = 0
    for piece, text in zip(pieces, texts, strict=True):
        if isinstance(piece, TraceBegin):
            begun = offset, piece.source
        elif piece is TRACE_END and begun is not None:
            ranges.append(TracedRange(begun[0], offset, begun[1]))
            begun = None
        offset += len(text)
    return ranges


def with_traces(text: str, start: int, end: int, ranges: Sequence[TracedRange]) -> Iterator[str | TraceMark]:
    """Yields a stretch of a text with the traces of `ranges`, which ascend and do not overlap."""
    position = start
    for one in ranges:
        if position < one.start:
            yield text[position : one.start]
        yield TraceBegin(one.source)
        if one.start < one.end:
            yield text[one.start : one.end]
        yield TRACE_END
        position = one.end
    if position < end:
        yield text[position:end]


class RangesInOrder:
    """Finds the ranges within one stretch after another, where most stretches ascend."""

    def __init__(self, ranges: Sequence[TracedRange]) -> None:
        self._ranges = ranges
        self._next = 0

    def within(self, start: int, end: int) -> list[TracedRange]:
        """Returns what of the ranges stands from `start` to `end`."""
        ranges, index = self._ranges, self._next
        while index and ranges[index - 1].end > start:
            index -= 1
        while index < len(ranges) and ranges[index].end < start:
            index += 1
        found: list[TracedRange] = []
        while index < len(ranges) and ranges[index].start < end:
            if (inside := ranges[index].within(start, end)) is not None:
                found.append(inside)
            index += 1
        self._next = index
        return found
