"""The tables of a journal, and the databases that hold them: a SQLite file, or PostgreSQL where several machines work.

A schema has a version; a journal of another one is refused, and not guessed at.
"""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from sqlalchemy import (
    Column,
    Connection,
    Engine,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    ScalarSelect,
    Table,
    Text,
    UniqueConstraint,
    create_engine,
    event,
    func,
    literal_column,
    make_url,
    select,
    text,
)
from sqlalchemy.exc import ArgumentError, NoSuchModuleError
from sqlalchemy.pool import StaticPool

from pribble.delivery.files import fsync_folder
from pribble.errors import PribbleError

VERSION = "4"
# What an older version had not yet is made when a journal of it is opened.
_OLDER = ("1", "2", "3")
BUSY = 30.0  # seconds to wait for another process that writes

METADATA = MetaData()
FACTS = Table("facts", METADATA, Column("name", Text, primary_key=True), Column("value", Text, nullable=False))
# A job is what one batch sends: `template` and `rows` are digests of what it was planned from.
JOBS = Table(
    "jobs",
    METADATA,
    Column("id", Integer, primary_key=True),
    Column("name", Text, nullable=False, unique=True),
    Column("template", Text, nullable=False),
    Column("rows", Text),  # None: rows are known by a key, and the table may change
)
# Identity is (job, key).  `position` is the row's number in the table of today, None where it is not there any more;
# `attempt` counts claims, and belongs to the process `worker` until `lease`.
MESSAGES = Table(
    "messages",
    METADATA,
    Column("id", Integer, primary_key=True),
    Column("job", ForeignKey(JOBS.c.id), nullable=False),
    Column("key", Text, nullable=False),
    Column("position", Integer),
    Column("data", Text, nullable=False),  # a digest of the row and of its recipients
    Column("seed", LargeBinary, nullable=False),
    Column("date", Float),  # of the first start: the message stays the same
    Column("message_id", Text),
    Column("envelope_sender", Text),  # as it was last tried; a report may come back to it
    Column("content", Text),  # a digest of the bytes and the envelope's sender, since the first start
    Column("attempt", Integer, nullable=False),
    Column("worker", Text),
    Column("lease", Float),
    UniqueConstraint("job", "key"),
)
RECIPIENTS = Table(
    "recipients",
    METADATA,
    Column("id", Integer, primary_key=True),
    Column("message", ForeignKey(MESSAGES.c.id), nullable=False),
    Column("job", ForeignKey(JOBS.c.id), nullable=False),
    Column("address", Text, nullable=False),
    Column("state", Text, nullable=False),
    Column("attempt", Integer, nullable=False),
    Column("tries", Integer, nullable=False),
    Column("code", Integer),
    Column("enhanced", Text),
    Column("words", Text),
    Column("not_before", Float, nullable=False),
    Column("first_try", Float),
    Column("changed", Float, nullable=False),
    UniqueConstraint("message", "address"),
)
# An event that was posted: its messages are those of the jobs "event/name" with its key.
EVENTS = Table(
    "events",
    METADATA,
    Column("event", Text, primary_key=True),
    Column("key", Text, primary_key=True),
    Column("posted", Float, nullable=False),
)
# The messages of events until they are settled: `content` has the blind copies in a Bcc field; `through` is the name of
# the transport, `not_after` is when nobody wants the message any more.
STORED = Table(
    "stored",
    METADATA,
    Column("message", ForeignKey(MESSAGES.c.id), primary_key=True),
    Column("through", Text, nullable=False),
    Column("sender", Text, nullable=False),
    Column("content", LargeBinary, nullable=False),
    Column("not_after", Float),
)
Index("recipients_by_state", RECIPIENTS.c.job, RECIPIENTS.c.state, RECIPIENTS.c.message)
Index("messages_in_order", MESSAGES.c.job, MESSAGES.c.position)
Index("messages_by_worker", MESSAGES.c.worker)
# Not IS NOT NULL, for which SQLite uses no index.
IS_HELD = MESSAGES.c.worker > ""
# Literal, and no parameter: an index of a part of the rows serves no other query.
IS_RETURNED = RECIPIENTS.c.state == literal_column("'returned'")
_SINCE_3 = (
    # Reports of servers name a message by one of these.
    Index("messages_by_id", MESSAGES.c.message_id),
    Index("messages_by_sender", MESSAGES.c.envelope_sender),
    Index(
        "recipients_returned",
        func.lower(RECIPIENTS.c.address),
        sqlite_where=IS_RETURNED,
        postgresql_where=IS_RETURNED,
    ),
)
# The messages themselves are long, and stand before what says when they end.
_SINCE_4 = (Index("stored_by_end", STORED.c.not_after),)

# Of a file: with each commit a sync of the disk, so that what is committed outlives a loss of power.
PRAGMAS = ("journal_mode = WAL", "synchronous = FULL", "foreign_keys = ON")
# Seconds since 1970 by the database's clock, which all who share a journal have in common.
CLOCKS = {
    "sqlite": "SELECT (julianday('now') - 2440587.5) * 86400.0",
    "postgresql": "SELECT extract(epoch FROM clock_timestamp())",
}


class JournalError(PribbleError):
    """A journal cannot be used as it is asked to be."""


class JournalAway(JournalError):
    """The database of a journal cannot be reached now."""


def opened(where: str | Path) -> Engine:
    """Returns the database of a journal, a file or the address of a PostgreSQL database, with its tables.

    Raises `JournalError` for an address that names none, or a journal of another version.
    """
    named = str(where)
    if "://" not in named:
        engine = _sqlite(Path(named))
    else:
        try:
            url = make_url(named)
            if url.get_backend_name() != "postgresql":
                raise JournalError("a journal is a file, or a PostgreSQL database: postgresql://host/name")
            if url.password is not None:
                raise JournalError(
                    "a password has no place in an address, where others may read it",
                    hint="PGPASSFILE and PGPASSWORD are PostgreSQL's own ways",
                )
            engine = create_engine(url.set(drivername="postgresql+psycopg"), pool_pre_ping=True)
        except (ArgumentError, NoSuchModuleError, ImportError) as error:
            raise JournalError(f"this journal cannot be used: {error}") from None
    with engine.begin() as connection:
        wait_for_turn(connection)
        METADATA.create_all(connection)
        _check_schema(connection, named)
    if "://" not in named:
        # The file's name lasts from here on, and what SQLite wrote and deleted to make the file does not come back.
        fsync_folder(Path(named).parent)
    return engine


def _check_schema(connection: Connection, named: str) -> None:
    found = connection.scalar(select(FACTS.c.value).where(FACTS.c.name == "version"))
    if found is None:
        connection.execute(FACTS.insert(), {"name": "version", "value": VERSION})
    elif found in _OLDER:
        if found != "3":
            connection.execute(text("ALTER TABLE messages ADD COLUMN envelope_sender TEXT"))
            for index in _SINCE_3:
                index.create(connection)
        for index in _SINCE_4:
            index.create(connection, checkfirst=True)  # a table that was made just now has it
        connection.execute(FACTS.update().where(FACTS.c.name == "version").values(value=VERSION))
    elif found != VERSION:
        raise JournalError(f"{named} is a journal of version {found}, and this is version {VERSION}")


def _sqlite(path: Path) -> Engine:
    # Addresses are in it: nobody else reads it, from its first moment on.
    os.close(os.open(path, os.O_RDWR | os.O_CREAT, 0o600))
    # One connection, since one transaction is under way at a time; what an interruption left of one is rolled back.
    arguments = {"timeout": BUSY, "check_same_thread": False}
    engine = create_engine(f"sqlite:///{path}", connect_args=arguments, poolclass=StaticPool)

    @event.listens_for(engine, "connect")
    def set_up(raw: Any, _: Any) -> None:
        raw.isolation_level = None  # transactions begin where we say so
        for pragma in PRAGMAS:
            raw.execute(f"PRAGMA {pragma}")

    @event.listens_for(engine, "begin")
    def begin(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE")  # whoever reads in order to write waits for the others first

    return engine


def id_of_job(name: str) -> ScalarSelect[Any]:
    """Returns the query for the id of the job with this name."""
    return select(JOBS.c.id).where(JOBS.c.name == name).scalar_subquery()


def wait_for_turn(connection: Connection) -> None:
    """Wait until no other process sets up or plans; until the transaction ends, none does."""
    if connection.dialect.name == "postgresql":  # in SQLite one transaction at a time writes
        connection.execute(text("SELECT pg_advisory_xact_lock(7264391)"))


def clock(connection: Connection) -> float:
    """Returns the database's time, in seconds since 1970."""
    return float(connection.exec_driver_sql(CLOCKS[connection.dialect.name]).scalar_one())
