"""A form of a web application posts an event, a thank-you to its writer and a copy to the office: sent twice by an
impatient browser, posted once.

It needs Flask and the extra `journal`.
"""

import tempfile
from pathlib import Path
from typing import Any

from flask import Flask, request

from pribble.delivery import EventError, Mailroom
from pribble.testing import Outbox

SETTINGS = """
templates = "templates"
journal = "post.journal"

[senders]
default = "Skerrow Haven <office@skerrow.example>"

[transports.default]
url = "smtps://office@mail.skerrow.example"

[events.asked]
key = "{{ form.id }}"

[[events.asked.messages]]
template = "thanks"
to = "{{ form.name }} <{{ form.mail }}>"

[[events.asked.messages]]
name = "office"
template = "thanks"
to = "Office <office@skerrow.example>"
reply_to = "{{ form.name }} <{{ form.mail }}>"
"""
THANKS = "{{ subject: }}Thank you, {{ form.name }}{{ :subject }}<p>We have your question: {{ form.question }}</p>"


def application(mailroom: Mailroom) -> Flask:
    app = Flask(__name__)

    @app.post("/ask")
    def ask() -> Any:
        try:
            posted = mailroom.post("asked", {"form": request.form.to_dict()})
        except EventError as error:  # an address that is none, say
            return {"problems": [name for name, _ in error.problems]}, 422
        return {
            "sent": posted.is_accepted,
            "anew": posted.is_new,
            "to": [one.address for message in posted.messages for one in message.entries],
        }

    return app


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        project = Path(name)
        (project / "templates").mkdir()
        (project / "templates/thanks.html").write_text(THANKS)
        (project / "pribble.toml").write_text(SETTINGS)
        # In a test, or here, an outbox stands in for the server.
        outbox = Outbox()
        with Mailroom.from_config(project / "pribble.toml", through={"default": outbox}) as mailroom:
            browser = application(mailroom).test_client()
            form = {
                "id": "f-7",
                "name": "Ana, of the <Tern>",
                "mail": "ana@example.org",
                "question": "Is there a crane?",
            }
            for _ in range(2):
                print(browser.post("/ask", data=form).json)
            print(browser.post("/ask", data={**form, "id": "f-8", "mail": "nobody"}).json)
            print(len(outbox.messages), "messages;", outbox.messages[1].reply_to)
            mailroom.journal.close()


if __name__ == "__main__":
    main()
