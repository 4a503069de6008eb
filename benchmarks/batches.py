"""Batches: to a sink, the memory of a long table and the time that a row takes; with ready messages over SMTP, against
a bare loop that syncs the disk once a message."""

from __future__ import annotations

import json
import os
import smtplib
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Any, cast

from benchmarks.statement import Statement
from pribble import Message, Template
from pribble.delivery import Batch, Journal, transport
from pribble.delivery.base import Committing, Unconnected
from pribble.delivery.composing import Composer
from pribble.delivery.receipts import Outcome, Receipt
from pribble.delivery.rows import read_rows
from pribble.delivery.sending import Pace, Sending, Work
from pribble.delivery.transports import Transport
from pribble.mime.base import BaseMessage

OFFICE = "Skerrow Haven Berth Office <berths@skerrow.example>"
NOTICE = (
    "{{ subject: }}Berth {{ berth }}{{ :subject }}<p>Dear {{ name }},</p>" + "<p>the season begins in April.</p>" * 60
)
_TAKEN = "250 2.0.0 kept"


class Sink(Unconnected):
    """A transport that takes everything and keeps nothing."""

    def deliver(
        self, message: BaseMessage, *, recipients: Sequence[str] | None = None, committing: Committing | None = None
    ) -> Receipt:
        bytes(message)
        chosen = tuple(recipients or message.envelope.recipients)
        if committing is not None:
            committing(chosen)
        outcomes = [Outcome(one, "accepted", 250, "2.0.0", _TAKEN, datetime.now(UTC)) for one in chosen]
        return Receipt(message.message_id or "", tuple(outcomes))


class Ready:
    """Stands in for a composer whose messages cost nothing: each is made once, ahead."""

    def __init__(self, composer: Composer, rows: Sequence[Any]) -> None:
        self._composer, self.template, self.key = composer, composer.template, composer.key
        self._made: list[Message] = [composer.message(row) for row in rows]
        for message in self._made:
            bytes(message)

    def message(self, row: Any, *, seed: bytes | None = None, date: float | None = None) -> Message:
        return self._made[int(row["number"])]

    def recipients(self, row: Any) -> tuple[str, ...]:
        return self._composer.recipients(row)  # which the plan has, and not the message

    def key_of(self, row: Any, number: int) -> str:
        return f"row {number}"


def notices(count: int) -> list[dict[str, Any]]:
    return [{"number": n, "name": f"N{n}", "mail": f"p{n}@d{n % 7}.example", "berth": f"B{n}"} for n in range(count)]


@contextmanager
def batch(template: Template, rows: Any, to: str, through: Transport, connections: int = 1) -> Iterator[Batch]:
    """A batch with a journal of its own."""
    with (
        tempfile.TemporaryDirectory() as folder,
        Journal(Path(folder) / "a.journal") as journal,
        read_rows(rows) as read,
    ):
        pace = Pace(wait=0)
        yield Batch(
            template, read, sender=OFFICE, to=to, through=through, journal=journal, connections=connections, pace=pace
        )


# ---- memory and time of a row -------------------------------------------------------------------------------------


def row_time(statement: Statement, rounds: int = 40) -> tuple[float, float, float, float]:
    """Returns how many times as long a row takes, more than in the same batch with ready messages, as its message does
    alone; and the CPU seconds of each of these, and of a row with a ready message.  Medians over many short rounds:
    the machine's speed, and what the journal's syncs take, differ from one to the next."""
    rows = [{**data, "number": number} for number, data in enumerate(statement.recipients)]
    to = "{{ skipper.name? }} <{{ skipper.email }}>"
    found = []
    for number in range(-1, rounds):
        with batch(statement.template, rows, to, Sink()) as made, batch(statement.template, rows, to, Sink()) as ready:
            ready.composer = cast(Composer, Ready(ready.composer, rows))
            whole, write = _cpu(made.send), _cpu(ready.send)
            message = _cpu(partial(_compose, made.composer, rows))
        if number >= 0:
            found.append(((whole - write) / message, *(each / len(rows) for each in (whole - write, message, write))))
    ratio, own, alone, written = (statistics.median(column) for column in zip(*found, strict=True))
    return ratio, own, alone, written


def _compose(composer: Composer, rows: Sequence[Any]) -> None:
    for row in rows:
        bytes(composer.message(row))


def _cpu(way: Any) -> float:
    began = time.process_time()
    way()
    return time.process_time() - began


def memory(count: int) -> int:
    """Returns the kibibytes that a process has taken at most, for a batch of so many rows from a file to a sink."""
    with tempfile.TemporaryDirectory() as folder:
        table = Path(folder) / "rows.jsonl"
        with open(table, "w", encoding="utf-8") as file:
            file.writelines(json.dumps(row) + "\n" for row in notices(count))
        command = [sys.executable, "-m", "benchmarks.batches", str(table)]
        return int(subprocess.run(command, stdout=subprocess.PIPE, check=True, text=True).stdout)


def _main() -> None:
    with batch(Template.from_text(NOTICE), Path(sys.argv[1]), "mail", Sink()) as made:
        made.send()
    peak = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM"))
    print(peak.split()[1])


# ---- over SMTP ----------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class OverSmtp:
    """How many times as fast a batch is as the bare loop; the seconds of a message in both, and of one sync."""

    ratio: float
    own: float
    bare: float
    sync: float


def over_smtp(port: int, connections: int, count: int = 800, rounds: int = 9) -> OverSmtp:
    """Send ready messages as a batch, with its journal, and with a bare loop in as many threads that syncs the disk
    once a message; the median of rounds in turn."""
    pairs, syncs = [], []
    rows = notices(count)
    for number in range(-1, rounds):
        way = transport(f"smtp://127.0.0.1:{port}", connections=connections)
        with way, batch(Template.from_text(NOTICE), rows, "{{ name }} <{{ mail }}>", way, connections) as made:
            made.composer = ready = cast(Composer, Ready(made.composer, rows))
            made.journal.plan(made.job, made._planned(()), template="", rows=None)
            work = Work(made._message_of, made.job, way, made.journal, connections, made.wanted, made.pace)
            bare = partial(_bare, port, ready.message(rows[0]), connections, count)
            own_first = _wall(Sending(work, None).go) if number % 2 else None
            plain = _wall(bare)
            own = own_first or _wall(Sending(work, None).go)
            assert made.journal.summary()["accepted"] == count
        if number >= 0:
            pairs.append((own / count, plain / count))
            syncs.append(_sync())
    owns, plains = zip(*pairs, strict=True)
    ratio = statistics.median(plain / own for own, plain in pairs)
    return OverSmtp(ratio, statistics.median(owns), statistics.median(plains), statistics.median(syncs))


def _wall(way: Callable[[], object]) -> float:
    began = time.perf_counter()
    way()
    return time.perf_counter() - began


def _bare(port: int, message: Message, connections: int, count: int) -> None:
    raw, envelope = bytes(message), message.envelope

    def loop() -> None:
        with smtplib.SMTP("127.0.0.1", port) as server, tempfile.TemporaryFile(buffering=0) as file:
            for _ in range(count // connections):
                file.write(bytes(100))
                os.fdatasync(file.fileno())
                server.sendmail(envelope.sender, envelope.recipients, raw)

    with ThreadPoolExecutor(connections) as pool:
        for done in [pool.submit(loop) for _ in range(connections)]:
            done.result()


def _sync() -> float:
    with tempfile.TemporaryFile(buffering=0) as file:
        began = time.perf_counter()
        for _ in range(20):
            file.write(bytes(4096))
            os.fdatasync(file.fileno())
        return (time.perf_counter() - began) / 20


if __name__ == "__main__":
    _main()
