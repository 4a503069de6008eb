"""Two sequences beside each other: what both have, in order, and what only one has between.

What is there once in both is matched first, as far as it stands in one order; between these the same again.  The time
grows as n·log n; what is left without such a match counts as changed as a whole.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Iterator, Sequence

from pribble.records import record

# Matches within matches are looked for so deep.
_DEEPEST = 60


@record(frozen=True, slots=True)
class Run:
    """A run of one sequence and that of the other which takes its place, by offsets; `same` where they are equal."""

    same: bool
    old_start: int
    old_end: int
    new_start: int
    new_end: int


def aligned(old: Sequence[Hashable], new: Sequence[Hashable]) -> list[Run]:
    """Returns two sequences as runs, in order; runs of one kind follow one of the other."""
    runs: list[Run] = []
    for run in _runs(old, new, 0, len(old), 0, len(new)):
        if run.old_start == run.old_end and run.new_start == run.new_end:
            continue
        if runs and runs[-1].same == run.same:
            last = runs.pop()
            run = Run(run.same, last.old_start, run.old_end, last.new_start, run.new_end)
        runs.append(run)
    return runs


def _runs(
    old: Sequence[Hashable], new: Sequence[Hashable], first: int, last: int, begin: int, end: int
) -> Iterator[Run]:
    """Yields the runs between two pairs of offsets, without recursion: what is left to do stands on a stack."""
    left: list[tuple[int, int, int, int, int, bool]] = [(first, last, begin, end, 0, False)]
    while left:
        first, last, begin, end, depth, is_same = left.pop()
        if is_same:
            yield Run(True, first, last, begin, end)
            continue
        start = first
        while first < last and begin < end and old[first] == new[begin]:
            first, begin = first + 1, begin + 1
        yield Run(True, start, first, begin - (first - start), begin)
        tail = 0
        while last - tail > first and end - tail > begin and old[last - tail - 1] == new[end - tail - 1]:
            tail += 1
        todo = [(last - tail, last, end - tail, end, 0, True)]
        last, end = last - tail, end - tail
        anchors = _anchors(old, new, first, last, begin, end) if depth < _DEEPEST else []
        if not anchors:
            yield Run(False, first, last, begin, end)
        else:
            for here, there in [*anchors, (last, end)]:
                todo.insert(-1, (first, here, begin, there, depth + 1, False))
                first, begin = here, there
        left += reversed(todo)


def _anchors(
    old: Sequence[Hashable], new: Sequence[Hashable], first: int, last: int, begin: int, end: int
) -> list[tuple[int, int]]:
    """Returns the offsets of what is there once in both, as many as stand in one order."""
    counts, others = Counter(old[first:last]), Counter(new[begin:end])
    places = {one: place for place, one in enumerate(new[begin:end], begin) if others[one] == 1}
    pairs = [
        (place, places[one]) for place, one in enumerate(old[first:last], first) if counts[one] == 1 and one in places
    ]
    return _longest_ascent(pairs)


def _longest_ascent(pairs: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Returns the longest run of pairs whose second offsets ascend, as the first ones do."""
    ends: list[int] = []
    which: list[int] = []
    before: list[int] = []
    for index, (_, offset) in enumerate(pairs):
        at = bisect_left(ends, offset)
        before.append(which[at - 1] if at else -1)
        if at == len(ends):
            ends.append(offset)
            which.append(index)
        else:
            ends[at], which[at] = offset, index
    made: list[tuple[int, int]] = []
    index = which[-1] if which else -1
    while index >= 0:
        made.append(pairs[index])
        index = before[index]
    return made[::-1]
