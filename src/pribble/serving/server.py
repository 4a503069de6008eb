"""The server: it listens, answers several requests at once, and ends when what is under way has been answered."""

from __future__ import annotations

import socket
import threading
import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from pribble.errors import loaded
from pribble.serving.application import NEEDS
from pribble.serving.bodies import LARGEST, too_large
from pribble.serving.problems import PROBLEM_KINDS, PROBLEM_TYPE, Problem

if TYPE_CHECKING:
    from flask import Flask

THREADS = 16  # requests that are answered at once; others wait
_MOST_CONNECTIONS = 500
_LARGEST_HEADER = 32_768  # octets
_IDLE = 60  # seconds after which a connection without a request is closed
# When the server ends: how long it waits for answers, and for the rest of requests that came in part.
_DRAIN, _REST = 60.0, 5.0
# What kind of problem it is when a request does not reach the application.
_KIND_OF = {kind.status: name for name, kind in PROBLEM_KINDS.items() if name in ("too-large", "unsupported", "fault")}


class Server:
    """Serves an application on a host and a port; 0 takes any free one.

    `refused` is called with the status and the problem's kind of what does not reach the application.  Raises
    `MissingExtra` where waitress is not installed, `OSError` where the address is taken.
    """

    def __init__(
        self,
        app: Flask,
        host: str,
        port: int,
        *,
        threads: int = THREADS,
        refused: Callable[[int, str], None] | None = None,
    ) -> None:
        waitress = loaded("waitress.server", extra="serve", message=NEEDS)
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        self._socket = socket.create_server((host, port), family=family)
        self._map: dict[int, Any] = {}
        self._server = waitress.create_server(
            app,
            map=self._map,
            sockets=[self._socket],
            threads=threads,
            ident="pribble",
            connection_limit=_MOST_CONNECTIONS,
            channel_timeout=_IDLE,
            max_request_header_size=_LARGEST_HEADER,
            # What is larger is refused unread, which a client that goes on sending may take for a lost connection.
            max_request_body_size=2 * LARGEST,
        )
        self._server.channel_class = _channel_class(refused)
        self._ending, self._closing, self._is_closed = threading.Event(), threading.RLock(), False
        self.host, self.port = host, int(self._socket.getsockname()[1])

    @property
    def address(self) -> str:
        """Where it listens."""
        return f"http://{f'[{self.host}]' if ':' in self.host else self.host}:{self.port}"

    def run(self) -> None:
        """Serve until `stop` is called, and then until all that is under way has been answered."""
        loop, server = self._server.asyncore.loop, self._server
        while not self._ending.is_set():
            loop(timeout=1.0, use_poll=True, map=self._map, count=1)
        self._server.asyncore.dispatcher.close(server)  # nobody new; who is connected is answered
        began = time.monotonic()
        while server.active_channels and time.monotonic() < began + _DRAIN:
            for channel in list(server.active_channels.values()):
                is_partial = channel.request is not None and time.monotonic() < began + _REST
                if not channel.requests and not channel.total_outbufs_len and not is_partial:
                    channel.will_close = True
            loop(timeout=0.05, use_poll=True, map=self._map, count=1)
        server.task_dispatcher.shutdown(timeout=1)
        with self._closing:
            self._is_closed = True
            server.close()

    def stop(self) -> None:
        """Let the server end; any thread may call it, and the handler of a signal."""
        self._ending.set()
        with self._closing:
            if not self._is_closed:  # its file descriptor may be somebody else's by then
                self._server.pull_trigger()


def _channel_class(refused: Callable[[int, str], None] | None) -> Any:
    """Returns waitress's channel, with problem details (RFC 9457) for what does not reach the application."""
    channel = loaded("waitress.channel", extra="serve", message=NEEDS)
    task = loaded("waitress.task", extra="serve", message=NEEDS)

    def execute(self: Any) -> None:
        error = self.request.error
        problem = Problem(_KIND_OF.get(error.code, "malformed"), str(error.body))
        if problem.kind == "too-large":
            problem = too_large()
        content = problem.body()
        self.status = f"{error.code} {error.reason}"
        self.response_headers.append(("Content-Type", PROBLEM_TYPE))
        self.set_close_on_finish()
        self.content_length = len(content)
        self.write(content)
        if refused is not None:
            refused(error.code, problem.kind)

    errors = type("_ErrorTask", (task.ErrorTask,), {"execute": execute})
    return type("_Channel", (channel.HTTPChannel,), {"error_task_class": errors})
