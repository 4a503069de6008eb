"""The berth office's workers: events that the application has posted, and a message to all skippers each Monday.

celery -A office worker --beat
"""

import os
from datetime import date
from pathlib import Path

from celery import Celery
from celery.schedules import crontab

from pribble import TemplateFolder
from pribble.delivery import Batch, Journal, Mailroom, transport
from pribble.queueing import Queue
from pribble.settings import read_settings

HERE = Path(__file__).parent
SETTINGS = read_settings(HERE / "pribble.toml")

app = Celery("office", broker="redis://127.0.0.1:6390")
app.conf.update(
    timezone="Europe/London",
    broker_connection_retry_on_startup=True,
    worker_prefetch_multiplier=1,  # a worker takes one at a time
    broker_transport_options={"socket_connect_timeout": 2},
    beat_schedule={
        "tides": {"task": "office.send_tides", "schedule": crontab(day_of_week="mon", hour="7", minute="0")},
    },
)
queue = Queue(app, lambda: Mailroom(SETTINGS, secret=os.environ.get), every=10)


@queue.job("tides")
def tides(week: str) -> Batch:
    """The message of a week: the journal knows who has it, whoever sends it and however often it is begun."""
    return Batch(
        TemplateFolder(HERE / "templates", common={"week": week})["tides"],
        HERE / "skippers.csv",
        key=["mail"],
        sender=SETTINGS.sender() or "",
        to="{{ name }} <{{ mail }}>",
        through=transport(SETTINGS.transport() or ""),
        journal=Journal(SETTINGS.journal or ""),
    )


@app.task(name="office.send_tides")
def send_tides() -> None:
    queue.hand_over_job("tides", date.today().strftime("%G-W%V"))
