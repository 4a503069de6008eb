"""Which process holds a claim, and whether it is still there."""

from __future__ import annotations

import os
import socket
from functools import cache
from pathlib import Path


def this_worker() -> str:
    """Returns what tells this process from all others, also from a later one with its number."""
    return _worker(os.getpid())


@cache
def _worker(process: int) -> str:
    return f"{_host()}/{process}/{_began(process)}"


@cache
def _host() -> str:
    return socket.gethostname().replace("/", "_")


def is_gone(worker: str) -> bool:
    """Returns whether a process of this machine has ended; of other machines nothing is known."""
    host, number, began = worker.split("/")
    if host != _host():
        return False
    try:
        os.kill(int(number), 0)
    except ProcessLookupError:
        return True
    except PermissionError:
        pass
    return _began(int(number)) != began


def _began(process: int) -> str:
    """Returns when a process began, as the system counts; where that cannot be read, nothing."""
    try:
        stat = Path(f"/proc/{process}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return ""
    return stat.rpartition(")")[2].split()[19]
