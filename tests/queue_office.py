"""An application's workers, for tests: ``celery -A tests.queue_office``; the environment says where all is."""

from __future__ import annotations

import os
from pathlib import Path

from celery import Celery

from pribble.delivery import Journal, Mailroom
from pribble.queueing import Queue
from pribble.settings import read_settings

FOLDER = Path(os.environ["PRIBBLE_TEST_FOLDER"])
LEASE = 5.0  # seconds; a worker that stalls for longer has lost what it had

app = Celery("tests", broker=os.environ["PRIBBLE_TEST_BROKER"])
app.conf.update(
    broker_connection_retry_on_startup=True,
    worker_prefetch_multiplier=1,
    broker_transport_options={"socket_connect_timeout": 2, "socket_timeout": 5, "visibility_timeout": 20},
)


def mailroom() -> Mailroom:
    settings = read_settings(FOLDER / "pribble.toml")
    assert settings.journal is not None
    return Mailroom(settings, journal=Journal(settings.journal, lease=LEASE))


queue = Queue(app, mailroom, every=3.0)
