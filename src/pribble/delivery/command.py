"""A transport that gives messages to a program of this machine, as local mail systems have one.

No shell is involved: the words are split once, when the transport is made, and an address is always one argument.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import threading
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO, Self

from pribble.delivery.base import Committing, Unconnected, recipients_of_try
from pribble.delivery.receipts import FinalState, Receipt, same_for_all
from pribble.delivery.replies import printable_line
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage
from pribble.records import record

SENDER, RECIPIENTS = "{sender}", "{recipients}"
TRY_LATER = 75  # EX_TEMPFAIL of sysexits.h
TIME_LIMIT = 600.0  # seconds, as a server has to answer the dot (RFC 5321 4.5.3.2.6)
_MOST_WORDS = 2000  # octets of what a program says that are kept


@record(frozen=True)
class Command(Unconnected):
    """Gives each message to a program, with lines that end in LF: status 0 means accepted, 75 deferred, any other one
    refused.  A program that ends by a signal, or before it has read all, leaves the message in doubt.
    """

    words: tuple[str, ...]
    longest: float = TIME_LIMIT

    @classmethod
    def from_words(cls, written: str, folder: str | os.PathLike[str] = "") -> Self:
        """Returns the transport of a command line, whose program is looked for from `folder` on if its name is a
        relative path; raises `ValueError` for one that is none, or that does not say where the recipients go."""
        try:
            words = tuple(shlex.split(written))
        except ValueError as error:
            raise ValueError(f"command: is followed by a program and its arguments ({error})") from None
        if not words or words[0].startswith("{"):
            raise ValueError("command: is followed by a program and its arguments")
        if words.count(RECIPIENTS) != 1 or words.index(RECIPIENTS) != len(words) - 1:
            raise ValueError(f"command: ends with {RECIPIENTS}, an argument for each of them")
        if wrong := next(
            (w for w in words[1:-1] if "{" in w.replace(SENDER, "") or "}" in w.replace(SENDER, "")), None
        ):
            raise ValueError(f'command: "{wrong}" stands for nothing; there is {SENDER}, and {RECIPIENTS} at the end')
        begins_there = "/" in words[0] and Path(folder) != Path()
        return cls((os.path.join(folder, words[0]), *words[1:]) if begins_there else words)

    def __str__(self) -> str:
        return self.words[0]

    def deliver(
        self,
        message: BaseMessage,
        *,
        recipients: Sequence[str] | None = None,
        committing: Committing | None = None,
    ) -> Receipt:
        chosen = recipients_of_try(message, recipients)
        try:
            process = subprocess.Popen(
                self._arguments(message, chosen),
                stdin=subprocess.PIPE,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
            )
        except (OSError, ValueError) as error:
            raise DeliveryError(f"{self} cannot be started: {getattr(error, 'strerror', None) or error}") from None
        with _Run(process, self.longest) as run:
            whole = run.give(bytes(message).replace(b"\r\n", b"\n"))
            if whole and committing is not None:
                committing(chosen)
            state, words = run.end(whole)
        return same_for_all(message, chosen, state, words)

    def _arguments(self, message: BaseMessage, recipients: Sequence[str]) -> Sequence[str]:
        """Returns the program and its arguments: no address is taken for an option."""
        sender = message.envelope.sender
        if SENDER in self.words and sender.startswith("-"):
            raise DeliveryError(f"{self} could take the sender {sender} for an option", hint="join it: -f{sender}")
        return [*(word.replace(SENDER, sender) for word in self.words[:-1]), "--", *recipients]


class _Run:
    """A program that runs, within a time limit, and is gone at the end."""

    def __init__(self, process: subprocess.Popen[bytes], longest: float) -> None:
        assert process.stdin is not None
        assert process.stderr is not None
        self._process, self._input = process, process.stdin
        self._is_late = False
        self._said = bytearray()
        self._reader = threading.Thread(target=self._read, args=(process.stderr,), daemon=True)
        self._clock = threading.Timer(longest, self._stop)
        self._clock.daemon = True

    def __enter__(self) -> Self:
        self._reader.start()
        self._clock.start()
        return self

    def __exit__(self, *error: object) -> None:
        self._clock.cancel()
        self._process.kill()  # where it still runs, nobody waits for it
        self._process.wait()
        with suppress(OSError):  # only now, since the end of its input would tell it to go on
            self._input.close()

    def _stop(self) -> None:
        self._is_late = True
        self._process.kill()

    def _read(self, stream: IO[bytes]) -> None:
        """Keep the beginning of what it says, and read the rest, so that it does not wait."""
        with stream:
            while octets := stream.read1(4096):  # type: ignore[attr-defined]
                self._said += octets[: max(0, _MOST_WORDS - len(self._said))]

    def give(self, content: bytes) -> bool:
        """Give it the message; returns whether it took all."""
        try:
            self._input.write(content)
            self._input.flush()
        except OSError:  # it does not read any more; how it ended says the rest
            return False
        return True

    def end(self, is_whole: bool) -> tuple[FinalState, str]:
        """Say that the message ends here, and wait; returns what that means, and in words."""
        try:
            self._input.close()
        except OSError:
            is_whole = False
        status = self._process.wait()
        self._reader.join(1)  # another program that it started may hold the stream open
        said = printable_line(bytes(self._said))
        if self._is_late:
            return "in_doubt", "it did not end in time"
        if status < 0:
            return "in_doubt", f"it was ended by signal {-status}"
        if not is_whole:
            return "in_doubt", f"it ended with status {status} and had not read all {said}".rstrip()
        if status == 0:
            return "accepted", said or "taken"
        return "deferred" if status == TRY_LATER else "refused", said or f"status {status}"
