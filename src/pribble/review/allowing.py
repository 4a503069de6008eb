"""Remarks that silence a rule: ``{{ # allow contrast.picture: the dark scheme has its own logo }}``.

Before the first element of a file one holds for the file; else for the element that it stands before or in.
"""

from __future__ import annotations

import math
from bisect import bisect_right
from collections import deque
from collections.abc import Iterable, Iterator

from pribble.errors import Place, Source, TemplateError
from pribble.language.marks import Mark, cut_marks
from pribble.markup.events import Closed, Opened
from pribble.markup.foreign_pages import read_foreign_page
from pribble.records import record
from pribble.regexes import regex
from pribble.review.report import CheckReport
from pribble.review.rules import RULES

_ALLOW = regex(r"\s*+#\s*+allow\s")
_FIRST_TAG = regex(r"<[A-Za-z]")
_SPACE = regex(r"\s*+")


@record(frozen=True, slots=True)
class Allowed:
    """A remark that allows what a rule finds, in its source from `start` to `end`.

    These stretches are elements, or the whole source: two of them are apart, or one is within the other.
    """

    rule: str
    reason: str
    place: Place
    start: int
    end: int


def apply_allowed(report: CheckReport, sources: Iterable[Source], known: Iterable[str]) -> None:
    """Take back what remarks in the sources allow; report a remark that allows nothing."""
    remarks = [one for source in sources for one in allowed_in(source)]
    rules = {*RULES, *known}
    for remark in remarks:
        if remark.rule not in rules:
            report.add("allow.unknown", remark.place, remark.rule[:40])
        elif not remark.reason:
            report.add("allow.reason", remark.place, fix=(remark.rule,))
    sound = [one for one in remarks if one.reason and one.rule in rules]
    allowing: dict[tuple[str, str], list[Allowed]] = {}
    for one in sound:
        allowing.setdefault((one.rule, one.place.source.name), []).append(one)
    found: dict[tuple[str, str], list[tuple[int, int]]] = {}
    for index, finding in enumerate(report.all):
        if finding.where is not None:
            found.setdefault((finding.rule, finding.where.source.name), []).append((finding.where.start, index))
    silenced: set[int] = set()
    used: set[int] = set()
    for key, group in allowing.items():
        _silence(group, found.get(key, ()), silenced, used)
    report.drop(silenced)
    for one in sound:
        if id(one) not in used:
            report.add("allow.idle", one.place, one.rule)


def _silence(group: Iterable[Allowed], found: Iterable[tuple[int, int]], silenced: set[int], used: set[int]) -> None:
    """Take note of which findings the remarks of one rule in one source allow, and which of the remarks do, in one
    walk through the source; `found` are the offsets of the findings, and their numbers."""
    waiting = deque(sorted(group, key=lambda one: (one.start, -one.end)))
    around: list[Allowed] = []

    def leave(offset: float) -> None:
        while around and around[-1].end <= offset:
            inner = around.pop()
            if around and id(inner) in used:  # what is in it is in the one around it too
                used.add(id(around[-1]))

    for offset, number in sorted(found):
        while waiting and waiting[0].start <= offset:
            leave(waiting[0].start)
            around.append(waiting.popleft())
        leave(offset)
        if around:
            silenced.add(number)
            used.add(id(around[-1]))
    leave(math.inf)


def allowed_in(source: Source) -> Iterator[Allowed]:
    """Yields the remarks of a source that allow something."""
    try:
        marks = [each for each in cut_marks(source) if isinstance(each, Mark) and each.remark]
    except TemplateError:  # told when the template is compiled
        return
    found = [(mark, said) for mark in marks if (said := _read_remark(source.text[mark.inner_start : mark.inner_end]))]
    if not found:
        return
    first = _FIRST_TAG.search(source.text)
    stretches = _remark_stretches(source.text, [mark for mark, _ in found])
    for (mark, said), (start, end) in zip(found, stretches, strict=True):
        if first is None or mark.start < first.start():
            start, end = 0, len(source.text)
        yield Allowed(*said, source.place(mark.start, mark.end), start, max(end, start + 1))


def _read_remark(remark: str) -> tuple[str, str] | None:
    """Returns the rule that a remark allows, and the reason; None for another remark."""
    found = _ALLOW.match(remark)
    if found is None:
        return None
    rule, _, reason = remark[found.end() :].partition(":")
    return rule.strip(), reason.strip()


def _elements(text: str) -> list[tuple[int, int]]:
    """Returns where the elements of a source begin and end, as they are written there."""
    made: list[tuple[int, int]] = []
    opened: list[tuple[int, bool]] = []
    for event in read_foreign_page(text).events:
        match event:
            case Opened(tag=tag, void=void, implied=implied):
                if void:
                    made.append((tag.start, tag.end))
                else:
                    opened.append((tag.start, implied))
            case Closed(end=end):
                start, implied = opened.pop()
                if not implied:
                    made.append((start, end))
    return sorted(made)


def _remark_stretches(text: str, remarks: Iterable[Mark]) -> Iterator[tuple[int, int]]:
    """Yields for each remark, in their order, the element that it stands before, or the innermost that it stands in;
    the whole text where there is none."""
    elements = _elements(text)
    around: list[tuple[int, int]] = []
    begun = 0
    for mark in remarks:
        while begun < len(elements) and elements[begun][0] <= mark.start:
            while around and around[-1][1] <= elements[begun][0]:
                around.pop()
            around.append(elements[begun])
            begun += 1
        while around and around[-1][1] <= mark.start:
            around.pop()
        index = bisect_right(elements, (mark.end, 0))
        space = _SPACE.match(text, mark.end)
        if index < len(elements) and space is not None and space.end() >= elements[index][0]:
            yield elements[index]
        else:
            yield around[-1] if around else (0, len(text))
