"""What is done for an event or a message costs the same however much a journal holds: SQLite tells how it looks."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Connection, Engine, event

from pribble import Template
from pribble.delivery import Batch, Journal
from pribble.delivery.journal_events import is_under_way
from pribble.testing import Outbox
from tests.delivery.test_events import DATA, OfEvents

# The tables that grow with what was ever sent; of jobs there are few, and what is stored waits.
_WHOLE_TABLE = re.compile("SCAN (?:messages|recipients|events)")


@contextmanager
def statements() -> Iterator[dict[str, Any]]:
    """The statements that journals run, each with parameters that it had."""
    found: dict[str, Any] = {}

    def note(connection: Connection, cursor: Any, written: str, given: Any, context: Any, several: bool) -> None:
        if written.startswith(("SELECT", "UPDATE", "DELETE")):
            found.setdefault(written, given[0] if several else given)

    event.listen(Engine, "before_cursor_execute", note)
    try:
        yield found
    finally:
        event.remove(Engine, "before_cursor_execute", note)


class LongJournals(OfEvents):
    def whole_tables(self, journal: Journal, made: Mapping[str, Any]) -> list[str]:
        """The statements that look at every row of a table that grows."""
        self.assertGreater(len(made), 5)
        with journal.transaction() as connection:
            plans = {
                written: [row[3] for row in connection.exec_driver_sql(f"EXPLAIN QUERY PLAN {written}", given)]
                for written, given in made.items()
            }
        return [written for written, plan in plans.items() if any(map(_WHOLE_TABLE.match, plan))]

    def test_an_event(self) -> None:
        mailroom = self.mailroom()
        mailroom.post("booked", {**DATA, "ref": "B 1"})
        with statements() as made:
            mailroom.post("booked", DATA)
            mailroom.post("booked", DATA)
            mailroom.posted("booked", "B 14")
            mailroom.post("booked", {**DATA, "ref": "B 15"}, later=True)
            is_under_way(mailroom.journal, "booked", "B 15")
            mailroom.send_left("booked", "B 15")
            mailroom.post("booked", {**DATA, "ref": "B 16"}, later=True)
            mailroom.send_waiting()
            mailroom.journal.count_waiting()
            mailroom.due()
        self.assertEqual(self.whole_tables(mailroom.journal, made), [])

    def test_a_row_of_a_batch(self) -> None:
        rows = [{"mail": f"p{number}@x.example"} for number in range(40)]
        with Journal(self.path / "batch.journal") as journal:
            template = Template.from_text("{{ subject: }}T{{ :subject }}<p>x")
            with statements() as made:
                Batch(template, rows, sender="o@x.example", to="mail", through=Outbox(), journal=journal).send()
            self.assertEqual(
                [one for one in self.whole_tables(journal, made) if "recipients.state = 'returned'" not in one], []
            )

    def test_one_that_looks_at_all_is_found(self) -> None:
        mailroom = self.mailroom()
        mailroom.post("booked", DATA)
        with statements() as made:
            mailroom.journal.summary()
            mailroom.post("booked", DATA)
        self.assertEqual(len(self.whole_tables(mailroom.journal, made)), 1)
