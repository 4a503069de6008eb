"""What an audit has found so far, in the order of the message."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from pribble.errors import Source, visible
from pribble.findings import MOST_OF_A_RULE, Finding
from pribble.mime.audit.rules import RULES
from pribble.mime.grammar import WHITE_SPACE
from pribble.mime.parameters import Departure
from pribble.mime.reading import ReadField


class Octets(Source):
    """A message as a source: a character for each octet; what is shown of it is read as UTF-8."""

    __slots__ = ()

    def shown(self, start: int, end: int) -> str:
        return visible(self.text[start:end].encode("latin-1").decode("utf-8", "replace"))


class Report:
    """Takes departures by their rule and place, and keeps the first of each rule."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.counts: Counter[str] = Counter()
        self._findings: list[Finding] = []

    def add(self, rule: str, start: int, end: int, detail: object = "", *, reference: str = "") -> None:
        """Something was found under `rule`, between two offsets; `detail` goes into what the rule says, and where the
        rule is laid down for each field elsewhere, `reference` is the section."""
        self.counts[rule] += 1
        if self.counts[rule] > MOST_OF_A_RULE:
            return
        severity, section, message, fix = RULES[rule]
        place = self.source.place(start, max(end, start + 1))
        self._findings.append(Finding(rule, severity, place, message.format(detail), fix, reference or section))

    def add_all(self, departures: Iterable[Departure], base: int = 0) -> None:
        """Departures whose places are counted from `base`."""
        for one in departures:
            self.add(one.rule, base + one.start, base + one.end, one.detail)

    def add_at(self, rule: str, field: ReadField, detail: object = "") -> None:
        """Something was found about a whole field."""
        value = field.raw.rstrip(WHITE_SPACE)
        start = field.value_start + len(value) - len(value.lstrip(WHITE_SPACE))
        self.add(rule, start if value else field.start, field.value_start + len(value), detail)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """All that was kept, in the order of their places."""
        return tuple(sorted(self._findings, key=lambda f: (f.where.start if f.where else 0, f.rule)))
