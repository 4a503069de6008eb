"""A message that a process may try, what became of the try, and when it is tried again."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any, Self

from sqlalchemy import Row

from pribble.delivery.receipts import Outcome
from pribble.delivery.states import State
from pribble.records import record

MOST_TRIES = 5
FIRST_PAUSE = 900.0  # seconds between two tries, growing by half each time
LONGEST_PAUSE = FIRST_PAUSE * 1.5 ** (MOST_TRIES - 1)
LONGEST = 4 * 86400.0  # seconds after the first try in which a deferred recipient is tried again


class Fenced(Exception):
    """A claim is not this process's any more; what it was about to say is not said."""


@record(frozen=True, slots=True)
class Tried:
    """How many `times` a recipient was tried, and when at `first`."""

    times: int
    first: float | None

    def after(self, outcome: Outcome, now: float) -> tuple[State, float]:
        """Returns the state after one more try, and when the next one may be."""
        if outcome.state != "deferred":
            return outcome.state, now
        not_before = now + FIRST_PAUSE * 1.5**self.times
        is_last = self.times + 1 >= MOST_TRIES or not_before > (self.first or now) + LONGEST
        return ("expired" if is_last else "deferred"), not_before


@record(frozen=True, slots=True)
class Claim:
    """A message that this process may try, as the `attempt` of this number; `tried` are those whom it is for."""

    id: int
    key: str
    position: int
    attempt: int
    seed: bytes
    date: float
    content: str | None
    tried: Mapping[str, Tried]

    @classmethod
    def of(cls, row: Row[Any], tried: Mapping[str, Tried]) -> Self:
        """Returns the claim on the message of a row."""
        return cls(row.id, row.key, row.position, row.attempt, row.seed, row.date, row.content, tried)

    @property
    def addresses(self) -> tuple[str, ...]:
        """Whom it is for."""
        return tuple(self.tried)


@record(frozen=True, slots=True)
class Settled:
    """What has become of a claim: `outcomes` by recipient; whoever has none goes back to planned, or is in doubt if the
    last word was about to be said."""

    claim: Claim
    outcomes: Mapping[str, Outcome]


@record(frozen=True, slots=True)
class LastWord:
    """A message of which the last word is about to be said, for these `addresses`; `content` is a digest of it, and
    `sender` the envelope's."""

    claim: Claim
    addresses: Collection[str]
    message_id: str | None
    content: str
    sender: str
