"""Journals: what is planned, claimed, committed, settled, in a file and in PostgreSQL, by threads and processes at once."""

from __future__ import annotations

import sqlite3
import stat
import threading
import time
import unittest.mock
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import update
from sqlalchemy.engine import Connection as Database

from pribble import Template
from pribble.delivery.batch import Batch
from pribble.delivery.claims import FIRST_PAUSE, Claim, Fenced, Settled
from pribble.delivery.journal import LEASE, Journal, Wanted
from pribble.delivery.journal_planning import Planned
from pribble.delivery.journal_records import forget, records, verify
from pribble.delivery.journal_tables import CLOCKS, RECIPIENTS, JournalError
from pribble.delivery.receipts import outcome_of_words
from pribble.delivery.rows import read_rows
from pribble.delivery.sending import Pace
from pribble.testing import Outbox
from tests.delivery.databases import OnPostgreSql
from tests.servers import needs_server
from tests.support import Case, proof


class OfJournals(Case):
    """A journal, and what is planned in it."""

    def setUp(self) -> None:
        self.where = self.place()
        self.journal = self.opened()

    def place(self) -> str | Path:
        return self.folder().path / "a.journal"

    def opened(self, lease: float = LEASE) -> Journal:
        journal = Journal(self.where, lease)
        self.addCleanup(journal.close)
        return journal

    def plan(self, count: int = 3) -> None:
        planned = [Planned(f"k{n}", n, "d", (f"a{n}@x.example", f"b{n}@x.example")) for n in range(count)]
        self.journal.plan("job", planned, template="t", rows=None)


_commit = Database._commit_impl


def _deferred(claim: Claim) -> Settled:
    return Settled(claim, {one: outcome_of_words(one, "deferred", "not now") for one in claim.addresses})


class Journals(OfJournals):
    """What every journal does, wherever it is."""

    def test_a_plan_is_whole_or_not_at_all(self) -> None:
        def broken() -> Any:
            yield Planned("k", 0, "d", ("a@x.example",))
            raise KeyboardInterrupt

        with self.assertRaises(KeyboardInterrupt):
            self.journal.plan("job", broken(), template="t", rows=None)
        self.assertEqual(self.journal.jobs(), [])

    def test_a_claim_is_one_process_s(self) -> None:
        self.plan(20)
        other = self.opened()
        first, second = self.journal.claim("job", 8, Wanted()), other.claim("job", 20, Wanted())
        self.assertEqual([one.key for one in first], [f"k{n}" for n in range(8)])
        self.assertEqual([one.key for one in second], [f"k{n}" for n in range(8, 20)])
        self.assertEqual(self.journal.claim("job", 20, Wanted()), [])
        claimed: list[str] = []
        self.journal.settle([Settled(claim, {}) for claim in (*first, *second)])
        threads = [
            threading.Thread(target=lambda: claimed.extend(one.key for one in self.opened().claim("job", 3, Wanted())))
            for _ in range(10)
        ]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(sorted(claimed), sorted(f"k{n}" for n in range(20)))

    def test_a_late_owner_commits_nothing(self) -> None:
        self.plan(1)
        stalled = self.opened(lease=-1)  # its time is over as soon as it begins
        (late,) = stalled.claim("job", 1, Wanted())
        self.journal.recover()
        (now,) = self.journal.claim("job", 1, Wanted())
        self.assertEqual((now.attempt, now.seed), (late.attempt + 1, late.seed))
        with self.assertRaises(Fenced):
            stalled.commit(late, late.addresses, "<m>", "c", "o@skerrow.example")
        stalled.settle([Settled(late, {})])
        self.assertEqual(self.journal.summary(), Counter(started=2))
        self.journal.commit(now, now.addresses, "<m>", "c", "o@skerrow.example")
        self.assertEqual(self.journal.summary(), Counter(committing=2))

    def test_a_lease_that_runs_out_at_the_last_word_is_doubt(self) -> None:
        """Nobody claims it; its owner may still say how it ended."""
        self.plan(2)
        stalled = self.opened(lease=-1)
        first, _ = stalled.claim("job", 2, Wanted())
        stalled.commit(first, first.addresses[:1], "<m>", "c", "o@skerrow.example")
        self.journal.recover()
        self.assertEqual(self.journal.summary(), Counter(in_doubt=1, planned=3))
        self.assertEqual(
            [one.addresses for one in self.journal.claim("job", 5, Wanted())],
            [("b0@x.example",), ("a1@x.example", "b1@x.example")],
        )

    def test_what_threads_hand_in_at_once_is_one_transaction(self) -> None:
        """While one writes the others gather; of a claim that is somebody else's by then, only its own thread hears."""
        self.plan(8)
        stalled = self.opened(lease=-1)
        claims = stalled.claim("job", 8, Wanted())
        heard: dict[str, str] = {}

        def commit(claim: Claim) -> None:
            try:
                stalled.commit(claim, claim.addresses, f"<{claim.key}>", "c", "o@skerrow.example")
                heard[claim.key] = "durable"
            except Fenced:
                heard[claim.key] = "fenced"

        def together(few: list[Claim]) -> int:
            """Commit while something else is being written; returns in how many transactions."""
            threads = [threading.Thread(target=commit, args=(claim,)) for claim in few]
            with unittest.mock.patch.object(Database, "_commit_impl", autospec=True, side_effect=_commit) as commits:
                with stalled.transaction():
                    for thread in threads:
                        thread.start()
                    while len(stalled.writer.waiting) < len(few) - 1:  # the first one waits for its transaction
                        time.sleep(0.001)
                for thread in threads:
                    thread.join()
                return commits.call_count - 1

        self.assertEqual(together(claims[:4]), 2)
        self.assertEqual(set(heard.values()), {"durable"})
        self.journal.recover()  # what was committing is in doubt, what was started is planned
        (taken,) = self.journal.claim("job", 1, Wanted())
        others = [one for one in claims[4:] if one.key != taken.key]
        for claim in others:  # theirs again, as if their time were not over
            with self.journal.transaction() as connection:
                mine = {"state": "started", "attempt": claim.attempt}
                connection.execute(update(RECIPIENTS).where(RECIPIENTS.c.message == claim.id).values(mine))
        together(claims[4:])
        self.assertEqual([heard[one.key] for one in claims[4:]], ["fenced", *["durable"] * 3])
        self.assertEqual(self.journal.summary(), Counter(in_doubt=8, started=2, committing=6))

    def test_a_clock_that_was_set_back(self) -> None:
        """What was put off by the other time is not put off for longer than a pause can be."""
        self.plan(3)
        first, second, third = self.journal.claim("job", 3, Wanted())
        self.journal.settle([Settled(first, {}), _deferred(second)])
        with self.clock(-30 * 86400):
            self.assertEqual([one.key for one in self.journal.claim("job", 1, Wanted())], ["k0"])
            self.assertEqual(self.journal.next_due("job", Wanted()), 0)
            (again,) = self.journal.claim("job", 1, Wanted())
            self.assertEqual(again.key, "k1")
            self.journal.settle([_deferred(again)])
            self.assertEqual(self.journal.claim("job", 1, Wanted()), [])
            due = self.journal.next_due("job", Wanted())
            self.assertAlmostEqual(due or 0, FIRST_PAUSE * 1.5, delta=60)
            with unittest.mock.patch("pribble.delivery.workers._host", lambda: "another-machine"):
                self.journal.commit(third, third.addresses, "<m>", "c", "o@skerrow.example")  # it still is its owner's
                self.journal.recover()
                self.assertEqual(self.journal.summary()["committing"], 2)
        with self.clock(-60 * 86400), unittest.mock.patch("pribble.delivery.workers._host", lambda: "another-machine"):
            self.journal.recover()  # no lease is as long as that: nobody knows of its owner
            self.assertEqual(self.journal.summary()["in_doubt"], 2)

    @contextmanager
    def clock(self, seconds: float) -> Iterator[None]:
        """The database's clock, set so much forward."""
        with unittest.mock.patch.dict(CLOCKS, {name: f"{query} + ({seconds})" for name, query in CLOCKS.items()}):
            yield

    def test_it_forgets_and_still_knows(self) -> None:
        self.plan(3)
        first, second, third = self.journal.claim("job", 3, Wanted())
        for claim, state in ((first, "accepted"), (second, "in_doubt")):
            self.journal.commit(claim, claim.addresses, "<m>", "c/d", "o@skerrow.example")
            words = {one: outcome_of_words(one, state, f"to {one}") for one in claim.addresses}  # type: ignore[arg-type]
            self.journal.settle([Settled(claim, words)])
        self.journal.settle([Settled(third, {})])
        self.assertEqual(verify(self.journal), [])
        self.assertEqual(forget(self.journal, 1), 0)
        self.assertEqual((forget(self.journal, 0, "other"), forget(self.journal, 0)), (0, 1))
        self.assertEqual(forget(self.journal, 0), 0)
        said = str(list(self.journal.entries()))
        for gone in ("k0", "a0@x.example", "b0@x.example"):
            self.assertNotIn(gone, said)
        self.assertIn("a1@x.example", said)
        self.plan(4)
        self.assertEqual(self.journal.summary(), Counter(accepted=2, in_doubt=2, planned=4))
        (record,) = records(self.journal, "k0")
        self.assertEqual([one["state"] for one in record["outcomes"]], ["accepted"] * 2)
        self.assertEqual((record["sha256"], verify(self.journal)), ("c", []))

    def test_it_notices_what_contradicts_itself(self) -> None:
        self.plan(2)
        (claim,) = self.journal.claim("job", 1, Wanted())
        with self.journal.transaction() as connection:
            connection.execute(update(RECIPIENTS).where(RECIPIENTS.c.message == claim.id).values(state="accepted"))
            connection.execute(update(RECIPIENTS).where(RECIPIENTS.c.message != claim.id).values(state="started"))
        said = verify(self.journal)
        self.assertEqual(len(said), 4)
        self.assertIn("k0: a0@x.example was taken, or may have been, and it is not known what was sent", said)
        self.assertIn("k1: b1@x.example is under way, and no process has it", said)

    def test_it_settles_what_is_in_doubt(self) -> None:
        self.plan(3)
        for claim in self.journal.claim("job", 3, Wanted()):
            self.journal.commit(claim, claim.addresses, "<m>", "c", "o@skerrow.example")
        with unittest.mock.patch("pribble.delivery.journal.is_gone", return_value=True):
            self.journal.recover()
        self.assertEqual(self.journal.summary(), Counter(in_doubt=6))
        self.assertEqual(self.journal.resolve("k0", "accepted"), 2)
        self.assertEqual(self.journal.resolve("k1", "planned", "job"), 2)
        self.assertEqual(self.journal.resolve("k1", "planned"), 0)
        self.assertEqual(self.journal.summary(), Counter(in_doubt=2, accepted=2, planned=2))


class JournalFiles(OfJournals):
    """A journal in a file."""

    @property
    def where_file(self) -> Path:
        return Path(self.where)

    def test_only_its_owner_reads_it(self) -> None:
        self.plan()
        for path in self.where_file.parent.iterdir():
            self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o600, path)

    def test_what_is_no_journal(self) -> None:
        self.where_file.write_text("something else, which is no database")
        with self.assertRaisesRegex(JournalError, "not a database"):
            self.plan()
        for where, words in (
            ("mysql://h/x", "PostgreSQL database"),
            ("postgresql://u:tide@h/x", "no place in an address"),
            ("://", "cannot be used"),
            (str(self.where_file.parent / "no/such/journal"), "No such file"),
        ):
            with self.subTest(where), self.assertRaisesRegex(JournalError, words) as caught:
                Journal(where).jobs()
            self.assertNotIn("tide", str(caught.exception))

    def test_another_version_is_refused(self) -> None:
        self.plan()
        self.journal.close()
        with sqlite3.connect(self.where_file) as connection:
            connection.execute("UPDATE facts SET value = '99'")
        connection.close()
        with self.assertRaisesRegex(JournalError, "version 99"):
            self.journal.jobs()


@proof
@needs_server("postgres")
class PostgreSqlJournals(OnPostgreSql, Journals):
    """The same in a PostgreSQL database."""

    def test_a_batch_of_two_processes(self) -> None:
        """Each row is sent once, by the one or the other."""
        address = self.server
        rows = [{"mail": f"p{n}@d{n % 5}.example", "berth": f"B{n}"} for n in range(60)]
        outbox = Outbox()

        def send() -> None:
            with read_rows(rows) as read:
                journal = Journal(address)
                Batch(
                    Template.from_text("{{ subject: }}Berth {{ berth }}{{ :subject }}"),
                    read,
                    sender="o@x.example",
                    to="{{ mail }}",
                    key=["berth"],
                    through=outbox,
                    journal=journal,
                    connections=2,
                    pace=Pace(wait=0),
                ).send()
                journal.close()

        threads = [threading.Thread(target=send) for _ in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(Counter(one.to[0].addr for one in outbox.messages), Counter(row["mail"] for row in rows))
        self.assertEqual(self.journal.summary(), Counter(accepted=60))
