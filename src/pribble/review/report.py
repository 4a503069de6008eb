"""What a check has found so far: one finding a rule and file, with the places of all."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from pribble.errors import Place, Source
from pribble.findings import Finding, Severity
from pribble.records import record, replace
from pribble.review.rules import RULES

# So many of the fields that are missing are named in one finding.
_MOST_NAMED = 12
_ORDER: dict[str, int] = {"error": 0, "warning": 1, "note": 2}


@record(frozen=True, slots=True)
class Repair:
    """What mends a finding by itself: an attribute that is put into a tag, at `offset` of a source.

    `rule` and `start` are the finding's: what is not found any more is not mended.
    """

    rule: str
    source: Source
    start: int
    offset: int
    text: str


class CheckReport:
    """Takes findings by their rule and place; what is found twice at one place is one."""

    def __init__(self) -> None:
        self._found: list[Finding] = []
        self._known: set[tuple[object, ...]] = set()
        self._repairs: dict[tuple[str, int, str], Repair] = {}

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

    def absorb(self, other: CheckReport) -> None:
        """Take all that another report took."""
        for finding in other._found:
            self.take(finding)
        for key, repair in other._repairs.items():
            self._repairs.setdefault(key, repair)

    def mend(self, rule: str, tag: Place | None, name: str, attribute: str, *, of: Place | None = None) -> None:
        """What was found under a rule at a tag is mended by an attribute, where the tag is written in a file; `of` is
        the place of the finding where that is another one."""
        if tag is None:
            return
        begun = f"<{name}"
        offset = tag.start + len(begun)
        if tag.source.text[tag.start : offset].lower() == begun:
            key = tag.source.name, offset, attribute.partition("=")[0]
            self._repairs.setdefault(key, Repair(rule, tag.source, (of or tag).start, offset, f" {attribute}"))

    def repairs(self, off: Collection[str] = ()) -> list[Repair]:
        """Returns what mends the findings that are left, in the order of files and offsets."""
        left = {(one.rule, one.where.source.name, one.where.start) for one in self._found if one.where}
        made = [one for one in self._repairs.values() if (one.rule, one.source.name, one.start) in left]
        return sorted((one for one in made if one.rule not in off), key=lambda one: (one.source.name, one.offset))

    def findings(self, off: Collection[str] = ()) -> list[Finding]:
        """Returns what was found, without the rules that are `off`: errors first, then by file and place."""
        groups: dict[tuple[object, ...], list[Finding]] = {}
        for one in self._found:
            if one.rule not in off:
                file = one.where.source.name if one.where else ""
                groups.setdefault((one.rule, one.severity, file), []).append(one)
        made = [_merged(group) for group in groups.values()]
        return sorted(made, key=_finding_order)

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
    if group[0].rule == "data.missing" and len(group) > 1:  # each field is named
        said = list(dict.fromkeys(one.message for one in group))
        more = f"; and {len(said) - _MOST_NAMED} more" if len(said) > _MOST_NAMED else ""
        first = replace(group[0], message="; ".join(said[:_MOST_NAMED]) + more, fix=RULES["data.missing"].fix)
        return replace(first, others=others)
    return replace(group[0], others=others) if others else group[0]


def _finding_order(finding: Finding) -> tuple[int, str, int, str]:
    where = finding.where
    return _ORDER[finding.severity], where.source.name if where else "", where.start if where else 0, finding.rule
