"""A message handed to the standard library's smtplib, as the EmailMessage it knows."""

import smtplib
import tempfile
from pathlib import Path

from pribble import TemplateFolder
from pribble.delivery.receiver import Receiver

DEMO = Path(__file__).parent.parent / "src/pribble/demo/templates"

template = TemplateFolder(DEMO, locale="en_GB")["desk-copy"]
rendering = template.render(template.samples[""])
message = rendering.message(sender="berths@skerrow.example", to="desk@skerrow.example", bcc="archive@skerrow.example")

# The stand-in receiver takes the place of your own server here.
with tempfile.TemporaryDirectory() as folder, Receiver(Path(folder)) as receiver:
    with smtplib.SMTP("127.0.0.1", receiver.port) as server:
        server.send_message(message.to_email_message(bcc="keep"))
    received = receiver.received[0]
    print(f"to {', '.join(received.recipients)}: {received.size:,} bytes")
    print("Bcc in the message:", "bcc:" in received.path.read_text(encoding="utf-8").lower())
