"""How the messages of a table are written into a journal: new ones, those that are known, those that have changed."""

from __future__ import annotations

import hashlib
import secrets
from collections import Counter
from collections.abc import Sequence
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select, update

from pribble.delivery.journal_statements import PLACE
from pribble.delivery.journal_tables import MESSAGES, RECIPIENTS
from pribble.records import record

HAD = ("accepted", "in_doubt", "committing", "returned")  # somebody has it, or may have it


@record(frozen=True, slots=True)
class Planned:
    """A message that is to be sent: its `key`, the `position` of its row, a digest of its `data`, to whom; and which of
    these get nothing."""

    key: str
    position: int
    data: str
    addresses: tuple[str, ...]
    suppressed: frozenset[str] = frozenset()


@record(frozen=True, slots=True)
class PlanResult:
    """What planning came to: how many are `new`, `known` and planned `anew`; the keys of those whose data `changed`
    after somebody had them, of those `repeated` in the table, and of those that are `gone` from it."""

    new: int
    known: int
    anew: int
    changed: tuple[str, ...]
    repeated: tuple[str, ...]
    gone: int


def hidden_key(key: str) -> str:
    """Returns what stays of a key when a message is forgotten."""
    return f"#{hashlib.sha256(key.encode('utf-8')).hexdigest()[:40]}"


def last_number(connection: Connection) -> int:
    """Returns the number of the message that was planned last.

    Numbers go up, and none is given twice: what was deleted could be taken for what is new by its late owner.
    """
    return connection.scalar(select(func.max(MESSAGES.c.id))) or 0


def message_row(number: int, job: int, one: Planned) -> dict[str, Any]:
    """Returns what the journal has of a message that is planned."""
    return {
        "id": number,
        "job": job,
        "key": one.key,
        "position": one.position,
        "data": one.data,
        "seed": secrets.token_bytes(16),
        "attempt": 0,
    }


def recipient_rows(number: int, job: int, one: Planned, now: float) -> list[dict[str, Any]]:
    """Returns what the journal has of the recipients of a message that is planned."""
    return [
        {
            "message": number,
            "job": job,
            "address": address,
            "state": "suppressed" if address in one.suppressed else "planned",
            "attempt": 0,
            "tries": 0,
            "not_before": 0.0,
            "changed": now,
        }
        for address in one.addresses
    ]


class Planning:
    """The writing of a plan, chunk by chunk, in one transaction."""

    def __init__(self, connection: Connection, job: int, now: float, change_unsent: bool) -> None:
        self._connection, self._job, self._now, self._change = connection, job, now, change_unsent
        self._seen: set[str] = set()
        self._counts: Counter[str] = Counter()
        self._changed: list[str] = []
        self._repeated: list[str] = []
        self._last = last_number(connection)
        self._places: list[dict[str, Any]] = []
        self._messages: list[dict[str, Any]] = []
        self._recipients: list[dict[str, Any]] = []
        # Those of the table of today get their positions anew.
        connection.execute(update(MESSAGES).where(MESSAGES.c.job == job).values(position=None))

    def add(self, chunk: Sequence[Planned]) -> None:
        keys = [key for one in chunk for key in (one.key, hidden_key(one.key))]
        known = {
            row.key: row
            for row in self._connection.execute(
                select(MESSAGES.c.id, MESSAGES.c.key, MESSAGES.c.data, MESSAGES.c.content).where(
                    MESSAGES.c.job == self._job, MESSAGES.c.key.in_(keys)
                )
            )
        }
        for one in chunk:
            if one.key in self._seen:
                self._repeated.append(one.key)
                continue
            self._seen.add(one.key)
            row = known.get(one.key)
            if row is None and (forgotten := known.get(hidden_key(one.key))) is not None:
                self._place(forgotten.id, one)
                self._counts["known"] += 1
            elif row is None:
                self._insert(one)
                self._counts["new"] += 1
            elif row.data == one.data and not (self._change and row.content is not None):
                self._place(row.id, one)
                self._counts["known"] += 1
            elif self._is_had(row.id):
                self._place(row.id, one)
                self._counts["known"] += 1
                if row.data != one.data:
                    self._changed.append(one.key)
            else:
                self._connection.execute(delete(RECIPIENTS).where(RECIPIENTS.c.message == row.id))
                self._connection.execute(delete(MESSAGES).where(MESSAGES.c.id == row.id))
                self._insert(one)
                self._counts["anew"] += 1
        self._write()

    def _place(self, message: int, one: Planned) -> None:
        self._places.append({"p_message": message, "p_position": one.position})

    def _is_had(self, message: int) -> bool:
        query = select(func.count()).where(RECIPIENTS.c.message == message, RECIPIENTS.c.state.in_(HAD))
        return bool(self._connection.scalar(query))

    def _insert(self, one: Planned) -> None:
        self._last += 1
        self._messages.append(message_row(self._last, self._job, one))
        self._recipients += recipient_rows(self._last, self._job, one, self._now)

    def _write(self) -> None:
        """Write down what has gathered, each kind at once."""
        for statement, given in (
            (PLACE, self._places),
            (insert(MESSAGES), self._messages),
            (insert(RECIPIENTS), self._recipients),
        ):
            if given:
                self._connection.execute(statement, given)
                given.clear()

    def result(self) -> PlanResult:
        gone = self._connection.scalar(
            select(func.count()).where(MESSAGES.c.job == self._job, MESSAGES.c.position.is_(None))
        )
        counts = self._counts
        return PlanResult(
            counts["new"], counts["known"], counts["anew"], tuple(self._changed), tuple(self._repeated), int(gone or 0)
        )
