"""Files by names that somebody else wrote: a name that can be none, or a link that leads in a circle, is not there."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from pribble.records import record


def is_file(path: Path) -> bool:
    """Returns whether a file is there."""
    try:
        return path.is_file()
    except (OSError, ValueError):  # longer than names may be; half a surrogate pair, NUL
        return False


def as_shown(path: Path) -> Path:
    """Returns a path as errors should show it: from here, where it is below."""
    here = Path.cwd()
    return path.relative_to(here) if path.is_relative_to(here) else path


def real_path(path: Path) -> Path | None:
    """Returns a path with its links followed; None where they lead in a circle, or no path could be called so."""
    try:
        found = path.resolve()
        return None if os.path.islink(found) else found  # a circle, as Python leaves it from 3.13 on
    except (OSError, ValueError, RuntimeError):  # a circle before that
        return None


def is_within(path: Path, folder: Path) -> bool:
    """Returns whether a path, its links followed, lies in a folder."""
    found, inside = real_path(path), real_path(folder)
    return found is not None and inside is not None and found.is_relative_to(inside)


def file_names(folder: Path) -> list[str]:
    """Returns the names of the files in a folder, in order; none where there is no folder."""
    try:
        return sorted(path.name for path in folder.iterdir() if is_file(path))
    except (OSError, ValueError):
        return []


@record(frozen=True, slots=True)
class FileStamp:
    """What tells whether a file changed."""

    path: Path
    changed: int
    size: int

    @classmethod
    def of(cls, path: Path) -> FileStamp:
        """Returns that of a file, which may be gone."""
        try:
            status = path.stat()
        except OSError:
            return cls(path, 0, -1)
        return cls(path, status.st_mtime_ns, status.st_size)

    @property
    def is_of_today(self) -> bool:
        """Whether the file is as it was."""
        return self == FileStamp.of(self.path)


def write_file(path: Path, content: bytes) -> None:
    """Write a file whole or not at all: what was there stays until the new one is complete.  Raises `OSError`."""
    if path.exists() and not path.is_file():  # a device or a pipe is written to, and not replaced by a file
        path.write_bytes(content)
        return
    with _written_beside(path, content) as written:
        os.replace(written, path.resolve())  # what a link leads to is written, and the link stays


def write_new_file(path: Path, content: bytes) -> None:
    """Write a file that is not there yet, whole or not at all.  Raises `FileExistsError`, and other `OSError`s."""
    with _written_beside(path, content) as written:
        os.link(written, path)


@contextmanager
def _written_beside(path: Path, content: bytes) -> Iterator[Path]:
    """Gives a file with this content beside another one, which it is to become; it is gone at the end."""
    target = path.resolve()
    beside = target.with_name(f".{target.name[:200]}.{secrets.token_hex(4)}")
    try:
        with open(beside, "xb") as file:  # as permitted as the umask lets a file be
            file.write(content)
        yield beside
    except OSError as error:
        raise OSError(error.errno, error.strerror, str(path)) from None  # as it was asked for
    finally:
        beside.unlink(missing_ok=True)
