"""What is told and not refused: a message would be made, but perhaps not the one that is meant."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from pribble.errors import Place

Severity = Literal["error", "warning", "note"]


@dataclass(frozen=True, slots=True)
class Finding:
    """Something found: by which `rule`, how bad, `where`, what it `says`, how to `mend` it, and the `reference` to the
    section of the standard that it rests on."""

    rule: str
    severity: Severity
    where: Place | None
    says: str
    mend: str
    reference: str

    def __str__(self) -> str:
        """The finding in the form of an error: place, what is found, how to mend it, the line with carets."""
        where = f"{self.where}: " if self.where else ""
        excerpt = f"\n{self.where.excerpt()}" if self.where else ""
        return f"{where}{self.says} ({self.mend}){excerpt}"
