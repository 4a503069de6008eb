"""What a journal says afterwards: whether it holds together, what became of one message, and what it may forget."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import and_, exists, or_, select, update

from pribble.delivery.journal import Journal
from pribble.delivery.journal_planning import hidden_key
from pribble.delivery.journal_tables import EVENTS, JOBS, MESSAGES, RECIPIENTS, clock, id_of_job
from pribble.delivery.states import STATES

DAY = 86400.0
# What nothing becomes of any more.
ENDED = ("accepted", "refused", "expired", "suppressed", "returned")


def verify(journal: Journal) -> list[str]:
    """Returns what in a journal contradicts itself; nothing where it holds together."""
    held = MESSAGES.c.worker.is_not(None)
    checks = (
        ("is in no state that there is", RECIPIENTS.c.state.not_in(STATES)),
        ("is under way, and no process has it", and_(RECIPIENTS.c.state.in_(("started", "committing")), ~held)),
        (
            "was taken, or may have been, and it is not known what was sent",
            and_(
                RECIPIENTS.c.state.in_(("accepted", "in_doubt", "committing")),
                MESSAGES.c.content.is_(None),
            ),
        ),
        ("has an attempt that its message never had", RECIPIENTS.c.attempt > MESSAGES.c.attempt),
        ("was tried less than not at all", RECIPIENTS.c.tries < 0),
    )
    found = []
    with journal.transaction() as connection:
        for words, condition in checks:
            query = select(MESSAGES.c.key, RECIPIENTS.c.address).join(RECIPIENTS, RECIPIENTS.c.message == MESSAGES.c.id)
            found += [f"{key}: {address} {words}" for key, address in connection.execute(query.where(condition))]
        alone = ~exists().where(RECIPIENTS.c.message == MESSAGES.c.id)
        found += [f"{key}: it is for nobody" for key in connection.scalars(select(MESSAGES.c.key).where(alone))]
    return found


def records(journal: Journal, key: str, job: str | None = None) -> Iterator[dict[str, Any]]:
    """Returns what is known of the messages with a key: a record each, which can be kept as a proof."""
    query = select(MESSAGES, JOBS.c.name.label("job_name")).join(JOBS, JOBS.c.id == MESSAGES.c.job)
    query = query.where(MESSAGES.c.key.in_((key, hidden_key(key))))
    if job is not None:
        query = query.where(JOBS.c.name == job)
    with journal.transaction() as connection:
        for message in connection.execute(query).all():
            people = connection.execute(
                select(RECIPIENTS).where(RECIPIENTS.c.message == message.id).order_by(RECIPIENTS.c.id)
            )
            yield {
                "job": message.job_name,
                "key": key,
                "message_id": message.message_id,
                "sha256": message.content and message.content.partition("/")[0],
                "outcomes": [
                    {
                        "recipient": one.address,
                        "state": one.state,
                        "code": one.code,
                        "enhanced": one.enhanced,
                        "message": one.words,
                        "at": datetime.fromtimestamp(one.changed, UTC).isoformat(timespec="seconds"),
                    }
                    for one in people
                ],
            }


def forget(journal: Journal, days: float, job: str | None = None) -> int:
    """Forget the addresses and words of messages with which nothing has happened for so many days, and their keys but
    for a hash, by which they are known again and not sent twice; returns of how many messages.

    What is in doubt, or waits, is not forgotten.
    """
    with journal.transaction() as connection:
        before = clock(connection) - days * DAY
        is_open = exists().where(
            RECIPIENTS.c.message == MESSAGES.c.id,
            or_(RECIPIENTS.c.state.not_in(ENDED), RECIPIENTS.c.changed > before),
        )
        query = select(MESSAGES.c.id, MESSAGES.c.key).where(~is_open, MESSAGES.c.key.not_like("#%"))
        if job is not None:
            query = query.where(MESSAGES.c.job == id_of_job(job))
        found = connection.execute(query).all()
        for key in {key for _, key in found}:  # an event is known by it too
            connection.execute(update(EVENTS).where(EVENTS.c.key == key).values(key=hidden_key(key)))
        for message, key in found:
            hidden = update(MESSAGES).where(MESSAGES.c.id == message)
            connection.execute(hidden.values(key=hidden_key(key), message_id=None, envelope_sender=None, data=""))
            for number, recipient in enumerate(
                connection.scalars(select(RECIPIENTS.c.id).where(RECIPIENTS.c.message == message)).all()
            ):
                gone = update(RECIPIENTS).where(RECIPIENTS.c.id == recipient)
                connection.execute(gone.values(address=f"forgotten {number + 1}", words=None))
        return len(found)


def matches(record: dict[str, Any], raw: bytes) -> bool:
    """Returns whether a kept message is the one that a record is of, byte for byte."""
    return bool(record["sha256"]) and hashlib.sha256(raw).hexdigest() == record["sha256"]
