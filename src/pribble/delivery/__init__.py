"""Getting messages out: transports, and what became of a message for each recipient."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

from pribble.errors import loaded

if TYPE_CHECKING:
    from pribble.delivery.batch import Batch
    from pribble.delivery.journal import Journal
    from pribble.delivery.mailroom import EventError, Mailroom, Posted
    from pribble.delivery.receipts import Outcome, Receipt
    from pribble.delivery.transports import Transport, transport

__all__ = ["Batch", "EventError", "Journal", "Mailroom", "Outcome", "Posted", "Receipt", "Transport", "transport"]

# Loaded when first asked for (PEP 562): a server's client is not needed for a folder.
_HOME_OF = {
    "Batch": "batch",
    "EventError": "mailroom",
    "Journal": "journal",
    "Mailroom": "mailroom",
    "Outcome": "receipts",
    "Posted": "mailroom",
    "Receipt": "receipts",
    "Transport": "transports",
    "transport": "transports",
}


def __getattr__(name: str) -> object:
    if name not in _HOME_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    if _HOME_OF[name] in ("batch", "journal", "mailroom"):
        loaded("sqlalchemy", extra="journal", message="batches, events and journals need the SQLAlchemy package")
    found: object = getattr(import_module(f"{__name__}.{_HOME_OF[name]}"), name)
    globals()[name] = found
    return found
