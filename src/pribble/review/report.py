"""What a check has found so far: one finding a rule and file, with the places of all."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import replace

from pribble.errors import Place
from pribble.findings import Finding, Severity
from pribble.review.rules import RULES

_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


class Report:
    """Takes findings by their rule and place; what is found twice at one place is one."""

    def __init__(self) -> None:
        self._found: list[Finding] = []
        self._known: set[tuple[object, ...]] = set()

    def add(
        self,
        rule: str,
        place: Place | None,
        *details: object,
        fix: Iterable[object] = (),
        severity: Severity | None = None,
        path: str = "",
    ) -> None:
        """Something was found under `rule`; `details` go into what the rule says, those of `fix` into what to do."""
        known = RULES[rule]
        self.take(
            Finding(
                rule,
                severity or known.severity,
                place,
                known.message.format(*details),
                known.fix.format(*fix),
                known.reference,
                path=path,
            )
        )

    def take(self, finding: Finding) -> None:
        """Take a finding that somebody else made."""
        where = finding.where
        at = (where.source.name, where.start) if where else (None, finding.message)
        key = (finding.rule, at)
        if key not in self._known:
            self._known.add(key)
            self._found.append(finding)

    def findings(self, off: Collection[str] = ()) -> list[Finding]:
        """Returns what was found, without the rules that are `off`: errors first, then by file and place."""
        groups: dict[tuple[object, ...], list[Finding]] = {}
        for one in self._found:
            if one.rule not in off:
                file = one.where.source.name if one.where else ""
                groups.setdefault((one.rule, one.severity, file), []).append(one)
        made = [_merged(group) for group in groups.values()]
        return sorted(made, key=_order)

    @property
    def all(self) -> list[Finding]:
        """Every finding by itself, in the order in which they were found."""
        return list(self._found)

    def drop(self, silenced: Collection[int]) -> None:
        """Take findings back, by their places in `all`."""
        self._found = [one for index, one in enumerate(self._found) if index not in silenced]


def _merged(group: list[Finding]) -> Finding:
    group = sorted(group, key=lambda one: one.where.start if one.where else 0)
    others = tuple(one.where for one in group[1:] if one.where is not None)
    return replace(group[0], others=others) if others else group[0]


def _order(finding: Finding) -> tuple[int, str, int, str]:
    where = finding.where
    return _ORDER[finding.severity], where.source.name if where else "", where.start if where else 0, finding.rule
