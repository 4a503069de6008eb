"""Messages in your own tests: an outbox that keeps what an application sends, and snapshots that a reviewer can read.

    class Confirmation(MessageTestCase):
        def test_short_stay(self) -> None:
            self.assertMatchesSnapshot(templates["berth-confirmed"].render(booking), "short-stay")

The snapshot is a text file beside the test, in ``snapshots/``; it holds the header, the tree of parts and the decoded
bodies, with date, ids and boundaries fixed.  Run the tests with ``PRIBBLE_SNAPSHOTS=write`` to write what there is now,
and read the difference before you commit it.
"""

from __future__ import annotations

import difflib
import inspect
import os
import re
import unittest
from pathlib import Path
from typing import Any

from pribble.delivery.memory import Outbox
from pribble.mime.audit import audit
from pribble.mime.base import BaseMessage
from pribble.rendering.rendering import Rendering
from pribble.review.snapshots import snapshot, snapshot_message

__all__ = ["VARIABLE", "MessageTestCase", "Outbox", "snapshot", "snapshot_message"]

VARIABLE = "PRIBBLE_SNAPSHOTS"
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
