"""What is reported and not refused: a message would be made, but perhaps not the one that is meant."""

from __future__ import annotations

from typing import Any, Literal

from pribble.errors import Place
from pribble.records import record

# Of one rule, more than these say nothing new.
MOST_OF_A_RULE = 20

Severity = Literal["error", "warning", "note"]


@record(frozen=True, slots=True)
class Finding:
    """One thing found in a template, a page or a message.

    `rule` names the kind, as ``group.name``; `severity` is "error", "warning" or "note"; `where` is its place, or None;
    `message` says what was found and `fix` what to do; `reference` is the section of the standard behind the rule.
    Where several are told as one, `others` are the places of the rest; `path` names the data that it is about.
    """

    rule: str
    severity: Severity
    where: Place | None
    message: str
    fix: str
    reference: str
    others: tuple[Place, ...] = ()
    path: str = ""

    def __str__(self) -> str:
        """Returns the finding in the form of an error: place, what is found, what to do, the line with carets."""
        where = f"{self.where}: " if self.where else ""
        excerpt = f"\n{self.where.excerpt()}" if self.where else ""
        return f"{where}{self.message} ({self.fix}){excerpt}"

    def as_data(self) -> dict[str, Any]:
        """Returns it for programs."""
        return {
            "rule": self.rule,
            "severity": self.severity,
            "where": self.where and self.where.as_data(),
            "message": self.message,
            "fix": self.fix,
            "reference": self.reference,
            **({"data": self.path} if self.path else {}),
            **({"others": [place.as_data() for place in self.others]} if self.others else {}),
        }
