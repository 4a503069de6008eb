"""What several threads write into a journal at once goes in together: one transaction, one sync of the disk for all.

While one thread writes, the others hand in what they have; whichever has its turn next writes that for all of them.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager

from sqlalchemy import Connection

from pribble.delivery.claims import Fenced, LastWord, Settled
from pribble.delivery.journal_statements import COMMIT, COMMITTED, DOUBT, LET_GO, PLAN_AGAIN, SETTLE
from pribble.delivery.journal_tables import clock
from pribble.records import record


@record(eq=False, slots=True)
class _Entry:
    """What one thread hands in, and how it went."""

    settled: Sequence[Settled]
    last_word: LastWord | None
    is_written: bool = False
    error: BaseException | None = None


class Writer:
    """Writes for all threads of a process; `lease` is how many seconds a claim is good for from its last word on."""

    def __init__(self, transaction: Callable[[], AbstractContextManager[Connection]], lease: float) -> None:
        self._transaction, self._lease = transaction, lease
        self.waiting: list[_Entry] = []
        self._hand_in = threading.Lock()
        self._turn = threading.Lock()

    def write(self, settled: Iterable[Settled], last_word: LastWord | None = None) -> None:
        """Write down what has become of messages, and then that a last word is about to be said; returns when both are
        durable.

        Raises `Fenced` where the claim of the last word is not this process's any more: it must not be said.  What has
        become of others is written nevertheless.
        """
        entry = _Entry(tuple(settled), last_word)
        with self._hand_in:
            self.waiting.append(entry)
        with self._turn:
            if not entry.is_written and entry.error is None:
                with self._hand_in:
                    entries, self.waiting = self.waiting, []
                self._write_for_all(entries)
        if entry.error is not None:
            raise entry.error

    def _write_for_all(self, entries: list[_Entry]) -> None:
        try:
            with self._transaction() as connection:
                _write(connection, entries, self._lease)
        except Fenced as error:
            if len(entries) > 1:  # one of them is: which one shows when each is alone
                for entry in entries:
                    self._write_for_all([entry])
                return
            with self._transaction() as connection:
                _settle(connection, entries[0].settled, clock(connection))
            entries[0].error = error
        except BaseException as error:
            for entry in entries:
                entry.error = error
        for entry in entries:
            entry.is_written = entry.error is None


def _write(connection: Connection, entries: Sequence[_Entry], lease: float) -> None:
    now = clock(connection)
    _settle(connection, [one for entry in entries for one in entry.settled], now)
    words = [entry.last_word for entry in entries if entry.last_word is not None]
    if not words:
        return
    committing = [
        {"p_message": word.claim.id, "p_attempt": word.claim.attempt, "p_address": address, "p_now": now}
        for word in words
        for address in word.addresses
    ]
    if not _are_ours(connection, committing):
        raise Fenced
    connection.execute(
        COMMITTED,
        [
            {
                "p_message": word.claim.id,
                "p_lease": now + lease,
                "p_message_id": word.message_id,
                "p_content": word.content,
                "p_sender": word.sender,
            }
            for word in words
        ],
    )


def _are_ours(connection: Connection, committing: Sequence[Mapping[str, object]]) -> bool:
    """Mark recipients as committing; returns whether all their claims were this process's."""
    return connection.execute(COMMIT, committing).rowcount == len(committing)


def _settle(connection: Connection, settled: Sequence[Settled], now: float) -> None:
    """Write down what has become of claims that are still this process's, or were at their last word."""
    ended, without, everybody = [], [], []
    for one in settled:
        claim = one.claim
        mine = {"p_message": claim.id, "p_attempt": claim.attempt}
        everybody.append(mine)
        if len(one.outcomes) < len(claim.tried):
            without.append(mine)
        for address, outcome in one.outcomes.items():
            tried = claim.tried[address]
            state, not_before = tried.after(outcome, now)
            said = {"p_code": outcome.code, "p_enhanced": outcome.enhanced, "p_words": outcome.message}
            after = {"p_address": address, "p_state": state, "p_tries": tried.times + 1, "p_not_before": not_before}
            ended.append({**mine, **said, **after, "p_now": now})
    for statement, given in ((SETTLE, ended), (PLAN_AGAIN, without), (DOUBT, without), (LET_GO, everybody)):
        if given:
            connection.execute(statement, given)
