"""What is said of each request when it has ended: one object, without data, and with keys that nobody can read."""

from __future__ import annotations

import hashlib
import time
import traceback
from collections.abc import Callable, Mapping
from contextvars import ContextVar
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from flask import Request, Response

Line = Mapping[str, Any]


class RequestLog:
    """Collects what is known of a request, and writes it when it ends."""

    def __init__(self, write: Callable[[Line], None] | None) -> None:
        self._write = write
        self._known: ContextVar[dict[str, Any]] = ContextVar("known of a request")

    def begin(self) -> None:
        """A request begins in this thread."""
        self._known.set({"began": time.monotonic()})

    def note(self, *, key: str | None = None, **facts: str) -> None:
        """Take note of facts of the request; of its `key` only a digest is kept."""
        if key is not None:
            facts["key"] = hidden(key)
        self._known.get().update(facts)

    def write(self, request: Request, response: Response) -> None:
        """Write what is known of a request that has ended."""
        known = dict(self._known.get())
        seconds = round(time.monotonic() - known.pop("began"), 4)
        if self._write is not None:
            self._write(
                line(
                    method=request.method,
                    route=request.endpoint,
                    **known,
                    status=response.status_code,
                    octets=response.content_length,
                    seconds=seconds,
                )
            )


def line(**facts: Any) -> Line:
    """Returns a line of the log: the moment, and facts."""
    return {"at": datetime.now(UTC).isoformat(timespec="milliseconds"), **facts}


def hidden(key: str) -> str:
    """Returns what stands for a key: the same for the same one, and nothing that tells it."""
    return hashlib.sha256(key.encode("utf-8", "replace")).hexdigest()[:16]


def place_of(error: BaseException) -> str:
    """Returns where in the source an error was raised: its words may hold data."""
    frames = traceback.extract_tb(error.__traceback__)
    return f"{Path(frames[-1].filename).name}:{frames[-1].lineno}" if frames else ""
