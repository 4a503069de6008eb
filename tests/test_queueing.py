"""Events over Celery: the journal is the truth, whatever becomes of brokers, workers and tasks."""

from __future__ import annotations

import os
import random
import re
import signal
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any
from unittest import mock

from celery import Celery
from kombu.exceptions import OperationalError

from pribble import Template
from pribble.delivery import Batch, Journal, Mailroom
from pribble.delivery.journal_tables import CLOCKS
from pribble.errors import DataError
from pribble.queueing import Queue, project_queue
from pribble.testing import Outbox
from tests.delivery.killing import receiving
from tests.servers import Restartable, needs_server, postgresql_server, redis
from tests.support import EXPLORE, ROOT, Case, proof, slow

PROJECT = """\
journal = "{journal}"
[senders]
default = "Office <office@skerrow.example>"
[transports.default]
url = "{address}"
[events.booked]
key = "{{{{ ref }}}}"
[[events.booked.messages]]
template = "thanks"
to = "{{{{ mail }}}}"
"""
FILES = {"templates/thanks.txt": "{{ subject: }}Thanks{{ :subject }}For {{ ref }}."}
NOBODY = "redis://127.0.0.1:9"


class OfQueues(Case):
    def setUp(self) -> None:
        self.outbox = Outbox()
        self.path = self.folder(
            {**FILES, "pribble.toml": PROJECT.format(journal="j", address="smtp://127.0.0.1:9")}
        ).path

    def mailroom(self, **options: Any) -> Mailroom:
        return Mailroom.from_config(self.path / "pribble.toml", through={"default": self.outbox}, **options)

    def queue(self, broker: str = "memory://", **conf: Any) -> Queue:
        app = Celery("t", broker=broker, set_as_current=False)
        app.conf.update(broker_transport_options={"socket_connect_timeout": 1}, **conf)
        queue = Queue(app, self.mailroom)
        self.addCleanup(queue.close)
        return queue


class HandedOver(OfQueues):
    def test_a_worker_sends(self) -> None:
        queue = self.queue(task_always_eager=True)
        with self.mailroom(hand_over=queue.hand_over) as mailroom:
            posted = mailroom.post("booked", {"ref": "1", "mail": "ana@example.org"})
            self.assertEqual(mailroom.posted("booked", "1").states, Counter(accepted=1))  # type: ignore[union-attr]
            again = mailroom.post("booked", {"ref": "1", "mail": "ana@example.org"})
            queue.hand_over("booked", "1")
        self.assertEqual((posted.is_new, again.is_new, len(self.outbox.messages)), (True, False, 1))

    @slow
    def test_a_broker_that_is_away(self) -> None:
        """The event is kept; a sweep wakes a worker for it, when it has waited for a while."""
        queue = self.queue(NOBODY)
        with self.mailroom(hand_over=queue.hand_over) as mailroom, self.assertLogs("pribble.queueing") as logs:
            self.assertTrue(mailroom.post("booked", {"ref": "1", "mail": "ana@example.org"}).is_new)
            self.assertIn("a sweep will find", logs.output[0])
            self.assertEqual(mailroom.due(), [("booked", "1")])
            self.assertEqual(queue.sweep(), 0)  # too fresh, and nobody there
            with self.later(60):
                self.assertEqual(mailroom.due(age=30), [("booked", "1")])
                self.assertEqual(self.queue(task_always_eager=True).sweep(), 1)
            self.assertEqual(mailroom.due(), [])
        self.assertEqual(len(self.outbox.messages), 1)

    def test_what_is_not_due_is_left(self) -> None:
        self.outbox.defer("*")
        queue = self.queue(task_always_eager=True)
        with self.mailroom(hand_over=queue.hand_over) as mailroom:
            mailroom.post("booked", {"ref": "1", "mail": "ana@example.org"})
            with self.later(60):
                self.assertEqual(queue.sweep(), 0)
            with self.later(1000):
                self.assertEqual(queue.sweep(), 1)
            self.assertEqual(mailroom.posted("booked", "1").messages[0].entries[0].tries, 2)  # type: ignore[union-attr]

    @staticmethod
    def later(seconds: int) -> Any:
        return mock.patch.dict(CLOCKS, {name: f"{query} + {seconds}" for name, query in CLOCKS.items()})


class Jobs(OfQueues):
    def test_a_job_is_shared_and_done_once(self) -> None:
        queue, rows = self.queue(task_always_eager=True), [{"mail": f"p{n}@example.org"} for n in range(5)]

        @queue.job("tides")
        def tides(week: str) -> Batch:
            return Batch(
                Template.from_text(f"{{{{ subject: }}}}Week {week}{{{{ :subject }}}}{{{{ mail }}}}"),
                rows,
                key=["mail"],
                sender="o@skerrow.example",
                to="mail",
                through=self.outbox,
                journal=Journal(self.path / "j"),
            )

        for week in ("27", "27", "28"):
            queue.hand_over_job("tides", week)
        self.assertEqual(len(self.outbox.messages), 10)
        self.assertEqual(queue.mailroom.journal.jobs(), ["tides: 27", "tides: 28"])
        # What was deferred is sent by a worker that the sweep wakes, when it is due.
        self.outbox.defer("p0@*", times=1)
        queue.hand_over_job("tides", "29")
        for seconds, woken in ((60, 0), (1000, 1)):
            with HandedOver.later(seconds):
                self.assertEqual(queue.sweep(), woken)
        self.assertEqual(queue.mailroom.journal.summary("tides: 29"), Counter(accepted=5))
        with self.assertRaises(ValueError):
            queue.job("a: b")
        with self.assertRaisesRegex(DataError, 'no job "tide"') as caught:
            queue.hand_over_job("tide", "27")
        self.assertEqual(caught.exception.hint, 'did you mean "tides"?')

    def test_a_broker_that_is_away(self) -> None:
        queue = self.queue(NOBODY)
        queue.job("tides")(lambda week: self.fail())
        with self.assertRaises(OperationalError):
            queue.hand_over_job("tides", "27")


class Projects(OfQueues):
    def test_what_it_needs(self) -> None:
        address = "postgresql://h/d"
        for journal, broker, words in (
            (None, "redis://h", "there is none in this folder"),
            ("j", "redis://h", "a journal in PostgreSQL"),
            (address, "", "PRIBBLE_BROKER"),
        ):
            files = {} if journal is None else {"pribble.toml": PROJECT.format(journal=journal, address="folder:x")}
            with self.subTest(words), mock.patch.dict(os.environ, {"PRIBBLE_BROKER": broker}):
                before = os.getcwd()
                os.chdir(self.folder(files).path)
                try:
                    with self.assertRaisesRegex(DataError, words):
                        project_queue()
                finally:
                    os.chdir(before)


class OfServers(Case):
    """A project with real servers, and workers that may be killed."""

    @contextmanager
    def servers(self, *faults: str) -> Iterator[tuple[Restartable, Restartable, Any]]:
        """A PostgreSQL, a Redis, and what says what the receiver has."""
        path = self.folder(FILES).path
        with (
            postgresql_server() as database,
            redis() as broker,
            receiving(path / "received", *faults) as (address, had),
        ):
            settings = PROJECT.format(journal=database.address, address=address)
            (path / "pribble.toml").write_text(settings, encoding="utf-8")
            self.path, self.processes = path, list[subprocess.Popen[bytes]]()
            given = {
                "PRIBBLE_TEST_FOLDER": str(path),
                "PRIBBLE_TEST_BROKER": broker.address,
                "PYTHONPATH": str(ROOT / "src"),
            }
            self.environment = {**os.environ, **given}
            try:
                with Mailroom.from_config(path / "pribble.toml") as self.mailroom:
                    yield database, broker, had
            finally:
                for one in self.processes:
                    self.kill_all_of(one)

    def celery(self, *arguments: str) -> subprocess.Popen[bytes]:
        """Start a worker, or beat."""
        command = [sys.executable, "-W", "ignore", "-m", "celery", "-A", "tests.queue_office", *arguments]
        number = len(self.processes)
        more = [f"--pidfile={self.path}/{number}.pid", "--loglevel=ERROR"]
        with open(self.path / f"{number}.log", "wb") as log:
            process = subprocess.Popen([*command, *more], cwd=ROOT, env=self.environment, stdout=log, stderr=log)
        self.processes.append(process)
        return process

    def worker(self) -> subprocess.Popen[bytes]:
        number = len(self.processes)
        return self.celery(
            "worker", "--concurrency=2", f"--hostname=w{number}@x", "--without-mingle", "--without-gossip"
        )

    @staticmethod
    def children(process: subprocess.Popen[bytes]) -> list[int]:
        """The processes that one has started."""
        ids = Path(f"/proc/{process.pid}/task/{process.pid}/children")
        return [int(one) for one in ids.read_text().split()] if ids.exists() else []

    def kill_all_of(self, process: subprocess.Popen[bytes]) -> None:
        children = self.children(process)
        process.kill()
        process.wait()
        for child in children:
            with suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)

    def queue(self) -> Queue:
        app = Celery("t", broker=self.environment["PRIBBLE_TEST_BROKER"], set_as_current=False)
        app.conf.update(broker_transport_options={"socket_connect_timeout": 1, "socket_timeout": 2})
        return Queue(app, lambda: self.mailroom)

    def settled(self, count: int, seconds: float) -> Counter[str]:
        """The states of all, when nothing waits or is under way any more."""
        ends = time.monotonic() + seconds
        while True:
            states = Counter[str](self.mailroom.journal.summary())
            if sum(states.values()) == count and not set(states) & {"planned", "started", "committing", "deferred"}:
                return states
            if time.monotonic() > ends:
                logs = "\n".join(path.read_text(errors="replace")[-2000:] for path in self.path.glob("*.log"))
                self.fail(f"not all has ended: {states}\n{logs}")
            time.sleep(0.5)


@proof
@needs_server("redis-server")
@needs_server("initdb")
class Workers(OfServers):
    def test_two_thousand_messages(self) -> None:
        """Workers are killed at random, and stall past their lease; the broker is restarted without its memory; tasks
        come twice: each message is received once, or is in doubt and known to be."""
        count, chance, drops = 2_000 * max(1, EXPLORE), random.Random(EXPLORE), 3
        faults = [f"--drop-after={300 + 400 * n}" for n in range(drops)]
        with self.servers(*faults) as (_, broker, received):
            queue, done = self.queue(), threading.Event()
            workers = [self.worker(), self.worker()]
            self.celery("beat", f"--schedule={self.path}/schedule")
            harm = Counter[str]()

            def do_harm() -> None:
                while not done.wait(chance.uniform(1.5, 3.0)):
                    what = chance.choice(["child", "child", "stall", "worker", "broker"])
                    harm[what] += 1
                    victim = chance.randrange(len(workers))
                    if what == "broker":
                        broker.stop(signal.SIGKILL)
                        broker.start()
                    elif what == "worker":
                        self.kill_all_of(workers[victim])
                        workers[victim] = self.worker()
                    elif children := self.children(workers[victim]):
                        child = chance.choice(children)
                        with suppress(ProcessLookupError):
                            os.kill(child, signal.SIGKILL if what == "child" else signal.SIGSTOP)
                            if what == "stall":
                                done.wait(7.0)  # longer than its lease
                                os.kill(child, signal.SIGCONT)

            harming = threading.Thread(target=do_harm)
            harming.start()
            try:
                with Mailroom.from_config(self.path / "pribble.toml", hand_over=queue.hand_over) as mailroom:
                    for n in range(count):
                        mailroom.post("booked", {"ref": f"B {n}", "mail": f"p{n}@town{n % 7}.example"})
                        if not n % 3:
                            queue.hand_over("booked", f"B {n}")
                while len(harm) < 4:
                    time.sleep(0.1)
            finally:
                done.set()
                harming.join()
            states = self.settled(count, 240)
            had = received(count - states["in_doubt"])
            entries = list(self.mailroom.journal.entries())
        self.assertEqual(set(states) - {"accepted", "in_doubt"}, set())
        self.assertLessEqual(max(had.values()), 1)
        for one in entries:
            if one.state == "accepted":
                self.assertEqual(had[one.address], 1, one)
        harmed = 2 * harm["worker"] + harm["child"] + harm["stall"] + drops
        self.assertLessEqual(states["in_doubt"], harmed, harm)

    def test_a_database_that_is_away(self) -> None:
        """What was under way is kept when it is back; the rest is sent then."""
        count = 60
        with self.servers("--delay=0.05") as (database, _, received):
            queue = self.queue()
            self.worker()
            self.celery("beat", f"--schedule={self.path}/schedule")
            with Mailroom.from_config(self.path / "pribble.toml", hand_over=queue.hand_over) as mailroom:
                for n in range(count):
                    mailroom.post("booked", {"ref": f"B {n}", "mail": f"p{n}@example.org"})
            while not self.mailroom.journal.summary()["accepted"]:
                time.sleep(0.1)
            self.mailroom.journal.close()
            database.stop()
            time.sleep(8)
            database.start()
            states = self.settled(count, 120)
            had = received(count - states["in_doubt"])
        self.assertLessEqual(max(had.values()), 1)
        self.assertLessEqual(states["in_doubt"], 2)
        self.assertEqual(states["accepted"] + states["in_doubt"], count)


@proof
@needs_server("redis-server")
@needs_server("initdb")
class TheExample(Case):
    def test_its_page(self) -> None:
        """The three commands of examples/queue/README.md, as they are written."""
        folder = ROOT / "examples/queue"
        page = (folder / "README.md").read_text(encoding="utf-8")
        servers, celery, book = re.findall(r"```sh\n(.*?)```", page, re.DOTALL)[0].splitlines()
        received = folder / "build/received"
        environment = {**os.environ, "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}"}
        running = []
        try:
            for command in (servers, celery):
                running.append(
                    subprocess.Popen(
                        command.split(),
                        cwd=folder,
                        env=environment,
                        stdout=subprocess.DEVNULL,
                        stderr=subprocess.DEVNULL,
                    )
                )
                time.sleep(5)
            for is_first in (True, False):
                done = subprocess.run(
                    book.split(), cwd=folder, env=environment, capture_output=True, text=True, timeout=60
                )
                self.assertEqual((done.returncode, done.stderr), (0, ""))
                self.assertEqual(done.stdout.count("posted before"), 0 if is_first else 20)
                for _ in range(300):
                    if len(list(received.glob("*.eml"))) == 23:
                        break
                    time.sleep(0.1)
            time.sleep(1)
            self.assertEqual(len(list(received.glob("*.eml"))), 23)
        finally:
            for process in reversed(running):
                process.terminate()
                process.wait(30)
