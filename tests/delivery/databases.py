"""A PostgreSQL for journals, empty for each test."""

from __future__ import annotations

import unittest

from sqlalchemy import create_engine

from pribble.delivery.journal_tables import METADATA
from tests.servers import postgresql


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
