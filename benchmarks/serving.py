"""The server: what a request costs at eight at once, against the bare function and an empty route of the same server.

As a program it is that server: it answers, calls the bare functions when standard input asks for it, and tells the CPU
time that it has taken so far.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from http.client import HTTPConnection
from itertools import count, pairwise
from pathlib import Path
from typing import Any

from benchmarks.batches import Sink
from pribble.delivery import Mailroom
from pribble.demo.booked import EVENT, PROJECT
from pribble.serving import Server, application

# Short rounds, and many: the machine's speed differs more between two of them than what a request adds to a function.
AT_ONCE, CALLS, ROUNDS = 8, 40, 36
HEAD = {"Content-Type": "application/json"}
TEMPLATE = "berth-confirmed"
PATHS = {"empty": "/empty", "render": f"/templates/{TEMPLATE}/render", "post": f"/events/{EVENT}"}


@dataclass(frozen=True, slots=True)
class Served:
    """CPU seconds that the server takes for a call: the bare function, a request of it, a request of an empty route;
    and what a request takes `over` the bare function, in requests of the empty route.  Medians over rounds, in each
    of which all three are measured.
    """

    bare: float
    asked: float
    empty: float
    over: float


def each(pool: ThreadPoolExecutor, call: Callable[[int], object], first: int) -> None:
    """Call so many times, as many at once as the pool has threads."""
    for _ in pool.map(call, range(first, first + CALLS)):
        pass


def booking(number: int) -> Any:
    """Returns the data of the event with a number."""
    data = json.loads((PROJECT.parent / f"templates/{TEMPLATE}.sample.json").read_text(encoding="utf-8"))
    return {**data, "booking": {**data["booking"], "reference": f"SH-{number}"}}


def serve(folder: Path) -> None:
    """Serve; standard input names a bare function to call, or "none" of them, and standard output gets the CPU time."""
    settings = PROJECT.read_text(encoding="utf-8").replace('"templates"', json.dumps(str(PROJECT.parent / "templates")))
    (folder / "pribble.toml").write_text(f'journal = "post.journal"\n{settings}', encoding="utf-8")
    sink = Sink()
    numbers = count(1_000_000, CALLS)
    with Mailroom.from_config(folder / "pribble.toml", through={"default": sink, "review": sink}) as mailroom:
        app = application(mailroom, token=None)
        app.add_url_rule("/empty", "empty", lambda: app.response_class(b"", 200), methods=["POST"])
        server = Server(app, "127.0.0.1", 0, threads=AT_ONCE)
        threading.Thread(target=server.run, daemon=True).start()
        data = booking(0)

        def render(number: int) -> object:
            made = mailroom.templates[TEMPLATE].render(data, embed="data")
            return json.dumps([made.subject, made.preheader, made.html, made.text])

        bare = {"render": render, "post": lambda number: mailroom.post(EVENT, booking(number))}
        print(server.port, flush=True)
        with ThreadPoolExecutor(AT_ONCE) as pool:
            for line in sys.stdin:
                if (named := line.strip()) in bare:
                    each(pool, bare[named], next(numbers))
                print(time.process_time(), flush=True)


def measured() -> Iterator[tuple[str, Served]]:
    """Yields what each kind of request costs."""
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(AT_ONCE) as pool:
        command = [sys.executable, "-m", "benchmarks.serving", name]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
            asked_for, told = server.stdin, server.stdout
            assert asked_for is not None and told is not None
            port, numbers = int(told.readline()), count(1, CALLS)
            local = threading.local()

            def ask(path: str, number: int) -> None:
                if not hasattr(local, "connection"):
                    local.connection = HTTPConnection("127.0.0.1", port)
                body = rendering if path == PATHS["render"] else event.replace("SH-0", f"SH-{number}")
                local.connection.request("POST", path, body, HEAD)
                answer = local.connection.getresponse()
                answer.read()
                assert answer.status == 200, answer.status

            def spent(call: str) -> float:
                """Returns the CPU time that the server has taken so far, a bare function called before."""
                print(call, file=asked_for, flush=True)
                return float(told.readline())

            rendering, event = json.dumps({"data": booking(0)}), json.dumps(booking(0))
            for kind in ("render", "post"):
                rounds: list[tuple[float, ...]] = []
                for number in range(-1, ROUNDS):
                    times = [spent("none"), spent(kind)]
                    for path in (PATHS[kind], PATHS["empty"]):
                        each(pool, partial(ask, path), next(numbers))
                        times.append(spent("none"))
                    if number >= 0:  # the one before warms up
                        rounds.append(tuple((after - before) / CALLS for before, after in pairwise(times)))
                over = statistics.median((asked - bare) / empty for bare, asked, empty in rounds)
                bare, asked, empty = map(statistics.median, zip(*rounds, strict=True))
                yield kind, Served(bare, asked, empty, over)
            server.kill()


if __name__ == "__main__":
    serve(Path(sys.argv[1]))
