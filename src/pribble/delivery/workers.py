"""Which worker holds a claim, and whether it is still there: a sending of a process, or the process as such."""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from itertools import count
from pathlib import Path

_numbers = count(1)
_at_work = {0}  # the sendings of this process that have not ended; 0 is the process


def this_worker() -> str:
    """Returns what tells this process from all others, also from a later one with its number."""
    return f"{_process(os.getpid())}/0"


@contextmanager
def at_work() -> Iterator[str]:
    """Gives the name of a further worker of this process, which is gone at the end."""
    number = next(_numbers)
    _at_work.add(number)
    try:
        yield f"{_process(os.getpid())}/{number}"
    finally:
        _at_work.discard(number)


@cache
def _process(process: int) -> str:
    return f"{_host()}/{process}/{_began(process)}"


@cache
def _host() -> str:
    return socket.gethostname().replace("/", "_")


def is_gone(worker: str) -> bool:
    """Returns whether a worker of this machine has ended; of other machines nothing is known."""
    process, _, number = worker.rpartition("/")
    host, process_id, began = process.split("/")
    if host != _host():
        return False
    if process == _process(os.getpid()):
        return int(number) not in _at_work
    try:
        os.kill(int(process_id), 0)
    except ProcessLookupError:
        return True
    except PermissionError:
        pass
    return _began(int(process_id)) != began


def _began(process: int) -> str:
    """Returns when a process began, as the system counts; where that cannot be read, nothing."""
    try:
        stat = Path(f"/proc/{process}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return ""
    return stat.rpartition(")")[2].split()[19]
