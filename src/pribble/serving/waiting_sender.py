"""Sends what waits: what was deferred, was not reached, or is to be sent after the answer."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping
from typing import Any, Self

from pribble.delivery.event_sending import Left
from pribble.delivery.mailroom import Mailroom
from pribble.errors import PribbleError
from pribble.regexes import regex
from pribble.serving.request_log import line, place_of

EVERY = 30.0  # seconds
_WORD = regex(r"[^\s<>()]+")


class WaitingSender:
    """Sends what is due of a mailroom's events, every few seconds and when it is woken; a context manager."""

    def __init__(self, mailroom: Mailroom, log: Callable[[Mapping[str, Any]], None], *, every: float = EVERY) -> None:
        self._mailroom, self._log, self._every = mailroom, log, every
        self._woken, self._ending = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, name="pribble: what waits", daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *error: object) -> None:
        self._ending.set()
        self._woken.set()
        self._mailroom.stop()  # the messages under way end
        self._thread.join()

    def wake(self) -> None:
        """Let it look now."""
        self._woken.set()

    def _run(self) -> None:
        while not self._ending.is_set():
            self._woken.clear()
            try:
                self._tell(self._mailroom.send_waiting())
            except PribbleError as error:
                self._log(line(error=_without_addresses(error.problem)))
            except Exception as error:  # it goes on: what waits would wait for ever
                self._log(line(fault=type(error).__name__, where=place_of(error)))
            self._woken.wait(self._every)

    def _tell(self, left: Left) -> None:
        stopped = [_without_addresses(words) for words in left.stopped]
        if left.ended or stopped:
            self._log(line(sent=dict(left.ended), **({"stopped": stopped} if stopped else {})))


def _without_addresses(words: str) -> str:
    """Returns words of a server without addresses in them."""
    return _WORD.sub(lambda found: "(address)" if "@" in found[0] else found[0], words)
