"""The event of a booked berth: three messages, asked for twice, and posted once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from pribble.delivery.journal import Journal
from pribble.delivery.mailroom import Mailroom
from pribble.delivery.receiver import Receiver
from pribble.delivery.transports import transport
from pribble.records import record
from pribble.settings import read_settings

PROJECT = Path(__file__).parent / "pribble.toml"
EVENT = "berth-booked"


@record(frozen=True, slots=True)
class BookedBerth:
    """What became of an `event`: its `key`, a line for each recipient, whether asking `again` sent anything, and the
    folder of the `drafts`."""

    event: str
    key: str
    lines: Sequence[str]
    again: bool
    drafts: Path


@contextmanager
def _office(out: Path) -> Iterator[Mailroom]:
    """The berth office's mailroom, with a receiver of this machine in the place of its server."""
    for old in out.glob("post.journal*"):
        old.unlink()
    with Receiver(out / "booked") as receiver, Journal(out / "post.journal") as journal:
        ways = {"default": transport(receiver.address), "review": transport(f"drafts+folder:{out / 'to-look-at'}")}
        with Mailroom(read_settings(PROJECT), journal=journal, through=ways) as mailroom:
            yield mailroom


def post_booking(out: Path, booking: Any) -> BookedBerth:
    """Post the event for a booking, twice; messages, drafts and the journal are left in `out`."""
    with _office(out) as mailroom:
        posted = mailroom.post(EVENT, booking)
        again = mailroom.post(EVENT, booking)
    lines = [f"{message.name}  {one.address}: {one.state}" for message in posted.messages for one in message.entries]
    return BookedBerth(EVENT, posted.key, lines, again.is_new, out / "to-look-at")
