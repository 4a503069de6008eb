"""A loss of power at each step of a batch: what the disk had confirmed is all that the journal has afterwards.

Programs run with a small library (power_loss.c) that keeps what was synced.  After a kill the journal is replaced by that,
and the batch goes on.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import unittest
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from pribble.delivery.journal import Journal
from tests.delivery.killing import Receiving, judged, receiving, send, table
from tests.support import EXPLORE, NOTHING_SKIPPED, ROOT, Case, proof

SOURCE = Path(__file__).with_suffix("").parent / "power_loss.c"
COMPILER = shutil.which("cc") or shutil.which("gcc")


class Sender:
    """A program that sends, a copy of itself each time, and of whose files the `shadow` has what was synced."""

    def __init__(self, program: subprocess.Popen[str], shadow: Path) -> None:
        self._program, self.shadow = program, shadow

    def killed(self, **asked: Any) -> bool:
        """Send; returns whether it came to the step `at` which it is killed."""
        assert self._program.stdin is not None and self._program.stdout is not None
        self._program.stdin.write(json.dumps(asked, default=str) + "\n")
        self._program.stdin.flush()
        return bool(json.loads(self._program.stdout.readline()))


@proof
@unittest.skipUnless(sys.platform == "linux" and (COMPILER or NOTHING_SKIPPED), "a C compiler on Linux is needed")
class PowerLoss(Case):
    @contextmanager
    def sender(self, journals: Path) -> Iterator[Sender]:
        folder = self.folder().path
        library, shadow = folder / "power_loss.so", folder / "shadow"
        shadow.mkdir()
        assert COMPILER is not None
        subprocess.run([COMPILER, "-shared", "-fPIC", "-O1", "-o", library, SOURCE, "-ldl"], check=True)
        known = {"LD_PRELOAD": str(library), "SHADOW_OF": str(journals), "SHADOW": str(shadow)}
        command = [sys.executable, "-m", "tests.delivery.killing"]
        with subprocess.Popen(
            command, cwd=ROOT, env={**os.environ, **known}, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        ) as program:
            yield Sender(program, shadow)

    def wrong(
        self, receiver: Receiving, steps: Sequence[int], connections: int, pragmas: Sequence[str] = ()
    ) -> list[str]:
        """Returns what is wrong after a loss of power at each of these steps."""
        address, received = receiver
        journals = self.folder().path.resolve()
        found = []
        with self.sender(journals) as sender:
            for step in steps:
                journal, rows = journals / f"{step}.journal", table(3 * connections, f"{connections}s{step}-")
                asked = {"address": address, "journal": journal, "rows": rows, "connections": connections}
                came = sender.killed(**asked, pragmas=pragmas, at=step)
                for path in journals.iterdir():
                    path.unlink()
                for path in sender.shadow.glob(f"{journal.name}*"):
                    if path.suffix != ".part":
                        path.rename(journals / path.name)
                send(address, journal, rows, connections)
                kept = Journal(journal)
                entries = list(kept.entries())
                kept.close()
                got = received(sum(entry.state == "accepted" for entry in entries))
                found += [f"step {step}: {words}" for words in judged(entries, got, rows, came * connections)]
        return found

    def test_every_step_of_a_batch(self) -> None:
        with receiving(self.folder().path / "in") as receiver:
            every = 1 if EXPLORE else 2
            self.assertEqual(self.wrong(receiver, range(0, 60, every), 1), [])
            self.assertEqual(self.wrong(receiver, range(4, 150, 6 * every), 4), [])

    def test_it_notices_a_journal_that_is_not_synced(self) -> None:
        """The same with a database that leaves it to the system when it writes: else the test would prove nothing."""
        with receiving(self.folder().path / "in") as receiver:
            for careless in ("OFF", "NORMAL"):
                pragmas = ("journal_mode = WAL", f"synchronous = {careless}", "foreign_keys = ON")
                with self.subTest(careless):
                    found = self.wrong(receiver, range(20, 50, 3), 1, pragmas)
                    self.assertGreater(len([one for one in found if "received 2 times" in one]), 3)


if __name__ == "__main__":
    unittest.main()
