"""Django sends: its e-mail backend takes messages that Pribble has made, byte for byte.

An application that has a backend, for its provider say, keeps it; what is new is what it is given.  It needs Django.
"""

import tempfile
from email.message import EmailMessage
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.mail import EmailMultiAlternatives, get_connection

from pribble import Message, Template
from pribble.delivery.receiver import Receiver

THANKS = Template.from_text(
    "{{ subject: }}Thank you, {{ name }}{{ :subject }}<p>Dear {{ name }}, we have your <b>question</b>.</p>"
)


class Ready(EmailMultiAlternatives):  # type: ignore[misc]  # Django has no types
    """A message for Django's backends that is ready already."""

    def __init__(self, made: Message) -> None:
        self.made = made
        people = made.envelope
        super().__init__(made.subject or "", made.text or "", people.sender, list(people.recipients))
        if made.html is not None:  # what a backend for tests shows
            self.attach_alternative(made.html, "text/html")

    def recipients(self) -> list[str]:
        return list(self.made.envelope.recipients)

    def message(self, *_: Any, **__: Any) -> EmailMessage:
        made = self.made.to_email_message(bcc="drop")
        made.as_bytes = lambda *_, **__: bytes(self.made)  # type: ignore[method-assign]  # with the line ends it has
        return made


def main() -> None:
    with tempfile.TemporaryDirectory() as folder, Receiver(Path(folder)) as receiver:
        host, _, port = receiver.address.removeprefix("smtp://").partition(":")
        settings.configure(EMAIL_HOST=host, EMAIL_PORT=int(port))
        made = THANKS.render({"name": "Zoë"}).message(
            sender="Office <office@skerrow.example>", to="Zoë <zoe@example.org>", bcc="desk@skerrow.example"
        )
        connection = get_connection("django.core.mail.backends.smtp.EmailBackend")
        count = connection.send_messages([Ready(made)])
        (received,) = receiver.received
        print(count, "message sent to", ", ".join(received.recipients))
        print("byte for byte:", received.path.read_bytes().endswith(bytes(made)))


if __name__ == "__main__":
    main()
