"""SIGKILL at each step of a batch: whoever accepted it by the receiver's own record has it once, and nobody is left out.

A copy of this process sends, and is killed when it is about to write to a socket or to commit to the journal, or has
just done so, for the nth time; another copy goes on with the same command.
"""

from __future__ import annotations

import os
import random
import signal
import unittest
from collections import Counter
from collections.abc import Callable
from contextlib import ExitStack
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy import update

from pribble.delivery.files import DraftFolder, Folder, Maildir
from pribble.delivery.journal import Journal
from pribble.delivery.journal_tables import RECIPIENTS, JournalError
from pribble.delivery.receipts import Receipt
from pribble.delivery.sending import Progress
from pribble.delivery.submitting import Smtp
from pribble.mime.base import BaseMessage
from tests.delivery.databases import OnPostgreSql
from tests.delivery.killing import Receiving, judged, receiving, run_killed, send, send_through, table
from tests.servers import needs_server
from tests.support import EXPLORE, Case, proof, seeds, slow, small_disk


class LateCommit(Smtp):
    """A mistake: what is about to be sent is written down when it has been."""

    def deliver(self, message: BaseMessage, *, recipients: Any = None, committing: Any = None) -> Receipt:
        receipt = super().deliver(message, recipients=recipients)
        committing([one.recipient for one in receipt.outcomes if one.state == "accepted"])
        return receipt


def after_commit(count: int, name: str, work: Callable[[], None]) -> None:
    """Work until the last word of a message was committed for the nth time, and then to the next call of a function of
    the system, which is the end."""
    committed: list[int] = []
    commit, function = Journal.commit, getattr(os, name)

    def counted(*given: Any, **more: Any) -> None:
        commit(*given, **more)
        committed.append(1)

    def last(*given: Any, **more: Any) -> Any:
        if len(committed) == count and name == "link":
            os.kill(os.getpid(), signal.SIGKILL)
        found = function(*given, **more)
        if len(committed) == count:
            os.kill(os.getpid(), signal.SIGKILL)
        return found

    Journal.commit = counted  # type: ignore[method-assign]
    setattr(os, name, last)
    work()


@unittest.skipUnless(hasattr(os, "fork"), "this system copies no processes")
class OfKills(Case):
    def place(self) -> str | Path:
        """Where a new journal is."""
        return self.folder().path / "a.journal"

    def check(
        self,
        at: list[int],
        receiver: Receiving,
        rows: list[dict[str, str]],
        *,
        connections: int = 1,
        drops: int = 0,
        kind: type[Smtp] = Smtp,
    ) -> bool:
        """Send, with a kill at each of these steps in turn, and then to the end; returns whether the first one came."""
        address, received = receiver
        journal = self.place()

        def work() -> None:
            send(address, journal, rows, connections, kind)

        came = [run_killed(step, work) for step in at]
        self.assertFalse(run_killed(None, work))
        kept = Journal(journal)
        with kept.transaction() as connection:  # the time passes until what was deferred is due
            connection.execute(update(RECIPIENTS).values(not_before=0))
        kept.close()
        self.assertFalse(run_killed(None, work))
        entries = list(kept.entries())
        kept.close()
        got = received(sum(entry.state == "accepted" for entry in entries))
        self.assertEqual(judged(entries, got, rows, sum(came) * connections + drops), [])
        return came[0]

    def check_random_steps(self, count: int, kills: int) -> None:
        """Two kills in a row each time, several connections, and a receiver that drops some."""
        generator = random.Random(seeds(1).start)
        drops = ["--drop-after", "20", "--drop-after", "40:before-dot", "--drop-after", "90"]
        for _ in range(kills):
            at = [generator.randrange(12 * count), generator.randrange(6 * count)]
            with self.subTest(killed_at=at), receiving(self.folder().path / "in", *drops) as receiver:
                self.check(at, receiver, table(count, "d"), connections=4, drops=2)


class Kills(OfKills):
    @slow
    def test_some_steps(self) -> None:
        """A few of those that the proofs take all."""
        with receiving(self.folder().path / "in") as receiver:
            for step in range(2, 70, 4):
                with self.subTest(killed_at=step):
                    self.check([step], receiver, table(4, f"s{step}-"))

    @slow
    def test_files_are_looked_for(self) -> None:
        """A process ends right before, or right after, a file has its name: the next one looks, and nobody asks."""
        for kind in (Folder, Maildir, DraftFolder):
            for name in ("link", "fsync"):
                with self.subTest(kind.__name__, killed_at=name):
                    folder = self.folder().path
                    work = partial(send_through, kind(folder / "in"), folder / "a.journal", table(4, "x"))
                    self.assertTrue(run_killed(None, partial(after_commit, 2, name, work)))
                    self.assertFalse(run_killed(None, work))
                    kept = Journal(folder / "a.journal")
                    self.assertEqual(kept.summary(), Counter(accepted=4))
                    kept.close()
                    files = [
                        path for path in (folder / "in").rglob("*") if path.is_file() and path.parent.name != "tmp"
                    ]
                    shown = [path for path in files if path.suffix != ".json" and not path.name.startswith(".")]
                    self.assertEqual(len(shown), 4)

    def test_nobody_looks_for_another_message(self) -> None:
        """The data have changed since: what is there would not be known again, and would be sent a second time."""
        folder = self.folder().path
        way, journal = Folder(folder / "in"), folder / "a.journal"
        self.assertTrue(
            run_killed(None, partial(after_commit, 2, "fsync", partial(send_through, way, journal, table(4, "x"))))
        )
        changed = [{**row, "name": f"{row['name']}!"} for row in table(4, "x")]
        self.assertFalse(run_killed(None, partial(send_through, way, journal, changed)))
        kept = Journal(journal)
        self.assertEqual(kept.summary(), Counter(accepted=3, in_doubt=1))
        kept.close()
        self.assertEqual(len(list((folder / "in").glob("*.eml"))), 4)

    @proof
    def test_every_step_of_a_batch(self) -> None:
        count = 40 if EXPLORE else 8
        with receiving(self.folder().path / "in") as receiver:
            for step in range(10_000):
                with self.subTest(killed_at=step):
                    if not self.check([step], receiver, table(count, f"s{step}-")):
                        break
        self.assertGreater(step, 8 * count)  # each message has more steps than that

    @proof
    def test_it_notices_a_batch_that_commits_too_late(self) -> None:
        """The same check, of a batch with a mistake, fails: else it would prove nothing."""
        wrong = 0
        with receiving(self.folder().path / "in") as receiver:
            for step in range(20, 70):
                try:
                    self.check([step], receiver, table(4, f"s{step}-"), kind=LateCommit)
                except AssertionError:
                    wrong += 1
        self.assertGreater(wrong, 3)

    @proof
    def test_random_steps_over_several_connections(self) -> None:
        self.check_random_steps(*((2_000, 50) if EXPLORE else (300, 10)))

    def test_a_full_disk(self) -> None:
        """It fills up in the middle of a batch: nothing is sent that the journal could not keep; with room again, the
        batch goes on."""
        rows = table(40, "f")
        with small_disk("16M") as (disk, filled), receiving(self.folder().path / "in") as (address, received):
            journal = Journal(disk / "a.journal")
            with journal, ExitStack() as later:

                def fill_up(progress: Progress) -> None:
                    if progress.ended.total() == 8:
                        later.enter_context(filled())

                with self.assertRaisesRegex(JournalError, "disk is full|disk I/O error"):
                    send(address, journal, rows, 2, progress=fill_up)
                self.assertLess(received(8).total(), 40)
                later.close()  # there is room again
                send(address, journal, rows, 2)
                entries = list(journal.entries())
            self.assertEqual(judged(entries, received(38), rows, 2), [])


@proof
@needs_server("postgres")
class PostgreSqlKills(OnPostgreSql, OfKills):
    """The same with a journal in PostgreSQL, which the connections of a killed process leave."""

    def test_some_steps(self) -> None:
        with receiving(self.folder().path / "in") as receiver:
            for step in range(2, 70, 8):
                with self.subTest(killed_at=step):
                    self.check([step], receiver, table(4, f"s{step}-"))

    def test_random_steps_over_several_connections(self) -> None:
        self.check_random_steps(*((2_000, 20) if EXPLORE else (300, 4)))


if __name__ == "__main__":
    unittest.main()
