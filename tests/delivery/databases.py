"""A PostgreSQL for journals, empty for each test."""

from __future__ import annotations

import unittest

from sqlalchemy import create_engine, text

from pribble.delivery.journal import Journal
from pribble.delivery.journal_tables import EVENTS, FACTS, METADATA, STORED
from tests.servers import postgresql


def make_older(journal: Journal, version: int) -> None:
    """Make a journal in a file what it was in an earlier version."""
    with journal.transaction() as connection:
        connection.execute(text("DROP INDEX stored_by_end"))
        if version < 3:
            for index in ("messages_by_sender", "messages_by_id", "recipients_returned"):
                connection.execute(text(f"DROP INDEX {index}"))
            connection.execute(text("ALTER TABLE messages DROP COLUMN envelope_sender"))
        if version < 2:
            STORED.drop(connection)
            EVENTS.drop(connection)
        connection.execute(FACTS.update().values(value=str(version)))
    journal.close()


class OnPostgreSql(unittest.TestCase):
    """Tests whose journals are in a PostgreSQL that the class has started."""

    server: str

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.server = cls.enterClassContext(postgresql())

    def place(self) -> str:
        engine = create_engine(self.server.replace("postgresql:", "postgresql+psycopg:"))
        METADATA.drop_all(engine)
        engine.dispose()
        return self.server
