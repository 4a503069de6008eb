"""A pool of connections: several threads submit at once, each over a connection of its own; idle ones take leave."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any, Generic, Protocol, TypeVar
from weakref import WeakSet

IDLE = 60.0  # seconds after which a connection that nobody used ends


class Endable(Protocol):
    """A connection that can `end` with a word of farewell, and `close` without one."""

    def end(self) -> None: ...
    def close(self) -> None: ...


_Connection = TypeVar("_Connection", bound=Endable)


class Pool(Generic[_Connection]):
    """At most `most` connections, which `connect` makes; who comes when all are busy waits.

    Connections are kept for the next message while somebody holds the pool open.
    """

    def __init__(self, most: int, connect: Callable[[], _Connection], idle: float = IDLE) -> None:
        self._most, self._connect, self._idle_limit = most, connect, idle
        self._begin()
        _POOLS.add(self)

    def _begin(self) -> None:
        lock = threading.Lock()
        self._free = threading.Condition(lock)  # for those who wait for a turn
        self._ended = threading.Condition(lock)  # for the thread that watches what is idle
        self._busy = 0
        self._holders = 0
        self._idle: list[tuple[float, _Connection]] = []  # since when; the one that was used last at the end
        self._is_watched = False

    def forget(self) -> None:
        """Leave all connections to the process that this one is a copy of."""
        for _, connection in self._idle:
            connection.close()  # this process's end of it only: the other one goes on
        holders = self._holders
        self._begin()
        self._holders = holders

    def hold(self) -> None:
        """Keep connections from now on, until as many have called `let_go`."""
        with self._free:
            self._holders += 1

    def let_go(self) -> None:
        with self._free:
            self._holders -= 1
            ended = [] if self._holders else [connection for _, connection in self._idle]
            if ended:
                self._idle = []
            self._ended.notify_all()
        for connection in ended:
            connection.end()

    @contextmanager
    def turn(self) -> Iterator[Turn[_Connection]]:
        """Gives a turn at a connection.  After an error in it, the connection is closed without another word."""
        with self._free:
            while self._busy >= self._most:
                self._free.wait()
            self._busy += 1
            kept = self._idle.pop()[1] if self._idle else None
        turn = Turn(kept, self._connect)
        try:
            yield turn
        except BaseException:
            turn.drop()
            raise
        finally:
            self._give_back(turn.kept)

    def _give_back(self, connection: _Connection | None) -> None:
        with self._free:
            self._busy -= 1
            if connection is not None and self._holders:
                self._idle.append((time.monotonic(), connection))
                connection = None
                if not self._is_watched:
                    self._is_watched = True
                    threading.Thread(target=self._watch, name="pribble: idle connections", daemon=True).start()
            self._free.notify()
        if connection is not None:
            connection.end()

    def _watch(self) -> None:
        """End connections that are idle too long, as long as somebody holds the pool."""
        while True:
            with self._ended:
                if not self._holders:
                    self._is_watched = False
                    return
                oldest = self._idle[0][0] if self._idle else time.monotonic()
                wait = oldest + self._idle_limit - time.monotonic()
                if wait > 0:
                    self._ended.wait(wait)
                    continue
                _, ended = self._idle.pop(0)
            ended.end()


class Turn(Generic[_Connection]):
    """One borrower's turn: it has a connection when it asks for one, and another one if it drops that."""

    def __init__(self, kept: _Connection | None, connect: Callable[[], _Connection]) -> None:
        self.kept = kept
        self._connect = connect

    def connection(self) -> _Connection:
        """Returns the connection; a fresh one where there is none.  Raises `DeliveryError`."""
        if self.kept is None:
            self.kept = self._connect()
        return self.kept

    def drop(self) -> None:
        """Close the connection, of which nothing more is to be had."""
        if self.kept is not None:
            self.kept.close()
            self.kept = None


# A connection that two processes speak over serves neither.
_POOLS: WeakSet[Pool[Any]] = WeakSet()


def _forget_all() -> None:
    for pool in list(_POOLS):
        pool.forget()


if hasattr(os, "register_at_fork"):
    os.register_at_fork(after_in_child=_forget_all)
