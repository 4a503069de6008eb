"""A server that says what a script tells it: each reply, half a reply, nothing, or the end of the connection."""

from __future__ import annotations

import contextlib
import socket
import ssl
import threading
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Self


class Act:
    """What a server does besides speaking."""

    def __init__(self, name: str) -> None:
        self.name = name

    def __repr__(self) -> str:
        return self.name


CLOSE, SILENCE, TLS, ENDLESS = Act("CLOSE"), Act("SILENCE"), Act("TLS"), Act("ENDLESS")
Reply = bytes | Act | Sequence[bytes | Act]


@dataclass(frozen=True)
class Asked:
    """What the server has before it: the `verb` of a command, "connect", or "dot" for a whole message; on which
    connection, and within which message of that connection, counted from 0."""

    verb: str
    line: str
    connection: int
    message: int


Script = Callable[[Asked], Reply | None]
GREETING: dict[str, Reply] = {
    "connect": b"220 scripted\r\n",
    "ehlo": b"250-scripted\r\n250-PIPELINING\r\n250-8BITMIME\r\n250-SMTPUTF8\r\n250-AUTH PLAIN LOGIN\r\n250-STARTTLS\r\n250 SIZE 9000000\r\n",
    "starttls": (b"220 go on\r\n", TLS),
    "auth": b"235 2.7.0 welcome\r\n",
    "data": b"354 go on\r\n",
    "quit": (b"221 bye\r\n", CLOSE),
}


def nothing_special(asked: Asked) -> Reply | None:
    return None


def at(verb: str, reply: Reply) -> Script:
    """A script that says `reply` to one verb, and otherwise nothing special."""
    return lambda asked: reply if asked.verb == verb else None


@dataclass
class Scripted:
    """Use it as a context manager; `asked` and `bodies` are what came, in order."""

    script: Script = nothing_special
    context: ssl.SSLContext | None = None
    at_once: bool = False
    asked: list[Asked] = field(default_factory=list)
    bodies: list[bytes] = field(default_factory=list)
    port: int = 0
    connections: int = 0

    def __enter__(self) -> Self:
        self._listener = socket.create_server(("127.0.0.1", 0))
        self._listener.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        self.port = self._listener.getsockname()[1]
        self._open: list[socket.socket] = []
        self._threads = [threading.Thread(target=self._accept)]
        self._threads[0].start()
        self._ends = threading.Event()
        return self

    def __exit__(self, *error: object) -> None:
        self._ends.set()
        with contextlib.suppress(OSError):
            self._listener.shutdown(socket.SHUT_RDWR)
        self._listener.close()
        for connection in list(self._open):
            with contextlib.suppress(OSError):
                connection.shutdown(socket.SHUT_RDWR)
        for thread in list(self._threads):
            thread.join(10)
        for connection in self._open:
            connection.close()

    def verbs(self) -> str:
        """What was asked, without the numbers."""
        return " ".join(one.verb for one in self.asked)

    def _accept(self) -> None:
        while True:
            try:
                connection, _ = self._listener.accept()
            except OSError:
                return
            self._open.append(connection)
            connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            number = self.connections
            self.connections += 1
            thread = threading.Thread(target=self._serve, args=(connection, number))
            self._threads.append(thread)
            thread.start()

    def _serve(self, connection: socket.socket, number: int) -> None:
        try:
            if self.at_once:
                assert self.context is not None
                connection = self.context.wrap_socket(connection, server_side=True)
                self._open.append(connection)
            conversation = _Conversation(self, connection, number)
            try:
                conversation.run()
            finally:
                conversation.connection.close()
        except (OSError, EOFError):
            connection.close()  # the client went away, which is what some scripts are for


class _Conversation:
    def __init__(self, server: Scripted, connection: socket.socket, number: int) -> None:
        self.server, self.connection, self.number = server, connection, number
        self.buffer = bytearray()
        self.message = -1
        self.counts: Counter[str] = Counter()

    def run(self) -> None:
        self.answer("connect", "")
        while True:
            line = self.until(b"\r\n").decode("utf-8")
            verb = line.split(" ")[0].lower()
            if verb == "mail":
                self.message += 1
            if self.answer(verb, line) and verb == "data":
                self.server.bodies.append(self.until(b"\r\n.\r\n"))
                self.answer("dot", "")

    def until(self, end: bytes) -> bytes:
        looked_at = 0
        while (found := self.buffer.find(end, looked_at)) < 0:
            looked_at = max(0, len(self.buffer) - len(end))
            octets = self.connection.recv(65536)
            if not octets:
                raise EOFError
            self.buffer += octets
        line = bytes(self.buffer[:found])
        del self.buffer[: found + len(end)]
        return line

    def answer(self, verb: str, line: str) -> bool:
        """Do what the script says; returns whether DATA goes on with a body."""
        asked = Asked(verb, line, self.number, max(self.message, 0))
        self.server.asked.append(asked)
        reply = self.server.script(asked)
        said: Reply = GREETING.get(verb, b"250 2.0.0 ok\r\n") if reply is None else reply
        goes_on = False
        for one in [said] if isinstance(said, bytes | Act) else said:
            if isinstance(one, bytes):
                self.connection.sendall(one)
                goes_on |= one.startswith(b"354")
            else:
                self.act(one)
        return goes_on

    def act(self, act: Act) -> None:
        if act is CLOSE:
            raise EOFError
        if act is SILENCE:
            self.server._ends.wait(20)
            raise EOFError
        if act is ENDLESS:
            while not self.server._ends.is_set():
                self.connection.sendall(b"250-and so on\r\n" * 100)
        if act is TLS:
            assert self.server.context is not None
            self.connection = self.server.context.wrap_socket(self.connection, server_side=True)
            self.server._open.append(self.connection)
