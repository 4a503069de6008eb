"""Messages in your own tests: held against snapshots that a reviewer can read.

    class Confirmation(MessageTestCase):
        def test_short_stay(self) -> None:
            self.assertMatchesSnapshot(templates["berth-confirmed"].render(booking), "short-stay")

The snapshot is a text file beside the test, in ``snapshots/``; it holds the header, the tree of parts and the decoded
bodies, with date, ids and boundaries fixed.  Run the tests with ``PRIBBLE_SNAPSHOTS=write`` to write what there is now,
and read the difference before you commit it.
"""

from __future__ import annotations

import difflib
import hashlib
import inspect
import os
import re
import unittest
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from pribble.mime.audit import audit
from pribble.mime.base import BaseMessage
from pribble.mime.encoded_words import decoded_text
from pribble.mime.reading import Entity, read_message
from pribble.rendering.rendering import Rendering

VARIABLE = "PRIBBLE_SNAPSHOTS"
DATE = datetime(2000, 1, 1, tzinfo=UTC)
SEED = b"snapshot"
_RULE = 78
# Which test has which snapshot, in this run.
_CLAIMED: dict[Path, str] = {}


class MessageTestCase(unittest.TestCase):
    """A test case that knows messages.

    `snapshots` is where they are kept; by default a folder ``snapshots`` beside the file of the test.
    """

    snapshots: Path | None = None

    def assertMatchesSnapshot(self, made: Rendering | BaseMessage | bytes, name: str, **envelope: Any) -> None:
        """`made` says what the snapshot `name` does: fails with the difference where it does not, or where there is
        none yet.

        A rendering becomes a message with `envelope`, which takes what ``Rendering.message`` takes; date and seed are
        fixed.  A message, or its bytes, is taken as it is, but that its date, ids and boundaries are shown as fixed.
        """
        path = self._snapshot(name)
        self._claim(path)
        found = snapshot(snapshot_message(made, **envelope))
        if os.environ.get(VARIABLE) == "write":
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(found, encoding="utf-8", newline="\n")
            return
        if not path.is_file():
            self.fail(f"there is no snapshot {path}; write it with {VARIABLE}=write, and read it")
        kept = path.read_text(encoding="utf-8")
        if kept != found:
            lines = difflib.unified_diff(kept.splitlines(), found.splitlines(), str(path), "now", lineterm="")
            self.fail(
                "\n".join([f"the message is not what its snapshot says ({VARIABLE}=write if this is right):", *lines])
            )

    def assertSound(self, made: Rendering | BaseMessage | bytes, **envelope: Any) -> None:
        """`made` departs from no standard: an audit finds neither errors nor warnings."""
        found = [f for f in audit(snapshot_message(made, **envelope)) if f.severity != "note"]
        if found:
            self.fail("\n".join(f"{finding.rule} ({finding.reference}): {finding}" for finding in found))

    def _claim(self, path: Path) -> None:
        """Fail where another test of this run has the same snapshot: each would write over the other's."""
        if (other := _CLAIMED.setdefault(path.resolve(), self.id())) != self.id():
            self.fail(f"{other} has the snapshot {path} too; give one of them another name")

    def _snapshot(self, name: str) -> Path:
        if not re.fullmatch(r"[\w. -]+", name) or name.startswith("."):
            raise ValueError(f'a snapshot\'s name is part of a file name, not "{name}"')
        folder = self.snapshots or Path(inspect.getfile(type(self))).parent / "snapshots"
        return folder / f"{name}.txt"


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
