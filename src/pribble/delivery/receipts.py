"""What became of a message, by recipient."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Literal

# A server took it, for good or, as far as it said, never; or may take it later; or was not heard of again after all of
# it was said (RFC 1047).
State = Literal["accepted", "refused", "deferred", "in_doubt"]

# RFC 3463 2:  status-code = class "." subject "." detail
_ENHANCED = re.compile(r"([245]\.[0-9]{1,3}\.[0-9]{1,3})(?:[ \t]|$)")
_LONGEST_REPLY = 500


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a message for one `recipient`: its `state`; the server's reply `code`, its `enhanced` code
    (RFC 3463) and `message`, in one line; and when, `at`.

    A folder has no codes.
    """

    recipient: str
    state: State
    code: int | None
    enhanced: str | None
    message: str
    at: datetime

    def __str__(self) -> str:
        """Returns it in a line: ``ana@example.org: accepted (250 2.0.0 kept)``."""
        code = f"{self.code} " if self.code else ""
        return f"{self.recipient}: {self.state.replace('_', ' ')} ({code}{self.message})"


@dataclass(frozen=True, slots=True)
class Receipt:
    """What became of the message with this `message_id`: an `Outcome` for each recipient, in the envelope's order."""

    message_id: str
    outcomes: tuple[Outcome, ...]

    def __str__(self) -> str:
        """Returns its outcomes in a line."""
        return "; ".join(map(str, self.outcomes))

    @property
    def is_accepted(self) -> bool:
        """Whether it was taken for everybody."""
        return all(outcome.state == "accepted" for outcome in self.outcomes)

    @property
    def left(self) -> tuple[str, ...]:
        """The recipients who may get it by another try: all but those who have it, who may have it, or were refused."""
        return tuple(outcome.recipient for outcome in self.outcomes if outcome.state == "deferred")

    def as_data(self) -> Mapping[str, object]:
        """Returns the receipt, for programs."""
        return {
            "message_id": self.message_id,
            "outcomes": [
                {
                    "recipient": one.recipient,
                    "state": one.state,
                    "code": one.code,
                    "enhanced": one.enhanced,
                    "message": one.message,
                }
                for one in self.outcomes
            ],
        }


def outcome_of_reply(recipient: str, state: State, code: int | None, answer: bytes | str) -> Outcome:
    """Returns the outcome that a server's answer means; the answer is somebody else's text, of which one line is
    kept."""
    text = answer.decode("utf-8", "replace") if isinstance(answer, bytes) else answer
    line = " ".join("".join(c if c.isprintable() else " " for c in text).split())[:_LONGEST_REPLY]
    found = _ENHANCED.match(line)
    return Outcome(recipient, state, code, found[1] if found else None, line, datetime.now(UTC))


def state_of(code: int) -> State:
    """Returns what a reply code means for a recipient (RFC 5321 4.2.1)."""
    return "accepted" if 200 <= code < 300 else "deferred" if 400 <= code < 500 else "refused"
