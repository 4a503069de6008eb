"""Archives that somebody else made: read into memory within bounds, and refused whole where one entry is no file of a
page."""

from __future__ import annotations

import io
import stat
import zipfile
import zlib
from collections.abc import Mapping

from pribble.errors import DataError
from pribble.regexes import regex

MOST_ENTRIES = 2000
MOST_BYTES = 200 * 1024 * 1024
MOST_RATIO = 200
_CHUNK = 1 << 16
# The fixed part of what stands before an entry (APPNOTE 4.3.7).
_LOCAL_HEADER = 30
_DRIVE = regex(r"[A-Za-z]:")
_NOT_A_FILE = frozenset({stat.S_IFLNK, stat.S_IFCHR, stat.S_IFBLK, stat.S_IFIFO, stat.S_IFSOCK})


def read_archive(raw: bytes, name: str) -> Mapping[str, bytes]:
    """Returns the files of a zip archive by their paths, with slashes.

    Raises `DataError` for what is no archive, is encrypted or damaged, has entries that lead out, are no files, overlap
    or have one name, or is larger than `MOST_ENTRIES`, `MOST_BYTES` and `MOST_RATIO` permit.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(raw)) as archive:
            return _files(archive, len(raw), name)
    except (
        zipfile.BadZipFile,
        zlib.error,
        NotImplementedError,
        EOFError,
        OverflowError,
        ValueError,
        RuntimeError,
    ) as error:
        raise DataError(f"{name} is no sound archive: {error}", hint="pack it anew, as a plain zip") from None


def _files(archive: zipfile.ZipFile, size: int, name: str) -> Mapping[str, bytes]:
    entries = archive.infolist()
    if len(entries) > MOST_ENTRIES:
        raise DataError(f"{name} has {len(entries):,} entries", hint=f"at most {MOST_ENTRIES:,} are taken")
    _check_overlap(entries, name)
    files: dict[str, bytes] = {}
    known: set[str] = set()
    left = min(MOST_BYTES, max(size, 1) * MOST_RATIO)
    for entry in entries:
        path = _checked_path(entry, name)
        folded = path.casefold().rstrip("/")
        if folded in known:
            raise DataError(f'{name} has "{path[:100]}" twice')
        known.add(folded)
        if entry.is_dir():
            continue
        content = _entry_content(archive, entry, left)
        if content is None:
            raise DataError(
                f"{name} unpacks to more than {MOST_BYTES // 1024 // 1024} MB, or {MOST_RATIO} times its size",
                hint="pack the page and its pictures alone",
            )
        left -= len(content)
        files[path] = content
    return files


def _check_overlap(entries: list[zipfile.ZipInfo], name: str) -> None:
    """Raise `DataError` where two entries share bytes, as those of archives do that unpack to more than they hold."""
    end = -1
    for entry in sorted(entries, key=lambda one: one.header_offset):
        if entry.header_offset < end:
            raise DataError(f'{name} has entries that overlap, as "{entry.filename[:100]}"')
        end = entry.header_offset + _LOCAL_HEADER + entry.compress_size


def _checked_path(entry: zipfile.ZipInfo, name: str) -> str:
    """Returns the path of an entry, with slashes."""
    if entry.flag_bits & 1:
        raise DataError(f"{name} is encrypted", hint="pack it without a password")
    path = entry.filename.replace("\\", "/")
    parts = path.split("/")
    if path.startswith("/") or _DRIVE.match(path) or ".." in parts or not path.strip("/.") or not path.isprintable():
        raise DataError(f'{name} has an entry that leads out of it: "{path[:100]}"')
    if stat.S_IFMT(entry.external_attr >> 16) in _NOT_A_FILE:
        raise DataError(f'{name} has an entry that is a link or a device: "{path[:100]}"')
    return path


def _entry_content(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, most: int) -> bytes | None:
    """Returns the content of an entry, by what is there and not by what it says; None for more than `most` bytes."""
    made = bytearray()
    with archive.open(entry) as file:
        while chunk := file.read(_CHUNK):
            made += chunk
            if len(made) > most:
                return None
    return bytes(made)
