"""Where reports of servers arrive: a mailbox of files (maildir), or a folder of .eml files."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from pribble.errors import DataError
from pribble.mime.delivery_report import DeliveryReport, read_report
from pribble.records import record

_LARGEST = 20_000_000  # octets; a report holds the header of a message, or all of it


@record(frozen=True, slots=True)
class ArrivedMessage:
    """A file in which a message arrived, and the report that it is; None for another message."""

    path: Path
    report: DeliveryReport | None


@record(frozen=True)
class ReportFolder:
    """The messages of a maildir that are new, or all .eml files of a folder."""

    path: Path
    is_maildir: bool

    @classmethod
    def of(cls, address: str) -> ReportFolder:
        """Returns the folder of ``maildir:DIR`` or ``folder:DIR``.  Raises `DataError` for what is none."""
        scheme, colon, rest = address.partition(":")
        if not colon or scheme not in ("maildir", "folder") or not rest or "\0" in rest:
            raise DataError(f'"{address[:100]}" names no mailbox: maildir:DIR, or folder:DIR')
        path = Path(rest)
        if not (path / "new" if scheme == "maildir" else path).is_dir():
            raise DataError(f"there is no {'maildir' if scheme == 'maildir' else 'folder'} {path}")
        return cls(path, scheme == "maildir")

    def arrived(self) -> Iterator[ArrivedMessage]:
        """Yields the messages, in the order of their names, but for those that have gone meanwhile, or are enormous."""
        folder = self.path / "new" if self.is_maildir else self.path
        names = sorted(name for name in os.listdir(folder) if self.is_maildir or name.endswith(".eml"))
        for name in names:
            path = folder / name
            try:
                if name.startswith(".") or not path.is_file() or path.stat().st_size > _LARGEST:
                    continue
                raw = path.read_bytes()
            except FileNotFoundError:  # a mail program has moved it
                continue
            yield ArrivedMessage(path, read_report(raw.replace(b"\r\n", b"\n").replace(b"\n", b"\r\n")))

    def done(self, one: ArrivedMessage) -> None:
        """Mark a message as seen, as mail programs do; in a folder it stays as it is."""
        if self.is_maildir:
            (self.path / "cur").mkdir(exist_ok=True)
            os.rename(one.path, self.path / "cur" / f"{one.path.name}:2,S")
