"""A weekly message, from cron, that nobody gets twice in a week and that stops at noon:

    5 8 * * MON  cd /srv/harbour && python weekly_message.py

If the machine was down, or the server, it may run again at any time of the week: the journal's job is the week, so that
who has this week's message is not sent another one.
"""

import sys
import tempfile
from datetime import date, datetime, timedelta
from pathlib import Path

from pribble import Template
from pribble.delivery import Batch, Journal, Transport
from pribble.delivery.sending import Pace
from pribble.testing import Outbox

TIDES = Template.from_text(
    "{{ subject: }}Tides of week {{ week }}{{ :subject }}"
    "<p>Dear {{ name }},</p><p>high water on Monday at {{ high }}.</p>",
    name="tides",
)


def send_week(
    today: date, skippers: list[dict[str, str]], through: Transport, journal: Journal, until: datetime
) -> str:
    """Send the messages of a week to those who have not got theirs; returns how it went."""
    year, week, _ = today.isocalendar()
    rows = [{**skipper, "week": str(week), "high": "06:12"} for skipper in skippers]
    batch = Batch(
        TIDES,
        rows,
        sender="Harbour desk <desk@skerrow.example>",
        to="{{ name }} <{{ mail }}>",
        key=["mail"],
        job=f"tides {year}-{week:02}",
        through=through,
        journal=journal,
        pace=Pace(until=until.timestamp(), wait=60),
    )
    result = batch.send()
    return f"{batch.job}: {dict(result.states)}" + (f", stopped: {result.stopped}" if result.stopped else "")


if __name__ == "__main__":
    skippers = [{"name": "Ana", "mail": "ana@example.org"}, {"name": "Bo", "mail": "bo@example.net"}]
    outbox = Outbox()  # in earnest: transport("smtps://desk@mail.skerrow.example", …)
    until = datetime.now() + timedelta(hours=4)  # cron begins at eight
    with tempfile.TemporaryDirectory() as folder:
        journal = Journal(Path(folder) / "tides.journal")
        for day in (date(2026, 11, 30), date(2026, 12, 2), date(2026, 12, 7)):  # Monday, Wednesday again, next Monday
            print(send_week(day, skippers, outbox, journal, until))
        journal.close()
    print(f"{len(outbox.messages)} messages sent")
    sys.exit(0 if len(outbox.messages) == 4 else 1)
