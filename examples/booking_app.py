"""A small Flask application that confirms bookings by mail and answers for what became of them; and its tests, with an
outbox in the place of a server.  Run it: it tests itself."""

import json
import os
import sys
import unittest
from pathlib import Path
from typing import Any

from flask import Flask, request

from pribble import DeliveryError, TemplateFolder
from pribble.delivery import transport
from pribble.testing import MessageTestCase, Outbox

TEMPLATES = Path(__file__).parent.parent / "src/pribble/demo/templates"
OFFICE = "Skerrow Haven Berth Office <berths@skerrow.example>"


def create_app(mail: str) -> Flask:
    """Returns the application; `mail` is the address of the transport that its messages go through."""
    app = Flask(__name__)
    confirmed = TemplateFolder(TEMPLATES, locale="en_GB", timezone="Europe/London")["berth-confirmed"]
    way = transport(mail, lambda: os.environ.get("PRIBBLE_PASSWORD"), connections=4)

    @app.post("/bookings")
    def book() -> tuple[dict[str, Any], int]:
        booking = request.get_json()
        if problems := confirmed.problems(booking):
            return {"problems": [problem.problem for problem in problems]}, 422
        skipper = booking["skipper"]
        message = confirmed.render(booking).message(sender=OFFICE, to=[(skipper["name"], skipper["email"])])
        try:
            receipt = way.deliver(message)
        except DeliveryError as error:  # nothing was said of the message: another time
            app.logger.info("no mail: %s", error)
            return {"mail": "later"}, 202
        return {"mail": receipt.outcomes[0].state, "id": receipt.message_id}, 201 if receipt.is_accepted else 202

    return app


BOOKING = json.loads((TEMPLATES / "berth-confirmed.sample.json").read_text(encoding="utf-8"))


class Bookings(MessageTestCase):
    def setUp(self) -> None:
        self.outbox = Outbox()
        self.client = create_app(self.outbox.address).test_client()

    def book(self, **changes: object) -> tuple[int, Any]:
        answer = self.client.post("/bookings", json={**BOOKING, **changes})
        return answer.status_code, answer.get_json().get("mail")

    def test_a_booking_is_confirmed(self) -> None:
        self.assertEqual(self.book(), (201, "accepted"))
        (message,) = self.outbox.messages
        self.assertEqual([one.addr for one in message.to], [BOOKING["skipper"]["email"]])
        self.assertIn(BOOKING["skipper"]["name"], message.text or "")
        self.assertSound(message)

    def test_nobody_has_that_address(self) -> None:
        self.outbox.refuse(BOOKING["skipper"]["email"])
        self.assertEqual(self.book(), (202, "refused"))

    def test_the_server_is_busy_and_then_is_not(self) -> None:
        self.outbox.defer("*", times=1)
        self.assertEqual([self.book(), self.book()], [(202, "deferred"), (201, "accepted")])

    def test_the_server_is_down(self) -> None:
        self.outbox.be_down()
        self.assertEqual(self.book(), (202, "later"))

    def test_a_booking_without_a_berth(self) -> None:
        self.assertEqual(self.book(berth=None), (422, None))
        self.assertEqual(self.outbox.receipts, [])


if __name__ == "__main__":
    unittest.main(testRunner=unittest.TextTestRunner(sys.stdout))
