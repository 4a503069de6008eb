"""What proves that a batch loses nothing: a receiver that counts, a sender that is killed, and a judge of both records.

As a program it sends what standard input asks for, line by line in JSON, in copies of itself.
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any
from unittest.mock import patch

from sqlalchemy.engine import Connection as Database

from pribble import Template
from pribble.delivery import journal_tables, smtp
from pribble.delivery.batch import Batch
from pribble.delivery.journal import Entry, Journal
from pribble.delivery.rows import read_rows
from pribble.delivery.sending import Pace, Progress
from pribble.delivery.submitting import Smtp
from pribble.delivery.transports import Transport
from tests.support import ROOT

# An address, and what counts what came there.
Receiving = tuple[str, Callable[[int], Counter[str]]]
TEMPLATE = Template.from_text("{{ subject: }}Berth {{ berth }}{{ :subject }}<p>Dear {{ name }}</p>")


def table(count: int, town: str) -> list[dict[str, str]]:
    return [{"name": f"N{n}", "mail": f"p{n}@{town}{n % 7}.example", "berth": f"B{n}"} for n in range(count)]


def send(
    address: str,
    journal: str | Path | Journal,
    rows: list[dict[str, str]],
    connections: int,
    kind: type[Smtp] = Smtp,
    progress: Callable[[Progress], None] | None = None,
) -> None:
    """What the command does, with a server."""
    way = kind("127.0.0.1", int(address.rpartition(":")[2]), connections=connections)
    send_through(way, journal, rows, connections, progress)


def send_through(
    way: Transport,
    journal: str | Path | Journal,
    rows: list[dict[str, str]],
    connections: int = 1,
    progress: Callable[[Progress], None] | None = None,
) -> None:
    """What the command does."""
    with read_rows(rows) as read:
        Batch(
            TEMPLATE,
            read,
            sender="o@skerrow.example",
            to="{{ name }} <{{ mail }}>",
            key=["berth"],
            through=way,
            journal=journal if isinstance(journal, Journal) else Journal(journal),
            connections=connections,
            pace=Pace(wait=0),
        ).send(progress)


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


def judged(
    entries: Sequence[Entry], received: Mapping[str, int], rows: Sequence[Mapping[str, str]], most_in_doubt: int
) -> list[str]:
    """Returns what is wrong with a batch that was sent to its end: whoever has it by the receiver's record has it once,
    nobody is left out, and not more are in doubt than can be."""
    wrong = []
    if sorted(entry.address for entry in entries) != sorted(row["mail"] for row in rows):
        wrong.append("the journal has other recipients than the table")
    in_doubt = sum(entry.state == "in_doubt" for entry in entries)
    if in_doubt > most_in_doubt:
        wrong.append(f"{in_doubt} are in doubt, and no more than {most_in_doubt} can be")
    for entry in entries:
        allowed = {"accepted": (1,), "in_doubt": (0, 1)}.get(entry.state, ())
        if received[entry.address] not in allowed:
            wrong.append(f"{entry.address}: {entry.state}, received {received[entry.address]} times")
    return wrong


def serve() -> None:
    for line in sys.stdin:
        asked = json.loads(line)
        work = partial(send, asked["address"], asked["journal"], asked["rows"], asked["connections"])
        with patch.object(journal_tables, "PRAGMAS", asked["pragmas"] or journal_tables.PRAGMAS):
            print(json.dumps(run_killed(asked["at"], work)), flush=True)


if __name__ == "__main__":
    serve()
