"""What became of a message, by recipient."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import UTC, datetime
from typing import Literal

from pribble.delivery.replies import Reply, enhanced_code, printable_line
from pribble.mime.base import BaseMessage
from pribble.records import record

# A server took it, for good or, as far as it said, never; or may take it later; or was not heard of again after all of
# it was said (RFC 1047).  These are the states of states.py in which one try can end.
FinalState = Literal["accepted", "refused", "deferred", "in_doubt"]


@record(frozen=True, slots=True)
class Outcome:
    """What became of a message for one `recipient`: its `state`; the server's reply `code`, its `enhanced` code
    (RFC 3463) and `message`, in one line; and when, `at`.

    A folder has no codes.
    """

    recipient: str
    state: FinalState
    code: int | None
    enhanced: str | None
    message: str
    at: datetime

    def __str__(self) -> str:
        """Returns it in a line: ``ana@example.org: accepted (250 2.0.0 kept)``."""
        code = f"{self.code} " if self.code else ""
        return f"{self.recipient}: {self.state.replace('_', ' ')} ({code}{self.message})"


@record(frozen=True, slots=True)
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


def outcome_of_reply(recipient: str, state: FinalState, reply: Reply) -> Outcome:
    """Returns the outcome that a server's reply means."""
    return Outcome(recipient, state, reply.code, reply.enhanced, reply.text, datetime.now(UTC))


def outcome_of_words(recipient: str, state: FinalState, words: str) -> Outcome:
    """Returns an outcome that no server spoke of: what `words` say, which may hold what a program said."""
    line = printable_line(words.encode("utf-8", "replace"))
    return Outcome(recipient, state, None, enhanced_code(line), line, datetime.now(UTC))


def receipt_of(message: BaseMessage, recipients: Iterable[str], outcomes: Mapping[str, Outcome]) -> Receipt:
    """Returns the receipt for a message, with the outcomes in the order of `recipients`."""
    return Receipt(message.message_id or "", tuple(outcomes[one] for one in recipients))


def same_for_all(message: BaseMessage, recipients: Iterable[str], state: FinalState, words: str) -> Receipt:
    """Returns the receipt of a message of which the same is true for all these recipients."""
    return Receipt(message.message_id or "", tuple(outcome_of_words(one, state, words) for one in recipients))
