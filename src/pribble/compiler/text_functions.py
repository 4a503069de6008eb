"""The functions that text programs call, beside those that all programs call."""

from __future__ import annotations

from pribble.plaintext import characters as chars
from pribble.plaintext import elements
from pribble.plaintext.events import Open
from pribble.plaintext.known_tables import Columns
from pribble.plaintext.links import with_address, with_address_apart

TEXT_FUNCTIONS: dict[str, object] = {
    "Open": Open,
    "linked": with_address,
    "linked_apart": with_address_apart,
    "picture_words": elements.picture,
    "indexed": elements.indexed,
    "bound": chars.bound,
    "in_columns": Columns.of_rows,
}
