"""A first message: a template, some data, and a message in a folder."""

import json
from pathlib import Path

from pribble import TemplateFolder
from pribble.delivery import transport

DEMO = Path(__file__).parent.parent / "src/pribble/demo/templates"

templates = TemplateFolder(DEMO, locale="en_GB")
booking = json.loads((DEMO / "berth-confirmed.sample.json").read_text(encoding="utf-8"))

rendering = templates["berth-confirmed"].render(booking)
message = rendering.message(
    sender="Skerrow Haven Berth Office <berths@skerrow.example>",
    to=[(booking["skipper"]["name"], booking["skipper"]["email"])],
    bcc="archive@skerrow.example",
)

print(rendering.subject)
for outcome in transport("folder:build/outbox").deliver(message).outcomes:
    print(outcome.recipient, outcome.state, outcome.message)
