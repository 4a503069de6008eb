"""A journal of what was sent: what is planned, under way, taken, refused, in doubt, for every recipient.

Each step is durable before the next one is taken.  What a process had under way when it ended goes back to planned, but
what it was committing is in doubt, and nobody sends that again without looking.  Several processes may share a journal:
a message belongs to the attempt that claimed it last, and a late owner of an earlier one commits nothing.
"""

from __future__ import annotations

import os
import threading
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Self

from sqlalchemy import ColumnElement, Connection, Engine, and_, case, exists, func, insert, or_, select, true, update
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError

from pribble.delivery.claims import Claim, LastWord, Settled, Tried
from pribble.delivery.journal_planning import Planned, Planning, PlanResult
from pribble.delivery.journal_statements import CLAIM, CLAIMED, DUE, START, WAITING, is_due_at
from pribble.delivery.journal_tables import (
    IS_HELD,
    JOBS,
    MESSAGES,
    RECIPIENTS,
    JournalAway,
    JournalError,
    clock,
    id_of_job,
    opened,
    wait_for_turn,
)
from pribble.delivery.journal_writing import Writer
from pribble.delivery.states import State
from pribble.delivery.workers import is_gone, this_worker
from pribble.records import field, record

LEASE = 900.0  # seconds that a claim is good for: longer than a server has to answer a message
_CHUNK = 500


@record(frozen=True, slots=True)
class Wanted:
    """Which messages are claimed: those at positions behind `after`, ahead of `before`, with this `key`."""

    after: int = -1
    before: int | None = None
    key: str | None = None

    def condition(self) -> ColumnElement[bool]:
        """Returns the condition that a message is wanted; one that is not in the table of today never is."""
        parts = [MESSAGES.c.position > self.after]
        if self.before is not None:
            parts.append(MESSAGES.c.position < self.before)
        if self.key is not None:
            parts.append(MESSAGES.c.key == self.key)
        return and_(*parts)


@record(frozen=True, slots=True)
class Entry:
    """A recipient as a journal has it."""

    key: str
    address: str
    state: State
    tries: int
    code: int | None
    enhanced: str | None
    words: str | None
    message_id: str | None
    not_before: float
    changed: float

    def __str__(self) -> str:
        """Returns it in a line: ``ana@example.org: accepted (250 2.0.0 kept)``."""
        said = " ".join(str(part) for part in (self.code, self.words) if part)
        return f"{self.address}: {self.state.replace('_', ' ')}" + (f" ({said})" if said else "")

    def as_data(self) -> Mapping[str, object]:
        """Returns what became of it, for programs."""
        return {
            "recipient": self.address,
            "state": self.state,
            "code": self.code,
            "enhanced": self.enhanced,
            "message": self.words,
        }


@record
class Journal:
    """A journal in a file, or in a PostgreSQL database; it may be shared by threads and processes.

    Raises `JournalError` for what is no journal, and wherever the database does not do what it is asked.
    """

    where: str | Path
    lease: float = LEASE
    _engines: dict[int, Engine] = field(default_factory=dict, init=False, repr=False)
    _lock: threading.Lock = field(default_factory=threading.Lock, init=False, repr=False)

    def __post_init__(self) -> None:
        self.writer = Writer(self.transaction, self.lease)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the database."""
        engine = self._engines.pop(os.getpid(), None)
        if engine is not None:
            engine.dispose()

    @contextmanager
    def transaction(self) -> Iterator[Connection]:
        """Gives a transaction of the database, which is durable when it ends without an error."""
        try:
            with self._lock:  # of the threads, one writes: the database lets no more
                engine = self._engines.get(os.getpid())
                if engine is None:  # also in a process that is a copy: no connection is shared
                    self._engines.clear()
                    engine = self._engines[os.getpid()] = opened(self.where)
                with engine.begin() as connection:
                    yield connection
        except DBAPIError as error:
            said = str(error.orig).partition("\n")[0]  # what follows shows the statement
            is_away = "://" in str(self.where) and isinstance(error, OperationalError | InterfaceError)
            raise (JournalAway if is_away else JournalError)(f"the journal {self.where}: {said}") from None
        except OSError as error:
            raise JournalError(f"the journal {self.where}: {error.strerror or error}") from None

    # ---- planning -----------------------------------------------------------------------------------------------

    def plan(
        self,
        job: str,
        planned: Iterable[Planned],
        *,
        template: str,
        rows: str | None,
        change_unsent: bool = False,
    ) -> PlanResult:
        """Plan the messages of a job, all or none; what is there already stays as it is.

        `template` and `rows` are digests; `rows` is None where keys tell the rows apart.  Those that nobody has yet,
        and whose data have changed, are planned anew.  Raises `JournalError` where the job was planned from another
        table without keys, or from another template, unless `change_unsent`.
        """
        with self.transaction() as connection:
            wait_for_turn(connection)
            job_id = self._job(connection, job, template, rows, change_unsent)
            planning = Planning(connection, job_id, clock(connection), change_unsent)
            chunk: list[Planned] = []
            for one in planned:
                chunk.append(one)
                if len(chunk) == _CHUNK:
                    planning.add(chunk)
                    chunk = []
            planning.add(chunk)
            return planning.result()

    def _job(self, connection: Connection, name: str, template: str, rows: str | None, change_unsent: bool) -> int:
        known = connection.execute(select(JOBS).where(JOBS.c.name == name)).one_or_none()
        if known is None:
            made = connection.execute(insert(JOBS).values(name=name, template=template, rows=rows))
            return int(made.inserted_primary_key[0])  # type: ignore[index]
        if known.rows != rows:
            if known.rows is None or rows is None:
                raise JournalError(f'the job "{name}" was planned {"with" if known.rows is None else "without"} a key')
            raise JournalError(
                f'the job "{name}" was planned from another table',
                hint="give --key, so that rows are known again, or another --job",
            )
        if known.template != template:
            if not change_unsent:
                raise JournalError(
                    f'the job "{name}" was planned from another template',
                    hint="--changed unsent gives what nobody has yet the new one",
                )
            connection.execute(update(JOBS).where(JOBS.c.id == known.id).values(template=template))
        return int(known.id)

    # ---- sending ------------------------------------------------------------------------------------------------

    def recover(self) -> None:
        """Take back what workers had under way that are not there any more: what they were committing is in doubt."""
        with self.transaction() as connection:
            now = clock(connection)
            workers = connection.scalars(select(MESSAGES.c.worker).where(IS_HELD).distinct())
            gone = [one for one in workers if is_gone(one)]
            # A lease that ends later than any can was given before the clock was set back.
            longest = max(LEASE, self.lease)
            over = or_(MESSAGES.c.lease < now, MESSAGES.c.lease > now + longest, MESSAGES.c.worker.in_(gone))
            held = select(MESSAGES.c.id).where(IS_HELD, over)
            lost = {"state": "in_doubt", "code": None, "enhanced": None, "words": "who sent it ended before the answer"}
            for before, values in (("committing", lost), ("started", {"state": "planned"})):
                connection.execute(
                    update(RECIPIENTS)
                    .where(RECIPIENTS.c.message.in_(held), RECIPIENTS.c.state == before)
                    .values(**values, changed=now)
                )
            connection.execute(update(MESSAGES).where(IS_HELD, over).values(worker=None, lease=None))

    def claim(self, job: str, most: int, wanted: Wanted, worker: str | None = None) -> list[Claim]:
        """Claim messages that are due, for a `worker`, by default this process: at most so many of those that are
        `wanted`, in the order of their rows."""
        with self.transaction() as connection:
            now = clock(connection)
            is_due = exists().where(
                RECIPIENTS.c.message == MESSAGES.c.id,
                RECIPIENTS.c.state.in_(WAITING),
                is_due_at(now),
            )
            # Along the index, from where the last claim ended: what lies behind is not looked at again for each claim.
            query = select(MESSAGES).where(
                MESSAGES.c.job == id_of_job(job), wanted.condition(), MESSAGES.c.worker.is_(None), is_due
            )
            # Where several processes claim at once, none waits for what another one is about to have.
            query = query.order_by(MESSAGES.c.position).limit(most).with_for_update(skip_locked=True)
            ids = [row.id for row in connection.execute(query)]
            return self._claimed(connection, ids, now, worker or this_worker()) if ids else []

    def _claimed(self, connection: Connection, ids: list[int], now: float, worker: str) -> list[Claim]:
        """Returns the claims on messages, which nobody else can have until this transaction ends."""
        given = {"p_worker": worker, "p_lease": now + self.lease, "p_date": float(int(now))}
        connection.execute(CLAIM, {"p_messages": ids, **given})
        people: dict[int, dict[str, Tried]] = {}
        started = []
        for recipient, message, address, tries, first_try in connection.execute(DUE, {"p_messages": ids, "p_now": now}):
            people.setdefault(message, {})[address] = Tried(tries, first_try)
            started.append(recipient)
        connection.execute(START, {"p_recipients": started, "p_now": now})
        return [Claim.of(row, people[row.id]) for row in connection.execute(CLAIMED, {"p_messages": ids})]

    def commit(
        self,
        claim: Claim,
        addresses: Collection[str],
        message_id: str | None,
        content: str,
        sender: str,
        settled: Iterable[Settled] = (),
    ) -> None:
        """Keep that a message is about to be taken for these addresses; with it, what has become of others.

        `content` is a digest of the message, and `sender` its envelope's.

        Raises `Fenced` where the claim is not this process's any more: then the message must not be sent.
        """
        self.writer.write(settled, LastWord(claim, addresses, message_id, content, sender))

    def settle(self, settled: Iterable[Settled]) -> None:
        """Keep what has become of messages."""
        self.writer.write(settled)

    def doubtful(self, job: str) -> list[Claim]:
        """Returns the messages of a job that are in doubt for somebody, for whoever can look whether they are there."""
        in_doubt = and_(RECIPIENTS.c.message == MESSAGES.c.id, RECIPIENTS.c.state == "in_doubt")
        query = select(MESSAGES, RECIPIENTS.c.address, RECIPIENTS.c.tries, RECIPIENTS.c.first_try)
        query = query.join(RECIPIENTS, in_doubt).where(
            MESSAGES.c.job == id_of_job(job), MESSAGES.c.worker.is_(None), Wanted().condition()
        )
        people: dict[int, dict[str, Tried]] = {}
        found: dict[int, Claim] = {}
        with self.transaction() as connection:
            for row in connection.execute(query.order_by(MESSAGES.c.position, RECIPIENTS.c.id)):
                people.setdefault(row.id, {})[row.address] = Tried(row.tries, row.first_try)
                found[row.id] = Claim.of(row, people[row.id])
        return list(found.values())

    def settle_doubt(self, claim: Claim, *, is_there: bool) -> None:
        """Keep what somebody found who looked: a message that was in doubt is there, or is not and is planned again."""
        with self.transaction() as connection:
            now = clock(connection)
            words = "looked for, and it is there" if is_there else "looked for, and it is not there"
            connection.execute(
                update(RECIPIENTS)
                .where(
                    RECIPIENTS.c.message == claim.id,
                    RECIPIENTS.c.attempt == claim.attempt,
                    RECIPIENTS.c.state == "in_doubt",
                )
                .values(state="accepted" if is_there else "planned", words=words, not_before=now, changed=now)
            )

    def take_back(self, settled: Iterable[Settled]) -> None:
        """Plan those again whose failure was not their own: as if they had not been tried."""
        with self.transaction() as connection:
            now = clock(connection)
            for one in settled:
                connection.execute(
                    update(RECIPIENTS)
                    .where(
                        RECIPIENTS.c.message == one.claim.id,
                        RECIPIENTS.c.attempt == one.claim.attempt,
                        RECIPIENTS.c.state.in_(("refused", "deferred", "expired")),
                    )
                    .values(state="planned", tries=RECIPIENTS.c.tries - 1, not_before=now, changed=now)
                )

    # ---- looking ------------------------------------------------------------------------------------------------

    def jobs(self) -> list[str]:
        """Returns the names of the jobs, in the order in which they were planned."""
        with self.transaction() as connection:
            return list(connection.scalars(select(JOBS.c.name).order_by(JOBS.c.id)))

    def summary(self, job: str | None = None) -> Counter[State]:
        """Returns how many recipients are in each state."""
        query = select(RECIPIENTS.c.state, func.count()).group_by(RECIPIENTS.c.state)
        with self.transaction() as connection:
            found = connection.execute(query.where(_of_job(job))).all()
        return Counter({row[0]: row[1] for row in found})

    def count_waiting(self) -> int:
        """Returns how many recipients wait, whatever else is kept."""
        query = select(func.count()).where(RECIPIENTS.c.job.in_(select(JOBS.c.id)), RECIPIENTS.c.state.in_(WAITING))
        with self.transaction() as connection:
            return int(connection.scalar(query) or 0)

    def reasons(self, state: State, job: str | None = None, most: int = 10) -> list[tuple[int, str]]:
        """Returns the words that most recipients in a state have, with their number."""
        count = func.count().label("count")
        query = select(count, RECIPIENTS.c.code, RECIPIENTS.c.words).where(RECIPIENTS.c.state == state)
        query = query.group_by(RECIPIENTS.c.code, RECIPIENTS.c.words).order_by(count.desc(), RECIPIENTS.c.words)
        with self.transaction() as connection:
            found = connection.execute(query.where(_of_job(job)).limit(most)).all()
        return [(number, " ".join(str(part) for part in (code, words) if part)) for number, code, words in found]

    def entries(self, job: str | None = None, state: State | None = None) -> Iterator[Entry]:
        """Returns the recipients, in the order in which they were planned."""
        last = 0
        while True:
            query = (
                select(RECIPIENTS, MESSAGES.c.key, MESSAGES.c.message_id)
                .join(MESSAGES, MESSAGES.c.id == RECIPIENTS.c.message)
                .where(RECIPIENTS.c.id > last)
                .order_by(RECIPIENTS.c.id)
                .limit(_CHUNK)
            )
            if state is not None:
                query = query.where(RECIPIENTS.c.state == state)
            with self.transaction() as connection:
                found = connection.execute(query.where(_of_job(job))).mappings().all()
            if not found:
                return
            last = found[-1]["id"]
            for row in found:
                yield Entry(**{name: row[name] for name in Entry.__dataclass_fields__})

    def next_due(self, job: str, wanted: Wanted) -> float | None:
        """Returns in how many seconds the next recipient that is `wanted` is due; None where none will be."""
        with self.transaction() as connection:
            now = clock(connection)
            due = case((is_due_at(now), now), else_=RECIPIENTS.c.not_before)
            query = select(func.min(due)).join(MESSAGES, MESSAGES.c.id == RECIPIENTS.c.message)
            first = connection.scalar(query.where(RECIPIENTS.c.state.in_(WAITING), wanted.condition(), _of_job(job)))
            return None if first is None else first - now

    # ---- settling by hand ---------------------------------------------------------------------------------------

    def resolve(self, key: str, state: State, job: str | None = None) -> int:
        """Settle what is in doubt of a message: "accepted", or "planned", to be sent again; returns of how many."""
        messages = select(MESSAGES.c.id).where(MESSAGES.c.key == key)
        query = update(RECIPIENTS).where(RECIPIENTS.c.message.in_(messages), RECIPIENTS.c.state == "in_doubt")
        with self.transaction() as connection:
            now = clock(connection)
            query = query.values(state=state, changed=now, not_before=now, words="settled by hand")
            return connection.execute(query.where(_of_job(job))).rowcount

    def again(self, pattern: str | None = None, job: str | None = None) -> int:
        """Plan refused recipients again, those whose words hold `pattern` or all; returns how many."""
        with self.transaction() as connection:
            now = clock(connection)
            query = update(RECIPIENTS).where(RECIPIENTS.c.state == "refused")
            if pattern:
                said = func.coalesce(RECIPIENTS.c.words, "") + " " + RECIPIENTS.c.address
                query = query.where(func.lower(said).contains(pattern.lower(), autoescape=True))
            query = query.values(state="planned", tries=0, first_try=None, not_before=now, changed=now)
            return connection.execute(query.where(_of_job(job))).rowcount


def _of_job(job: str | None) -> ColumnElement[bool]:
    """Returns the condition that a recipient is of a job; of any, where it is None."""
    return true() if job is None else RECIPIENTS.c.job == id_of_job(job)
