"""Faults on purpose: whom a stand-in refuses or defers, and when it goes silent, for tests and rehearsals."""

from __future__ import annotations

import fnmatch
import threading
from typing import Literal

from pribble.records import field, record

# Where a connection is lost: before a server has the whole message, or after that and before its answer.
Where = Literal["before-dot", "after-dot"]


REFUSED = (550, "5.1.1 no mailbox of that name here")
DEFERRED = (451, "4.3.0 not now")


@record(frozen=True, slots=True)
class Refusal:
    """What is answered for recipients whose address is like `pattern`, to each so many `times`, or always."""

    pattern: str
    code: int
    text: str
    times: int | None = None


def is_like(address: str, pattern: str) -> bool:
    """Returns whether an address is like a pattern: ``*@harbour.example``; case does not count."""
    return fnmatch.fnmatchcase(address.casefold(), pattern.casefold())


@record
class Faults:
    """What goes wrong: `refusals`, the first that fits counts; `drops`, of the message after so many; `one_in`: of so
    many recipients one is deferred, once."""

    refusals: list[Refusal] = field(default_factory=list)
    drops: dict[int, Where] = field(default_factory=dict)
    one_in: int | None = None
    _given: dict[tuple[int, str], int] = field(default_factory=dict, init=False, repr=False)
    _messages: int = field(default=0, init=False, repr=False)
    _recipients: int = field(default=0, init=False, repr=False)
    _put_off: set[str] = field(default_factory=set, init=False, repr=False)
    _lock: threading.Lock = field(default_factory=threading.Lock, init=False, repr=False)

    def answer(self, recipient: str) -> Refusal | None:
        """Returns what is answered for a recipient; None where nothing is wrong."""
        with self._lock:
            for number, refusal in enumerate(self.refusals):
                if not is_like(recipient, refusal.pattern):
                    continue
                if refusal.times is None:
                    return refusal
                given = self._given.get((number, recipient), 0)
                if given < refusal.times:
                    self._given[number, recipient] = given + 1
                    return refusal
            self._recipients += 1
            if self.one_in and self._recipients % self.one_in == 0 and recipient not in self._put_off:
                self._put_off.add(recipient)
                return Refusal(recipient, *DEFERRED)
        return None

    def drop(self) -> Where | None:
        """Count a message; returns where its connection is lost, if it is."""
        with self._lock:
            found = self.drops.get(self._messages)
            self._messages += 1
        return found
