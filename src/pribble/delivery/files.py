"""Transports that keep messages as files: a folder, a mailbox of files (maildir), drafts.

A message is there whole or not at all, also after a crash: it is written beside, made durable, and then linked to its
name, which fails where the name is taken.  Where it is not known how a try ended, `holds` looks.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import secrets
import socket
import time
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from itertools import chain
from pathlib import Path
from typing import Self

from pribble.delivery.base import Committing, Unconnected, recipients_of_try
from pribble.delivery.receipts import Receipt, same_for_all
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage
from pribble.records import record

OWNER_ONLY = 0o600


@record(frozen=True)
class FileTransport(Unconnected, ABC):
    """Keeps each message as a file in the folder at `path`, which is made when it is not there."""

    path: Path

    def __str__(self) -> str:
        return str(self.path)

    def deliver(
        self,
        message: BaseMessage,
        *,
        recipients: Sequence[str] | None = None,
        committing: Committing | None = None,
    ) -> Receipt:
        chosen = recipients_of_try(message, recipients)
        try:
            prepared = self._prepared(message, chosen)
        except OSError as error:
            raise self._failure(error) from None
        with prepared as step:
            if committing is not None:
                committing(chosen)
            try:
                written = step.finish()
            except OSError as error:
                raise self._failure(error) from None
        try:
            fsync_folder(written.parent)
        except OSError as error:
            words = f"written to {written}, which the disk did not confirm: {error.strerror or error}"
            return same_for_all(message, chosen, "in_doubt", words)
        return same_for_all(message, chosen, "accepted", f"{self._done} {written}")

    def _failure(self, error: OSError) -> DeliveryError:
        return DeliveryError(f"{self.path} cannot be written: {error.strerror or error}")

    _done = "written to"

    @abstractmethod
    def holds(self, message: BaseMessage, *, recipients: Sequence[str] | None = None) -> bool:
        """Returns whether the message is there, whole, as a try to deliver it to `recipients` would have left it."""

    @abstractmethod
    def _prepared(self, message: BaseMessage, recipients: Sequence[str]) -> _Prepared:
        """Gives the last step of a try, for which all is written; whatever is written is gone if it is not taken."""


class _Prepared(ABC):
    """A message of which everything is written but its name."""

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self.clear()

    @abstractmethod
    def finish(self) -> Path:
        """Give the message its name; returns its path.  Raises `OSError`."""

    @abstractmethod
    def clear(self) -> None:
        """Take away what was written on the way."""


# ---- a folder -----------------------------------------------------------------------------------------------------


@record(frozen=True)
class Folder(FileTransport):
    """A folder that keeps each message as an .eml file, and its envelope as an .envelope.json file beside it, which
    only its owner reads: the blind copies are in it."""

    def holds(self, message: BaseMessage, *, recipients: Sequence[str] | None = None) -> bool:
        stem, raw = _stem(message.message_id or ""), bytes(message)
        envelope = _envelope(message, recipients_of_try(message, recipients))
        return any(
            _content_of(path) == raw and _content_of(path.with_suffix(".envelope.json")) == envelope
            for path in _named_like(self.path, stem, ".eml")
        )

    def _prepared(self, message: BaseMessage, recipients: Sequence[str]) -> _Prepared:
        return _InFolder(self.path, bytes(message), _envelope(message, recipients), _stem(message.message_id or ""))


class _InFolder(_Prepared):
    """A message in a folder whose envelope has its name already."""

    def __init__(self, folder: Path, raw: bytes, envelope: bytes | None, stem: str) -> None:
        self._folder, self._stem, self._envelope_content = folder, stem, envelope
        self._written: list[Path] = []
        self._envelope: Path | None = None
        self._name = stem
        folder.mkdir(parents=True, exist_ok=True)
        try:
            self._message = self._write(raw, 0o666)
            if envelope is not None:
                self._envelope_part = self._write(envelope, OWNER_ONLY)
            self._name = self._named()
        except BaseException:
            self.clear()
            raise

    def _write(self, content: bytes, mode: int) -> Path:
        path = self._folder / f".{self._stem}.{secrets.token_hex(6)}.part"
        self._written.append(path)
        write_durably(path, content, mode)
        return path

    def _named(self) -> str:
        """Returns a name that is free, and which the envelope has taken."""
        for name in _names(self._stem):
            if (self._folder / f"{name}.eml").exists():
                continue
            if self._envelope_content is None:
                return name
            envelope = self._folder / f"{name}.envelope.json"
            try:
                os.link(self._envelope_part, envelope)
            except FileExistsError:
                # A try that was cut off left it, perhaps; if it says the same, it serves this one.
                if _content_of(envelope) != self._envelope_content:
                    continue
            self._envelope, self._name = envelope, name
            fsync_folder(self._folder)
            return name
        raise AssertionError("there is always one more name")

    def finish(self) -> Path:
        while True:
            path = self._folder / f"{self._name}.eml"
            try:
                os.link(self._message, path)
            except FileExistsError:  # taken in the meantime
                self._name = self._named()
                continue
            return path

    def clear(self) -> None:
        left = list(self._written)
        # Somebody who delivers the very same at this moment may have finished with this envelope.
        if self._envelope is not None and not (self._folder / f"{self._name}.eml").exists():
            left.append(self._envelope)
        _unlink(left)


# ---- drafts -------------------------------------------------------------------------------------------------------


@record(frozen=True)
class DraftFolder(FileTransport):
    """A folder of messages that a person looks at and sends: an .eml file each, which some mail programs open for
    editing, as it says ``X-Unsent: 1``; no standard has that field.  Blind copies are in a Bcc field."""

    _done = "kept as a draft in"

    def holds(self, message: BaseMessage, *, recipients: Sequence[str] | None = None) -> bool:
        content = _draft(message)
        found = _named_like(self.path, _stem(message.message_id or ""), ".eml")
        return any(_content_of(path) == content for path in found)

    def _prepared(self, message: BaseMessage, recipients: Sequence[str]) -> _Prepared:
        return _InFolder(self.path, _draft(message), None, _stem(message.message_id or ""))


def _draft(message: BaseMessage) -> bytes:
    return b"X-Unsent: 1\r\n" + message.draft()


# ---- a maildir ----------------------------------------------------------------------------------------------------


@record(frozen=True)
class Maildir(FileTransport):
    """A mailbox of files: ``tmp``, ``new`` and ``cur``.  Lines end in LF, and Return-Path says the envelope's sender
    (RFC 5321 4.4); a mail program moves what it has seen to ``cur``."""

    def holds(self, message: BaseMessage, *, recipients: Sequence[str] | None = None) -> bool:
        mark = _mark(_with_return_path(message))
        return any(mark in name for folder in ("new", "cur") for name in _file_names(self.path / folder))

    def _prepared(self, message: BaseMessage, recipients: Sequence[str]) -> _Prepared:
        return _InMaildir(self.path, _with_return_path(message))


class _InMaildir(_Prepared):
    def __init__(self, folder: Path, content: bytes) -> None:
        for name in ("tmp", "new", "cur"):
            (folder / name).mkdir(parents=True, exist_ok=True)
        self._folder, self._mark = folder, _mark(content)
        self._written = folder / "tmp" / self._name()
        try:
            write_durably(self._written, content, OWNER_ONLY)
        except BaseException:
            self.clear()
            raise

    def _name(self) -> str:
        """Returns a name that nothing else has, and in which the message is known again."""
        now = time.time_ns()
        host = socket.gethostname().replace("/", "\\057").replace(":", "\\072")
        unique = f"M{now // 1000 % 1_000_000}P{os.getpid()}R{secrets.token_hex(4)}"
        return f"{now // 1_000_000_000}.{unique}{self._mark}.{host}"

    def finish(self) -> Path:
        path = self._folder / "new" / self._written.name
        os.link(self._written, path)
        return path

    def clear(self) -> None:
        _unlink([self._written])


def _with_return_path(message: BaseMessage) -> bytes:
    field = f"Return-Path: <{message.envelope.sender}>\n".encode()
    return field + bytes(message).replace(b"\r\n", b"\n")


def _mark(content: bytes) -> str:
    """Returns a part of a file's name that says its content."""
    return f"H{hashlib.sha256(content).hexdigest()[:32]}"


# ---- files --------------------------------------------------------------------------------------------------------


def write_message(folder: Path, raw: bytes, message_id: str) -> Path:
    """Write a message to a file of its own, whole or not at all, but not durably; returns the file's path."""
    folder.mkdir(parents=True, exist_ok=True)
    stem = _stem(message_id)
    part = folder / f".{stem}.{secrets.token_hex(6)}.part"
    try:
        part.write_bytes(raw)
        for name in _names(stem):
            path = folder / f"{name}.eml"
            with suppress(FileExistsError):
                os.link(part, path)
                return path
        raise AssertionError("there is always one more name")
    finally:
        part.unlink(missing_ok=True)


def write_durably(path: Path, content: bytes, mode: int) -> None:
    """Write a new file, and wait until the disk has it."""
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), mode)
    with open(descriptor, "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())


def fsync_folder(folder: Path) -> None:
    """Wait until the disk has the names in a folder; a system that opens no folders has no such wish."""
    if os.name != "posix":
        return
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)


def _unlink(paths: Iterable[Path]) -> None:
    """Take away what was written on the way; what cannot be is hidden, and whatever came of the try, came of it."""
    for path in paths:
        with suppress(OSError):
            path.unlink()


def _stem(message_id: str) -> str:
    """Returns the name of a message's file, without its suffix."""
    local = message_id.strip("<>").partition("@")[0]
    return re.sub(r"[^A-Za-z0-9.-]+", "-", local)[:60].strip(".-") or "message"


def _names(stem: str) -> Iterator[str]:
    """Returns names for a file, of which one is free.  From the tenth namesake on they are not counted: each would take
    a step for every one before."""
    return chain(
        (stem,), (f"{stem}-{n}" for n in range(1, 10)), (f"{stem}-{secrets.token_hex(6)}" for _ in iter(int, 1))
    )


def _envelope(message: BaseMessage, recipients: Sequence[str]) -> bytes:
    known = {"message_id": message.message_id, "sender": message.envelope.sender, "recipients": recipients}
    return json.dumps(known, ensure_ascii=False, indent=1).encode("utf-8") + b"\n"


def _named_like(folder: Path, stem: str, suffix: str) -> Iterator[Path]:
    for name in _file_names(folder):
        if name.startswith(stem) and name.endswith(suffix):
            yield folder / name


def _file_names(folder: Path) -> list[str]:
    try:
        return os.listdir(folder)
    except FileNotFoundError:
        return []


def _content_of(path: Path) -> bytes | None:
    try:
        return path.read_bytes()
    except FileNotFoundError:
        return None
