"""SIGKILL at each step of a batch: whoever accepted it by the receiver's own record has it once, and nobody is left out.

A copy of this process sends, and is killed when it is about to write to a socket or to commit to the journal, or has
just done so, for the nth time; another copy goes on with the same command.
"""

from __future__ import annotations

import json
import os
import random
import signal
import sqlite3
import subprocess
import sys
import time
import unittest
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy.engine import Connection as Database

from pribble import Template
from pribble.delivery import smtp
from pribble.delivery.batch import Batch
from pribble.delivery.files import DraftFolder, Folder, Maildir
from pribble.delivery.journal import Journal
from pribble.delivery.receipts import Receipt
from pribble.delivery.rows import read_rows
from pribble.delivery.sending import Pace
from pribble.delivery.submitting import Smtp
from pribble.delivery.transports import Transport
from pribble.mime.base import BaseMessage
from tests.support import EXPLORE, ROOT, Case, proof, seeds, slow

# An address, and what counts what came there.
Receiving = tuple[str, Callable[[int], Counter[str]]]
TEMPLATE = Template.from_text("{{ subject: }}Berth {{ berth }}{{ :subject }}<p>Dear {{ name }}</p>")


def table(count: int, town: str) -> list[dict[str, str]]:
    return [{"name": f"N{n}", "mail": f"p{n}@{town}{n % 7}.example", "berth": f"B{n}"} for n in range(count)]


class LateCommit(Smtp):
    """A mistake: what is about to be sent is written down when it has been."""

    def deliver(self, message: BaseMessage, *, recipients: Any = None, committing: Any = None) -> Receipt:
        receipt = super().deliver(message, recipients=recipients)
        committing([one.recipient for one in receipt.outcomes if one.state == "accepted"])
        return receipt


def send(address: str, journal: Path, rows: list[dict[str, str]], connections: int, kind: type[Smtp] = Smtp) -> None:
    """What the command does, with a server."""
    way = kind("127.0.0.1", int(address.rpartition(":")[2]), connections=connections)
    send_through(way, journal, rows, connections)


def send_through(way: Transport, journal: Path, rows: list[dict[str, str]], connections: int = 1) -> None:
    """What the command does."""
    with read_rows(rows) as read:
        Batch(
            TEMPLATE,
            read,
            sender="o@skerrow.example",
            to="{{ name }} <{{ mail }}>",
            key=["berth"],
            through=way,
            journal=Journal(journal),
            connections=connections,
            pace=Pace(wait=0),
        ).send()


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


@contextmanager
def receiving(folder: Path, *faults: str) -> Iterator[Receiving]:
    """The address of a receiver in a process of its own, and a function that counts what each address has received,
    when as many messages as are said must have come."""
    command = [sys.executable, "-m", "pribble", "receive", "--port", "0", "--json", "--folder", str(folder), *faults]
    record = folder.parent / "record"
    with open(record, "wb") as out:
        server = subprocess.Popen(command, stdout=out, cwd=ROOT)
    try:
        while not record.read_bytes().count(b"\n"):
            time.sleep(0.02)
        address = json.loads(record.read_text().splitlines()[0])["listening"]

        def received(least: int) -> Counter[str]:
            time.sleep(0.02)  # what was told last may still be on its way into the file
            lines = [json.loads(line) for line in record.read_text().splitlines()[1:]]
            found = Counter(one for line in lines for one in line.get("recipients", ()))
            assert sum(found.values()) >= least
            return found

        yield address, received
    finally:
        server.kill()
        server.wait()


class Killed:
    """Counts steps in a copy of this process, which ends at the nth."""

    def __init__(self, at: int) -> None:
        self._left = at

    def step(self) -> None:
        if self._left == 0:
            os.kill(os.getpid(), signal.SIGKILL)
        self._left -= 1

    def watch(self, owner: Any, name: str) -> None:
        """Count a method's calls, before and after each."""
        original = getattr(owner, name)

        def watched(*given: Any, **more: Any) -> Any:
            self.step()
            found = original(*given, **more)
            self.step()
            return found

        setattr(owner, name, watched)


def run_killed(at: int | None, work: Callable[[], None]) -> bool:
    """Do the work in a copy of this process, which is killed at a step; returns whether it came to that."""
    child = os.fork()
    if child == 0:
        status = 1
        try:
            if at is not None:
                killed = Killed(at)
                killed.watch(smtp.Connection, "_send")
                killed.watch(Database, "_commit_impl")
            work()
            status = 0
        finally:
            os._exit(status)
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    assert code in (0, -signal.SIGKILL), code
    return code != 0


@unittest.skipUnless(hasattr(os, "fork"), "this system copies no processes")
class Kills(Case):
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
        journal = self.folder().path / "a.journal"

        def work() -> None:
            send(address, journal, rows, connections, kind)

        came = [run_killed(step, work) for step in at]
        self.assertFalse(run_killed(None, work))
        with sqlite3.connect(journal) as connection:  # the time passes until what was deferred is due
            connection.execute("UPDATE recipients SET not_before = 0")
        connection.close()
        self.assertFalse(run_killed(None, work))
        kept = Journal(journal)
        entries = list(kept.entries())
        kept.close()
        got = received(sum(entry.state == "accepted" for entry in entries))
        self.assertEqual(sorted(entry.address for entry in entries), sorted(row["mail"] for row in rows))
        self.assertEqual({entry.state for entry in entries} - {"accepted", "in_doubt"}, set())
        self.assertLessEqual(sum(entry.state == "in_doubt" for entry in entries), sum(came) * connections + drops)
        for entry in entries:
            allowed = (0, 1) if entry.state == "in_doubt" else (1,)
            self.assertIn(got[entry.address], allowed, f"{entry.address}: {entry.state}, received {got[entry.address]}")
        return came[0]

    @slow
    def test_some_steps(self) -> None:
        """A few of those that the proofs take all."""
        with receiving(self.folder().path / "in") as receiver:
            for step in range(2, 70, 4):
                with self.subTest(killed_at=step):
                    self.check([step], receiver, table(4, f"s{step}-"))

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
        """Twice in a row, with a receiver that drops some."""
        count, kills = (2_000, 50) if EXPLORE else (300, 10)
        generator = random.Random(seeds(1).start)
        drops = ["--drop-after", "20", "--drop-after", "40:before-dot", "--drop-after", "90"]
        for _ in range(kills):
            at = [generator.randrange(12 * count), generator.randrange(6 * count)]
            with self.subTest(killed_at=at), receiving(self.folder().path / "in", *drops) as receiver:
                self.check(at, receiver, table(count, "d"), connections=4, drops=2)


if __name__ == "__main__":
    unittest.main()
