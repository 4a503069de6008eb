"""The server: what a request costs at eight at once, against the bare function and an empty route of the same server.

As a program it is that server: it answers, and measures the bare functions when standard input asks for it.
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
from http.client import HTTPConnection
from itertools import count
from pathlib import Path
from typing import Any

from benchmarks.batches import Sink
from pribble.delivery import Mailroom
from pribble.demo.booked import EVENT, PROJECT
from pribble.serving import Server, application

AT_ONCE, CALLS, ROUNDS = 8, 160, 9
HEAD = {"Content-Type": "application/json"}
TEMPLATE = "berth-confirmed"
PATHS = {"empty": "/empty", "render": f"/templates/{TEMPLATE}/render", "post": f"/events/{EVENT}"}


@dataclass(frozen=True, slots=True)
class Served:
    """Seconds a call: the bare function, a request of it, a request of an empty route; and what a request takes `over`
    the bare function, in requests of the empty route.  Medians over rounds, in each of which all three are measured."""

    bare: float
    asked: float
    empty: float
    over: float


def each(call: Callable[[int], object], first: int) -> float:
    """Returns the seconds that a call takes, eight at once."""
    began = time.perf_counter()
    with ThreadPoolExecutor(AT_ONCE) as pool:
        for _ in pool.map(call, range(first, first + CALLS)):
            pass
    return (time.perf_counter() - began) / CALLS


def booking(number: int) -> Any:
    """Returns the data of the event with a number."""
    data = json.loads((PROJECT.parent / f"templates/{TEMPLATE}.sample.json").read_text(encoding="utf-8"))
    return {**data, "booking": {**data["booking"], "reference": f"SH-{number}"}}


def serve(folder: Path) -> None:
    """Serve, and measure the bare functions; standard input names them."""
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
        for line in sys.stdin:
            print(each(bare[line.strip()], next(numbers)), flush=True)


def measured() -> Iterator[tuple[str, Served]]:
    """Yields what each kind of request costs."""
    with tempfile.TemporaryDirectory() as name:
        command = [sys.executable, "-m", "benchmarks.serving", name]
        with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
            assert server.stdin is not None and server.stdout is not None
            port, numbers = int(server.stdout.readline()), count(1, CALLS)
            local = threading.local()

            def ask(path: str, number: int) -> None:
                if not hasattr(local, "connection"):
                    local.connection = HTTPConnection("127.0.0.1", port)
                body = rendering if path == PATHS["render"] else event.replace("SH-0", f"SH-{number}")
                local.connection.request("POST", path, body, HEAD)
                answer = local.connection.getresponse()
                answer.read()
                assert answer.status == 200, answer.status

            rendering, event = json.dumps({"data": booking(0)}), json.dumps(booking(0))
            for kind in ("render", "post"):
                found: dict[str, list[float]] = {"bare": [], "asked": [], "empty": []}
                for _ in range(ROUNDS):
                    server.stdin.write(f"{kind}\n")
                    server.stdin.flush()
                    found["bare"].append(float(server.stdout.readline()))
                    for what, path in (("asked", PATHS[kind]), ("empty", PATHS["empty"])):
                        first = next(numbers)
                        found[what].append(each(lambda number, path=path: ask(path, number), first))  # type: ignore[misc]
                rounds = list(zip(found["bare"], found["asked"], found["empty"], strict=True))
                over = statistics.median((asked - bare) / empty for bare, asked, empty in rounds)
                bare, asked, empty = (statistics.median(found[what]) for what in ("bare", "asked", "empty"))
                yield kind, Served(bare, asked, empty, over)
            server.kill()


if __name__ == "__main__":
    serve(Path(sys.argv[1]))
