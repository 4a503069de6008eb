"""Handing ready bytes to the stand-in receiver, against a bare loop of the standard library's client: time on the wall,
since most of it is waiting for the other side."""

from __future__ import annotations

import json
import smtplib
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager

from pribble import Attachment, Message
from pribble.delivery import transport
from pribble.mime.base import BaseMessage

SIZES = {"4 kB": 2_300, "55 kB": 39_600}  # octets of a file, which is written in base64
COUNT = 120  # messages in a round
ROUNDS = 12


@contextmanager
def receiving() -> Iterator[int]:
    """The port of a receiver in a process of its own."""
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "pribble", "receive", "--port", "0", "--json", "--folder", folder]
        server = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
        assert server.stdout is not None
        try:
            address = json.loads(server.stdout.readline())["listening"]
            drain = ThreadPoolExecutor(1)
            drain.submit(server.stdout.read)  # it tells of each message
            yield int(address.rpartition(":")[2])
        finally:
            server.kill()
            server.wait()


def ready(size: str) -> BaseMessage:
    """A message of this size whose bytes are there."""
    content = bytes(range(256)) * (SIZES[size] // 256)
    made = Message(
        sender="a@x.example", to="b@x.example", text="x", attachments=[Attachment("a.bin", content)], seed=b"x"
    )
    return Message.from_bytes(bytes(made))


def ours(port: int, message: BaseMessage, connections: int) -> None:
    with transport(f"smtp://127.0.0.1:{port}", connections=connections) as way:
        _shared(connections, lambda: [way.deliver(message) for _ in range(COUNT // connections)])


def bare(port: int, message: BaseMessage, connections: int) -> None:
    raw, envelope = bytes(message), message.envelope

    def loop() -> None:
        with smtplib.SMTP("127.0.0.1", port) as server:
            for _ in range(COUNT // connections):
                server.sendmail(envelope.sender, envelope.recipients, raw)

    _shared(connections, loop)


def _shared(threads: int, work: Callable[[], object]) -> None:
    if threads == 1:
        work()
        return
    with ThreadPoolExecutor(threads) as pool:
        for done in [pool.submit(work) for _ in range(threads)]:
            done.result()


def speed(port: int, size: str, connections: int) -> tuple[float, float, float]:
    """Returns how many times as fast ours is as the bare loop, the median of rounds in turn; and the seconds that a
    message takes, ours and bare."""
    message = ready(size)
    pairs = []
    for number in range(-1, ROUNDS):
        first, second = (ours, bare) if number % 2 else (bare, ours)
        took = {}
        for way in (first, second):
            began = time.perf_counter()
            way(port, message, connections)
            took[way] = (time.perf_counter() - began) / COUNT
        if number >= 0:
            pairs.append((took[ours], took[bare]))
    ratio = statistics.median(plain / own for own, plain in pairs)
    return ratio, statistics.median(own for own, _ in pairs), statistics.median(plain for _, plain in pairs)
