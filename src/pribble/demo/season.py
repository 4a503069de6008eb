"""The notice to all skippers before the season: a batch of 120 rows, killed on its way and called again."""

from __future__ import annotations

import subprocess
import sys
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

from pribble.delivery.faults import DEFERRED, REFUSED, Faults, Refusal
from pribble.delivery.receiver import Manner, Received, Receiver
from pribble.records import record

SKIPPERS = Path(__file__).parent / "skippers.csv"
KILLED_AFTER = 40  # messages


@record(frozen=True, slots=True)
class SeasonNotice:
    """What became of the notice: the `command`, how many messages had come when it was `killed`, what it said when it
    was called again, and how many addresses got `once` and `more` than once what the receiver has."""

    command: Sequence[str]
    killed: int
    said: str
    once: int
    more: int
    journal: Path


def send_notice(out: Path, templates: Path, sender: str) -> SeasonNotice:
    """Send the notice to a receiver that refuses two skippers and defers three; kill the command on its way, and call
    it again.  The messages and the journal are left in `out`."""
    journal = out / "season.journal"
    for old in (*out.glob(f"{journal.name}*"), *(out / "season").glob("*.eml")):
        old.unlink()
    received: Counter[str] = Counter()
    process: subprocess.Popen[str] | None = None

    def arrived(message: Received) -> None:
        received.update(message.recipients)
        if received.total() == KILLED_AFTER and process is not None:
            process.kill()

    faults = Faults([Refusal("*@closed.example", *REFUSED), Refusal("*@busy.example", *DEFERRED, times=1)])
    with Receiver(out / "season", arrived=arrived, manner=Manner(faults)) as receiver:
        command = [
            *("batch", "season-notice", "--rows", str(SKIPPERS), "--key", "berth"),
            *("--to", "{{ name }} <{{ email }}>", "--from", sender),
            *("--through", receiver.address, "--connections", "2", "--journal", str(journal), "--wait", "0"),
        ]
        whole = [sys.executable, "-m", "pribble", *command, "--templates", str(templates)]
        process = subprocess.Popen(whole, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, encoding="utf-8")
        process.communicate()
        killed, process = received.total(), None
        again = subprocess.run(whole, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, encoding="utf-8")
    more = sum(count > 1 for count in received.values())
    return SeasonNotice(command, killed, again.stdout, len(received) - more, more, journal)
