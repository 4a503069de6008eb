"""A message for each row of a DataFrame, with a journal: run it twice, and nobody gets a second one."""

import tempfile
from pathlib import Path

import pandas

from pribble import Template
from pribble.delivery import Batch, Journal
from pribble.testing import Outbox

NOTICE = Template.from_text(
    "{{ subject: }}Your mooring in {{ year }}{{ :subject }}"
    '<p>Dear {{ name }},</p><p>berth {{ berth }} costs {{ fee as money("EUR") }} this season.</p>',
    name="season-notice",
)
skippers = pandas.DataFrame(
    {
        "name": ["Ana Björk", "Bo, of Tern", "Cleo"],
        "mail": ["ana@example.org", "bo@example.net", "cleo@closed.example"],
        "berth": ["B 14", "C 2", "A 7"],
        "fee": [1200.0, 980.5, 760.0],
        "year": 2026,
    }
)

# The outbox takes the place of a server here: transport("smtps://you@mail.example.org", password) is a real one.
outbox = Outbox()
outbox.refuse("*@closed.example")

with tempfile.TemporaryDirectory() as folder:
    for run in ("first", "second"):
        journal = Journal(Path(folder) / "season.journal")
        batch = Batch(
            NOTICE,
            skippers,
            sender="Berth Office <berths@skerrow.example>",
            to="{{ name }} <{{ mail }}>",
            key=["berth"],
            through=outbox,
            journal=journal,
        )
        result = batch.send()
        print(f"{run} run: {dict(result.states)}, {len(outbox.messages)} messages sent so far")
    print(journal.reasons("refused"))
    journal.close()
