"""A batch as a rehearsal: all of it, over real connections, to a receiver of this machine that keeps nothing.

The receiver puts off some recipients at first, so that one sees what the same command would do when they are due.
"""

from __future__ import annotations

import copy
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import update

from pribble.delivery.batch import Batch, BatchResult
from pribble.delivery.faults import Faults
from pribble.delivery.journal import Journal
from pribble.delivery.journal_tables import RECIPIENTS
from pribble.delivery.receiver import Manner, Received, Receiver
from pribble.delivery.sending import Progress
from pribble.delivery.states import State
from pribble.delivery.transports import Transport, transport
from pribble.records import record, replace

ONE_IN = 20  # recipients, of whom one is put off at first


@record(frozen=True, slots=True)
class Rehearsed:
    """What a rehearsal came to: the `first` run, the `seconds` and the octets that it took; and what became of all when
    those who had been put off were due, in `then`."""

    first: BatchResult
    seconds: float
    octets: int
    then: Counter[State]


class Rehearsal:
    """Where a batch is rehearsed: the transport that it goes `through`, and its `journal`."""

    def __init__(self, through: Transport, journal: Journal, sizes: list[int]) -> None:
        self.through, self.journal = through, journal
        self._sizes = sizes

    def run(self, batch: Batch, progress: Callable[[Progress], None] | None = None) -> Rehearsed:
        """Send a batch that goes through here; then once more, as if those who were put off were due.

        Raises what `Batch.send` raises.
        """
        batch = copy.copy(batch)
        batch.pace = replace(batch.pace, wait=0.0)  # who is put off is sent to at once, in the second run
        began = time.monotonic()
        first = batch.send(progress)
        seconds, octets = time.monotonic() - began, sum(self._sizes)
        if first.stopped is None:
            with self.journal.transaction() as connection:
                connection.execute(update(RECIPIENTS).where(RECIPIENTS.c.state == "deferred").values(not_before=0))
            batch.send()
        return Rehearsed(first, seconds, octets, self.journal.summary(batch.job))


@contextmanager
def rehearsing(connections: int = 1) -> Iterator[Rehearsal]:
    """Gives what a batch is rehearsed with, over so many connections; nothing of it is left at the end.

    Raises `MissingExtra` where the aiosmtpd package is not installed.
    """
    sizes: list[int] = []

    def forget(received: Received) -> None:
        sizes.append(received.size)
        received.path.unlink()

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        manner = Manner(Faults(one_in=ONE_IN))
        with Receiver(folder / "messages", arrived=forget, manner=manner) as receiver:
            through = transport(receiver.address, connections=connections)
            with Journal(folder / "rehearsal.journal") as journal:
                yield Rehearsal(through, journal, sizes)
