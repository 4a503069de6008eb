"""What a journal holds of events: the whole messages of each, in one transaction, until they are settled.

A message of an event is one of the job "event/name", with the event's key.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence

from sqlalchemy import (
    BindParameter,
    ColumnElement,
    Connection,
    Integer,
    bindparam,
    delete,
    exists,
    func,
    insert,
    select,
    update,
)

from pribble.delivery.claims import Claim, Tried
from pribble.delivery.journal import Entry, Journal
from pribble.delivery.journal_planning import Planned, hidden_key, last_number, message_row, recipient_rows
from pribble.delivery.journal_statements import WAITING, is_due_at
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
from pribble.records import record

# Built once: they are run for each event, and building one takes longer than running it.
_KEYS: BindParameter[Sequence[str]] = bindparam("p_keys", expanding=True)
_KNOWN_EVENT = (
    select(func.count()).select_from(EVENTS).where(EVENTS.c.event == bindparam("p_event"), EVENTS.c.key.in_(_KEYS))
)
_KNOWN_JOB = select(JOBS.c.id).where(JOBS.c.name == bindparam("p_job"))
_STORED_MESSAGE = select(STORED).where(STORED.c.message == bindparam("p_message"))
# From the event's few jobs to its messages, and on to their recipients: along the indexes, however much else is kept.
_IN_EVENT = MESSAGES.c.id.in_(
    select(MESSAGES.c.id).where(
        MESSAGES.c.job.in_(
            select(JOBS.c.id).where(
                func.substr(JOBS.c.name, 1, bindparam("p_length", type_=Integer)) == bindparam("p_begins")
            )
        ),
        MESSAGES.c.key.in_(_KEYS),
    )
)
_ENTRIES = (
    select(RECIPIENTS, MESSAGES.c.key, MESSAGES.c.message_id, JOBS.c.name)
    .join(MESSAGES, MESSAGES.c.id == RECIPIENTS.c.message)
    .join(JOBS, JOBS.c.id == MESSAGES.c.job)
    .where(_IN_EVENT)
    .order_by(RECIPIENTS.c.id)
)
_UNDER_WAY = (
    select(func.count())
    .select_from(RECIPIENTS)
    .join(MESSAGES, MESSAGES.c.id == RECIPIENTS.c.message)
    .where(_IN_EVENT, RECIPIENTS.c.state.in_(("started", "committing")))
)
_ERASE_SETTLED = delete(STORED).where(
    ~exists().where(
        RECIPIENTS.c.message == STORED.c.message,
        RECIPIENTS.c.state.in_((*WAITING, "started", "committing", "in_doubt")),
    )
)
_ERASE_SETTLED_OF_EVENT = _ERASE_SETTLED.where(STORED.c.message.in_(select(MESSAGES.c.id).where(_IN_EVENT)))


@record(frozen=True, slots=True)
class ToStore:
    """A message of an event: the `name` that tells it from the event's others, the name of the transport that it goes
    `through`, which of its recipients get nothing, and for how many seconds it is tried."""

    name: str
    message: BaseMessage
    through: str
    suppressed: frozenset[str] = frozenset()
    valid_for: float | None = None


@record(frozen=True, slots=True)
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
    return bool(connection.scalar(_KNOWN_EVENT, _of_event(event, key)))


def store(
    journal: Journal, event: str, key: str, messages: Sequence[ToStore], worker: str | None = None
) -> list[tuple[ToStore, Claim]] | None:
    """Keep all messages of an event, or none; returns None where it was posted before, and nothing is kept.

    With a `worker` they are that one's at once: returns the messages that are for somebody, with its claims on them.
    """
    with journal.transaction() as connection:
        wait_for_turn(connection)
        if _is_known(connection, event, key):
            return None
        now = clock(connection)
        connection.execute(insert(EVENTS).values(event=event, key=key, posted=now))
        rows, stored, people, claims = [], [], [], []
        for number, one in enumerate(messages, last_number(connection) + 1):
            job = _known_job(connection, job_of(event, one.name))
            raw, envelope = one.message.with_bcc(), one.message.envelope
            digest = hashlib.sha256(raw).hexdigest()
            planned = Planned(key, number, digest, envelope.recipients, one.suppressed)
            wanted = [addr for addr in envelope.recipients if addr not in one.suppressed]
            is_claimed = worker is not None and bool(wanted)
            held = _held_by(worker, now, journal.lease) if is_claimed else _HELD_BY_NOBODY
            row = {**message_row(number, job, planned), **held, "message_id": one.message.message_id}
            rows.append(row)
            not_after = None if one.valid_for is None else now + one.valid_for
            known = {"message": number, "through": one.through, "sender": envelope.sender, "content": raw}
            stored.append({**known, "not_after": not_after})
            for person in recipient_rows(number, job, planned, now):
                is_started = is_claimed and person["state"] == "planned"
                people.append({**person, "state": "started", "attempt": 1} if is_started else person)
            if is_claimed:
                tried = dict.fromkeys(wanted, Tried(0, None))
                claims.append((one, Claim(number, key, number, 1, row["seed"], row["date"], None, tried)))
        for table, made in ((MESSAGES, rows), (STORED, stored), (RECIPIENTS, people)):
            if made:
                connection.execute(insert(table), made)
        return claims


_HELD_BY_NOBODY: dict[str, object] = {"attempt": 0, "worker": None, "lease": None, "date": None}


def _held_by(worker: str | None, now: float, lease: float) -> dict[str, object]:
    """Returns what a message's row says that is a worker's at once."""
    return {"attempt": 1, "worker": worker, "lease": now + lease, "date": float(int(now))}


def _known_job(connection: Connection, name: str) -> int:
    """Returns the id of the job with a name, which is made where it is not there."""
    job = connection.scalar(_KNOWN_JOB, {"p_job": name})
    if job is None:
        made = connection.execute(insert(JOBS).values(name=name, template=""))
        job = made.inserted_primary_key[0]  # type: ignore[index]
    return int(job)


def stored_message(journal: Journal, claim: Claim) -> BaseMessage:
    """Returns the message of a claim, byte for byte as it was stored."""
    with journal.transaction() as connection:
        found = connection.execute(_STORED_MESSAGE, {"p_message": claim.id}).one_or_none()
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


def erase_settled(journal: Journal, event: str | None = None, key: str | None = None) -> None:
    """Forget the messages of which nothing becomes any more, of all events or of one; what is in doubt may have to be
    sent again."""
    with journal.transaction() as connection:
        if event is None or key is None:
            connection.execute(_ERASE_SETTLED)
        else:
            connection.execute(_ERASE_SETTLED_OF_EVENT, _of_event(event, key))


def waiting(journal: Journal, event: str | None = None, key: str | None = None) -> Iterator[Waiting]:
    """Returns the jobs of which messages wait: of all events, or of one with this key."""
    query = (
        select(JOBS.c.name, STORED.c.through, func.min(MESSAGES.c.id).label("first"))
        .join(MESSAGES, MESSAGES.c.job == JOBS.c.id)
        .join(STORED, STORED.c.message == MESSAGES.c.id)
        .where(exists().where(RECIPIENTS.c.message == MESSAGES.c.id, RECIPIENTS.c.state.in_((*WAITING, "in_doubt"))))
        .group_by(JOBS.c.name, STORED.c.through)
        .order_by("first")
    )
    given: dict[str, object] = {}
    if event is None or key is None:
        query = query.where(MESSAGES.c.id.in_(select(STORED.c.message)))
    else:
        query, given = query.where(_IN_EVENT), _of_event(event, key)
    with journal.transaction() as connection:
        found = connection.execute(query, given).all()
    return (Waiting(name, through) for name, through, _ in found)


def due_events(journal: Journal, age: float, most: int) -> list[tuple[str, str]]:
    """Returns the events, with their keys, of which messages are due and nobody has done anything for so many seconds:
    those that wait longest, at most so many."""
    with journal.transaction() as connection:
        due = (
            select(JOBS.c.name, MESSAGES.c.key, func.min(RECIPIENTS.c.changed).label("since"))
            .join(MESSAGES, MESSAGES.c.job == JOBS.c.id)
            .join(STORED, STORED.c.message == MESSAGES.c.id)
            .join(RECIPIENTS, RECIPIENTS.c.message == MESSAGES.c.id)
            .where(*_left_alone(clock(connection), age))
            .group_by(JOBS.c.name, MESSAGES.c.key)
            .order_by("since")
            .limit(most)
        )
        found = connection.execute(due).all()
    # An event has several jobs; its name is what all of theirs begin with.
    return list(dict.fromkeys((name.partition("/")[0], key) for name, key, _ in found))


def due_jobs(journal: Journal, age: float) -> list[str]:
    """Returns the jobs of batches of which messages are due and nobody has done anything for so many seconds."""
    with journal.transaction() as connection:
        due = (
            select(JOBS.c.name)
            .join(MESSAGES, MESSAGES.c.job == JOBS.c.id)
            .join(RECIPIENTS, RECIPIENTS.c.message == MESSAGES.c.id)
            .where(
                *_left_alone(clock(connection), age),
                MESSAGES.c.position.is_not(None),
                ~exists().where(STORED.c.message == MESSAGES.c.id),
            )
            .distinct()
        )
        return list(connection.scalars(due))


def _left_alone(now: float, age: float) -> tuple[ColumnElement[bool], ...]:
    """Returns the conditions that a recipient is due, and nobody has done anything for so many seconds."""
    changed = RECIPIENTS.c.changed <= now - age
    return RECIPIENTS.c.state.in_(WAITING), is_due_at(now), MESSAGES.c.worker.is_(None), changed


def is_under_way(journal: Journal, event: str, key: str) -> bool:
    """Returns whether somebody is trying a message of an event now."""
    with journal.transaction() as connection:
        return bool(connection.scalar(_UNDER_WAY, _of_event(event, key)))


def _of_event(event: str, key: str) -> dict[str, object]:
    """Returns the parameters of statements about one event."""
    return {"p_event": event, "p_begins": f"{event}/", "p_length": len(event) + 1, "p_keys": (key, hidden_key(key))}


def entries_of_event(journal: Journal, event: str, key: str) -> dict[str, list[Entry]]:
    """Returns what is known of an event's messages, by name."""
    found: dict[str, list[Entry]] = {}
    with journal.transaction() as connection:
        for row in connection.execute(_ENTRIES, _of_event(event, key)).mappings():
            name = row["name"].removeprefix(f"{event}/")
            found.setdefault(name, []).append(Entry(**{field: row[field] for field in Entry.__dataclass_fields__}))
    return found
