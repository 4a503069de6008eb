"""An invitation for the calendar beside a text, moved by a day, and the audit of what was written."""

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from pribble import Invitation, Message, audit

OFFICE = "Berth Office <berths@skerrow.example>"
arrival = datetime(2026, 7, 3, 14, tzinfo=ZoneInfo("Europe/London"))
stay = Invitation(arrival, arrival + timedelta(days=4), "Kittiwake at berth B 14", OFFICE, "b-2041@skerrow.example")
later = stay.revised(start=arrival + timedelta(days=1))

for invitation in (stay, later, later.cancelled()):
    message = Message(
        sender=OFFICE,
        to="Ana Bell <ana@example.org>",
        subject="Your stay at Skerrow Haven",
        text="The harbour office expects you.\n",
        invitation=invitation,
        auto_submitted="auto-generated",
    )
    found = audit(bytes(message))
    parts = ", ".join(part.type for _, part in found.tree.walk())
    print(f"{invitation.method} {invitation.sequence}: {parts}: {len(found.findings)} findings")
