"""Remarks that silence a rule: ``{{ # allow contrast.picture: the dark scheme has its own logo }}``.

Before the first element of a file one holds for the file; else for the element that it stands before or in.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from pribble.errors import Place, Source, TemplateError
from pribble.language.marks import Mark, cut_marks
from pribble.markup.events import Closed, Opened
from pribble.markup.foreign_pages import read_foreign_page
from pribble.review.report import CheckReport
from pribble.review.rules import RULES

_ALLOW = re.compile(r"\s*+#\s*+allow\s")
_FIRST_TAG = re.compile(r"<[A-Za-z]")


@dataclass(frozen=True, slots=True)
class Allowed:
    """A remark that allows what a rule finds, in its source from `start` to `end`."""

    rule: str
    reason: str
    place: Place
    start: int
    end: int

    def silences(self, rule: str, place: Place) -> bool:
        """Returns whether a finding of a rule at a place is allowed."""
        return (
            self.rule == rule
            and place.source.name == self.place.source.name
            and self.start <= place.start < max(self.end, self.start + 1)
        )


def apply_allowed(report: CheckReport, sources: Iterable[Source], known: Iterable[str]) -> None:
    """Take back what remarks in the sources allow; report a remark that allows nothing."""
    remarks = [one for source in sources for one in allowed_in(source)]
    rules = {*RULES, *known}
    silenced: set[int] = set()
    used: set[int] = set()
    for remark in remarks:
        if remark.rule not in rules:
            report.add("allow.unknown", remark.place, remark.rule[:40])
        elif not remark.reason:
            report.add("allow.reason", remark.place, fix=(remark.rule,))
    sound = [(number, one) for number, one in enumerate(remarks) if one.reason and one.rule in rules]
    by_rule: dict[str, list[tuple[int, Allowed]]] = {}
    for number, one in sound:
        by_rule.setdefault(one.rule, []).append((number, one))
    for index, finding in enumerate(report.all):
        for number, one in by_rule.get(finding.rule, ()):
            if finding.where is not None and one.silences(finding.rule, finding.where):
                silenced.add(index)
                used.add(number)
    report.drop(silenced)
    for number, one in sound:
        if number not in used:
            report.add("allow.idle", one.place, one.rule)


def allowed_in(source: Source) -> Iterator[Allowed]:
    """Yields the remarks of a source that allow something."""
    try:
        marks = [each for each in cut_marks(source) if isinstance(each, Mark) and each.remark]
    except TemplateError:  # told when the template is compiled
        return
    found = [(mark, said) for mark in marks if (said := _read_remark(source.text[mark.inner_start : mark.inner_end]))]
    if not found:
        return
    elements = _elements(source.text)
    first = _FIRST_TAG.search(source.text)
    for mark, said in found:
        place = source.place(mark.start, mark.end)
        if first is None or mark.start < first.start():
            start, end = 0, len(source.text)
        else:
            start, end = _element_at(source.text, elements, mark)
        yield Allowed(*said, place, start, end)


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


def _element_at(text: str, elements: list[tuple[int, int]], mark: Mark) -> tuple[int, int]:
    """Returns the element that a remark stands before, or the innermost that it stands in."""
    index = bisect_right(elements, (mark.end, 0))
    if index < len(elements) and not text[mark.end : elements[index][0]].strip():
        return elements[index]
    around = [(start, end) for start, end in elements[:index] if start <= mark.start < end]
    return around[-1] if around else (0, len(text))
