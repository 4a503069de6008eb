"""What a journal holds of events: the whole messages of each, in one transaction, until they are settled.

A message of an event is one of the job "event/name", with the event's key.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from sqlalchemy import ColumnElement, Connection, delete, exists, func, insert, select, update

from pribble.delivery.claims import Claim
from pribble.delivery.journal import Entry, Journal
from pribble.delivery.journal_planning import Planned, hidden_key, last_number, message_row, recipient_rows
from pribble.delivery.journal_statements import WAITING
from pribble.delivery.journal_tables import (
    EVENTS,
    JOBS,
    MESSAGES,
    RECIPIENTS,
    STORED,
    JournalError,
    clock,
    wait_for_turn,
)
from pribble.mime.base import BaseMessage
from pribble.mime.message import Message


@dataclass(frozen=True, slots=True)
class ToStore:
    """A message of an event: the `name` that tells it from the event's others, the name of the transport that it goes
    `through`, which of its recipients get nothing, and for how many seconds it is tried."""

    name: str
    message: BaseMessage
    through: str
    suppressed: frozenset[str] = frozenset()
    valid_for: float | None = None


@dataclass(frozen=True, slots=True)
class Waiting:
    """A job of an event of which messages wait, and the transport that they go `through`."""

    job: str
    through: str


def job_of(event: str, name: str) -> str:
    """Returns the job of an event's messages with a name."""
    return f"{event}/{name}"


def is_posted(journal: Journal, event: str, key: str) -> bool:
    """Returns whether an event was posted with this key."""
    with journal.transaction() as connection:
        return _is_known(connection, event, key)


def _is_known(connection: Connection, event: str, key: str) -> bool:
    same = EVENTS.c.event == event, EVENTS.c.key.in_((key, hidden_key(key)))
    return bool(connection.scalar(select(func.count()).select_from(EVENTS).where(*same)))


def store(journal: Journal, event: str, key: str, messages: Sequence[ToStore]) -> bool:
    """Keep all messages of an event, or none; returns False where it was posted before, and nothing is kept."""
    with journal.transaction() as connection:
        wait_for_turn(connection)
        if _is_known(connection, event, key):
            return False
        now = clock(connection)
        connection.execute(insert(EVENTS).values(event=event, key=key, posted=now))
        for number, one in enumerate(messages, last_number(connection) + 1):
            job = _known_job(connection, job_of(event, one.name))
            raw, envelope = one.message.with_bcc(), one.message.envelope
            digest = hashlib.sha256(raw).hexdigest()
            planned = Planned(key, number, digest, envelope.recipients, one.suppressed)
            row = message_row(number, job, planned)
            connection.execute(insert(MESSAGES), {**row, "message_id": one.message.message_id})
            not_after = None if one.valid_for is None else now + one.valid_for
            known = {"message": number, "through": one.through, "sender": envelope.sender, "content": raw}
            connection.execute(insert(STORED), {**known, "not_after": not_after})
            connection.execute(insert(RECIPIENTS), recipient_rows(number, job, planned, now))
        return True


def _known_job(connection: Connection, name: str) -> int:
    """Returns the id of the job with a name, which is made where it is not there."""
    job = connection.scalar(select(JOBS.c.id).where(JOBS.c.name == name))
    if job is None:
        made = connection.execute(insert(JOBS).values(name=name, template=""))
        job = made.inserted_primary_key[0]  # type: ignore[index]
    return int(job)


def stored_message(journal: Journal, claim: Claim) -> BaseMessage:
    """Returns the message of a claim, byte for byte as it was stored."""
    with journal.transaction() as connection:
        found = connection.execute(select(STORED).where(STORED.c.message == claim.id)).one_or_none()
    if found is None:
        raise JournalError(f"{claim.key}: its message is not kept any more")
    return Message.from_bytes(found.content, envelope_sender=found.sender)


def expire(journal: Journal) -> None:
    """Let nobody try what nobody wants any more."""
    with journal.transaction() as connection:
        now = clock(connection)
        late = select(STORED.c.message).where(STORED.c.not_after < now)
        connection.execute(
            update(RECIPIENTS)
            .where(RECIPIENTS.c.message.in_(late), RECIPIENTS.c.state.in_(WAITING))
            .values(state="expired", changed=now)
        )


def erase_settled(journal: Journal) -> None:
    """Forget the messages of which nothing becomes any more; what is in doubt may have to be sent again."""
    open_ = exists().where(
        RECIPIENTS.c.message == STORED.c.message,
        RECIPIENTS.c.state.in_((*WAITING, "started", "committing", "in_doubt")),
    )
    with journal.transaction() as connection:
        connection.execute(delete(STORED).where(~open_))


def waiting(journal: Journal, event: str | None = None, key: str | None = None) -> Iterator[Waiting]:
    """Returns the jobs of which messages wait: of all events or of one, of all keys or of one."""
    query = (
        select(JOBS.c.name, STORED.c.through, func.min(MESSAGES.c.id).label("first"))
        .join(MESSAGES, MESSAGES.c.job == JOBS.c.id)
        .join(STORED, STORED.c.message == MESSAGES.c.id)
        .where(exists().where(RECIPIENTS.c.message == MESSAGES.c.id, RECIPIENTS.c.state.in_((*WAITING, "in_doubt"))))
        .group_by(JOBS.c.name, STORED.c.through)
        .order_by("first")
    )
    if event is not None:
        query = query.where(JOBS.c.name.startswith(f"{event}/", autoescape=True))
    if key is not None:
        query = query.where(MESSAGES.c.key == key)
    with journal.transaction() as connection:
        found = connection.execute(query).all()
    return (Waiting(name, through) for name, through, _ in found)


def is_under_way(journal: Journal, event: str, key: str) -> bool:
    """Returns whether somebody is trying a message of an event now."""
    query = (
        select(func.count())
        .select_from(RECIPIENTS)
        .join(MESSAGES, MESSAGES.c.id == RECIPIENTS.c.message)
        .join(JOBS, JOBS.c.id == MESSAGES.c.job)
        .where(*_of_event(event, key), RECIPIENTS.c.state.in_(("started", "committing")))
    )
    with journal.transaction() as connection:
        return bool(connection.scalar(query))


def _of_event(event: str, key: str) -> tuple[ColumnElement[bool], ...]:
    """Returns the conditions that a message is of an event."""
    return MESSAGES.c.key.in_((key, hidden_key(key))), JOBS.c.name.startswith(f"{event}/", autoescape=True)


def entries_of_event(journal: Journal, event: str, key: str) -> dict[str, list[Entry]]:
    """Returns what is known of an event's messages, by name."""
    query = (
        select(RECIPIENTS, MESSAGES.c.key, MESSAGES.c.message_id, JOBS.c.name)
        .join(MESSAGES, MESSAGES.c.id == RECIPIENTS.c.message)
        .join(JOBS, JOBS.c.id == MESSAGES.c.job)
        .where(*_of_event(event, key))
        .order_by(RECIPIENTS.c.id)
    )
    found: dict[str, list[Entry]] = {}
    with journal.transaction() as connection:
        for row in connection.execute(query).mappings():
            name = row["name"].removeprefix(f"{event}/")
            found.setdefault(name, []).append(Entry(**{field: row[field] for field in Entry.__dataclass_fields__}))
    return found
