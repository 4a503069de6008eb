"""Many workers: events and jobs over Celery, for an application that has outgrown one process (extra ``queue``).

    app = Celery("office", broker="redis://127.0.0.1")
    queue = Queue(app, lambda: Mailroom.from_config("pribble.toml", secret=os.environ.get))
    mailroom = Mailroom.from_config("pribble.toml", hand_over=queue.hand_over)

A task carries the name of an event, or of a job, and its key, and nothing else: the journal, in PostgreSQL, is the
truth.  So a task that comes twice sends nothing twice, and one that is lost is found by the sweep.

Without an application of its own, ``celery -A pribble.queueing worker`` works for the ``pribble.toml`` of the folder,
by the broker that ``PRIBBLE_BROKER`` names.
"""

from __future__ import annotations

import logging
import os
import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from pribble.delivery.batch import Batch
from pribble.delivery.journal_tables import JournalAway
from pribble.delivery.mailroom import Mailroom
from pribble.errors import DataError, did_you_mean, loaded
from pribble.records import replace
from pribble.settings import SETTINGS_FILE, project_settings

if TYPE_CHECKING:
    from celery import Celery

BROKER_VARIABLE = "PRIBBLE_BROKER"
EVERY = 60.0  # seconds between two sweeps
_AGE = 30.0  # seconds in which what waits is somebody's yet: its task is on its way
_MOST = 1_000  # events that a sweep wakes
_NEEDS = "queueing needs the celery package"
# What a task does when the journal cannot be reached: it comes again, later and later, and then the sweep finds it.
_RETRIES: dict[str, Any] = {
    "autoretry_for": (JournalAway,),
    "max_retries": 6,
    "retry_backoff": 2,
    "retry_backoff_max": 60,
    "retry_jitter": True,
}
# A worker that is lost leaves its task to another one.
_LASTING: dict[str, Any] = {"acks_late": True, "reject_on_worker_lost": True, "ignore_result": True}
# How long whoever posts waits for a broker that is not there: the sweep finds what it did not hear of.
_BRIEFLY = {"max_retries": 1, "interval_start": 0.1, "interval_max": 0.1}
_BETWEEN = ": "  # a job and its key, in the name of a run; no name of a job has it
_log = logging.getLogger(__name__)

BatchOf = Callable[[str], Batch]


class Queue:
    """The tasks of a mailroom in a Celery application: ``pribble.event``, ``pribble.job``, ``pribble.sweep``.

    - `app`: the Celery application, whose broker and workers are yours.
    - `mailroom` makes the mailroom of a worker, in each of its processes once; its journal is in PostgreSQL, since
      several processes share it.
    - `every`: the seconds between two sweeps, which ``celery beat`` starts.
    """

    def __init__(self, app: Celery, mailroom: Callable[[], Mailroom], *, every: float = EVERY) -> None:
        signals = loaded("celery.signals", extra="queue", message=_NEEDS)
        self.app, self._make = app, mailroom
        self._jobs: dict[str, BatchOf] = {}
        self._mailrooms: dict[int, Mailroom] = {}
        self._lock = threading.Lock()
        self._every = every

        # Functions, since Celery counts the arguments of what it is given, and a method has one more.
        def send_event(event: str, key: str) -> None:
            self.mailroom.send_left(event, key)

        def send_job(job: str, key: str) -> None:
            batch = self._known_job(job)(key)
            batch.job = _run_of(job, key)
            batch.pace = replace(batch.pace, wait=0)  # a worker waits for nothing: the sweep wakes one when it is due
            try:
                batch.send()
            finally:
                batch.journal.close()

        def sweep() -> None:
            self.sweep()

        self._event = app.task(name="pribble.event", **_LASTING, **_RETRIES)(send_event)
        self._job = app.task(name="pribble.job", **_LASTING, **_RETRIES)(send_job)
        # A sweep that has waited until the next one is of no use any more.
        app.task(name="pribble.sweep", ignore_result=True, expires=every)(sweep)
        app.conf.beat_schedule = {
            **(app.conf.beat_schedule or {}),
            "pribble.sweep": {"task": "pribble.sweep", "schedule": every},
        }
        for ended in (signals.worker_process_shutdown, signals.worker_shutdown):
            ended.connect(lambda *_, **__: self.close(), weak=False)

    @property
    def mailroom(self) -> Mailroom:
        """The mailroom of this process."""
        with self._lock:
            found = self._mailrooms.get(os.getpid())
            if found is None:
                found = self._mailrooms[os.getpid()] = self._make().__enter__()
            return found

    def close(self) -> None:
        """Let go of the mailroom of this process; a worker that ends does."""
        found = self._mailrooms.pop(os.getpid(), None)
        if found is not None:
            found.close()

    # ---- handing over -------------------------------------------------------------------------------------------

    def hand_over(self, event: str, key: str) -> None:
        """Wake a worker for an event that was posted: ``Mailroom(…, hand_over=queue.hand_over)``.

        Where the broker cannot be reached, nothing is lost: the event is in the journal, and a sweep finds it.
        """
        self._wake(self._event, event, key)

    def hand_over_job(self, job: str, key: str) -> None:
        """Wake a worker for a job with this key (see `job`).  Called several times, several workers share it.

        Raises `DataError` for a job that there is not, `kombu.exceptions.OperationalError` where the broker cannot be
        reached: a job that nobody has begun is in no journal.
        """
        self._known_job(job)
        self._job.apply_async((job, key), retry_policy=_BRIEFLY)

    def _wake(self, task: Any, *what: str, expires: float | None = None) -> bool:
        unreachable = loaded("kombu.exceptions", extra="queue", message=_NEEDS).OperationalError
        try:
            task.apply_async(what, retry_policy=_BRIEFLY, expires=expires)
        except unreachable as error:
            _log.warning("the broker cannot be reached (%s): a sweep will find what waits", type(error).__name__)
            return False
        return True

    def job(self, name: str) -> Callable[[BatchOf], BatchOf]:
        """Registers what makes the batch of a job: a function of the key that tells this run from others.

        Its journal is the mailroom's, in which the run is called after the job and the key, whatever `job=` says.
        """
        if _BETWEEN in name:
            raise ValueError(f'the name of a job has no "{_BETWEEN}" in it')

        def registered(make: BatchOf) -> BatchOf:
            self._jobs[name] = make
            return make

        return registered

    def _known_job(self, name: str) -> BatchOf:
        make = self._jobs.get(name)
        if make is None:
            raise DataError(f'there is no job "{name}"', hint=did_you_mean(name, self._jobs))
        return make

    def sweep(self) -> int:
        """Wake workers for what waits and nobody has heard of: of events that were posted while the broker was away, or
        whose task was lost, or that were deferred and are due now, and of jobs; returns for how many."""
        age, woken = min(_AGE, self._every), 0
        runs = (run.partition(_BETWEEN) for run in self.mailroom.due_jobs(age=age))
        waiting = [(self._job, job, key) for job, _, key in runs if job in self._jobs]
        waiting += [(self._event, event, key) for event, key in self.mailroom.due(age=age, most=_MOST)]
        for task, name, key in waiting:
            # What is not taken until the next sweep is woken by that one.
            woken += self._wake(task, name, key, expires=self._every)
        return woken


def _run_of(job: str, key: str) -> str:
    """Returns what a run of a job is called in the journal."""
    return f"{job}{_BETWEEN}{key}"


def project_queue() -> Queue:
    """Returns the queue of the ``pribble.toml`` of this folder or one above it, by the broker of ``PRIBBLE_BROKER``.

    Raises `DataError` where there is no such file, no journal in PostgreSQL, or no broker.
    """
    celery = loaded("celery", extra="queue", message=_NEEDS)
    settings = project_settings()
    if settings.file is None:
        raise DataError(f"events stand in {SETTINGS_FILE}, and there is none in this folder or above it")
    if settings.journal is None or "://" not in settings.journal:
        raise DataError(f"many workers share a journal in PostgreSQL: journal = in {SETTINGS_FILE} names none")
    broker = os.environ.get(BROKER_VARIABLE)
    if not broker:
        raise DataError(f"set the environment variable {BROKER_VARIABLE} to the broker: redis://127.0.0.1")
    app = celery.Celery("pribble", broker=broker, set_as_current=False)
    app.conf.update(
        broker_connection_retry_on_startup=True,
        broker_transport_options={"socket_connect_timeout": 2, "visibility_timeout": 600},
        worker_prefetch_multiplier=1,
        worker_cancel_long_running_tasks_on_connection_loss=False,
    )
    return Queue(app, lambda: Mailroom(settings, secret=os.environ.get))


def __getattr__(name: str) -> Any:
    """Gives the `app` that ``celery -A pribble.queueing`` asks for (PEP 562)."""
    if name != "app":
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    globals()["app"] = found = project_queue().app
    return found
