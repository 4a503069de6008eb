"""A message as a text that a reviewer can read: its header, the tree of its parts, and each body, decoded.

Date, Message-ID and boundaries, which differ each time, are fixed.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from pribble.mime.base import BaseMessage
from pribble.mime.encoded_words import decoded_text
from pribble.mime.reading import Entity, read_message
from pribble.rendering.rendering import Rendering

DATE = datetime(2000, 1, 1, tzinfo=UTC)
SEED = b"snapshot"
_RULE = 78


def snapshot_message(made: Rendering | BaseMessage | bytes, **envelope: Any) -> bytes:
    """Returns a message as snapshots hold it: that of a rendering, with `envelope`, has a fixed date and seed."""
    if isinstance(made, Rendering):
        fixed = {"sender": "sender@pribble.invalid", "date": DATE, "seed": SEED}
        made = made.message(**{**fixed, **envelope})
    return bytes(made)


def snapshot(raw: bytes) -> str:
    """Returns a message as a text for people: its header, the tree of its parts, and each body, decoded.

    Date, Message-ID and boundaries, which differ each time, are replaced; pictures and files are shown by their size
    and the beginning of their SHA-256; blanks at the end of a line are written ``·``, tabs ``→``.
    """
    root = read_message(raw.decode("latin-1"))
    lines = [*_header(root), "", *_tree(root)]
    for entity in root.walk():
        if not entity.parts:
            lines += ["", _title(entity), "", *_body_lines(entity)]
    return "\n".join(lines) + "\n"


def _with_blanks(line: str) -> str:
    """Returns a line whose blanks at its end can be seen, and that no editor takes away."""
    kept = line.rstrip(" \t")
    return kept + "".join("·" if blank == " " else "→" for blank in line[len(kept) :])


# What differs each time, and what the tree and the bodies say.
_FIXED = {"date": "(a date)", "message-id": "(an id)", "content-type": "", "content-transfer-encoding": ""}


def _header(root: Entity) -> Iterator[str]:
    for field in root.fields:
        value = _FIXED.get(field.key, decoded_text(field.value))
        if value:
            yield f"{field.name}: {value}"


def _tree(root: Entity) -> Iterator[str]:
    for entity in root.walk():
        said = [entity.disposition.value, entity.file_name or "", f"<{entity.content_id}>" if entity.content_id else ""]
        parameters = [
            f"{name}={value}"
            for name, value in entity.type.decoded.items()
            if name not in ("boundary", "name", "charset")
        ]
        words = [entity.type.value, *parameters, *filter(None, said)]
        yield "  " * (entity.depth + 1) + "  ".join(words)


def _title(entity: Entity) -> str:
    name = f"{entity.type.value} {entity.file_name or ''}".strip()
    return f"-- {name} ".ljust(_RULE, "-")


def _body_lines(entity: Entity) -> list[str]:
    octets = entity.decoded()
    if entity.type.value.startswith("text/"):
        try:
            text = octets.decode(entity.type.get("charset") or "us-ascii")
        except (LookupError, ValueError):  # no charset, or octets that are not in it
            pass
        else:
            return [_with_blanks(line) for line in text.replace("\r\n", "\n").removesuffix("\n").split("\n")]
    return [f"{len(octets):,} bytes, sha256 {hashlib.sha256(octets).hexdigest()[:16]}"]
