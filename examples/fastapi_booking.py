"""An asynchronous application (FastAPI) posts an event: rendering and sending are done in a thread, so that the others
whom the application serves do not wait for it.

It needs FastAPI and the extra `journal`.
"""

import asyncio
import tempfile
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import httpx
from fastapi import FastAPI, HTTPException
from pydantic import BaseModel

from pribble.delivery import EventError, Mailroom
from pribble.testing import Outbox

SETTINGS = """
journal = "post.journal"

[senders]
default = "Berth Office <berths@skerrow.example>"

[transports.default]
url = "smtps://berths@mail.skerrow.example"

[events.booked]
key = "{{ reference }}"

[[events.booked.messages]]
template = "booked"
to = "{{ skipper.name }} <{{ skipper.mail }}>"
"""
BOOKED = (
    "{{ subject: }}Berth {{ berth }} is yours{{ :subject }}<p>Dear {{ skipper.name }}, berth {{ berth }} is yours.</p>"
)


class Skipper(BaseModel):
    name: str
    mail: str


class Booking(BaseModel):
    reference: str
    berth: str
    skipper: Skipper


def application(mailroom: Mailroom) -> FastAPI:
    async def send_what_waits() -> None:
        while True:
            await asyncio.to_thread(mailroom.send_waiting)
            await asyncio.sleep(30)

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        waiting = asyncio.create_task(send_what_waits())
        yield
        waiting.cancel()
        mailroom.stop()

    app = FastAPI(lifespan=lifespan)

    @app.post("/bookings")
    async def book(booking: Booking) -> dict[str, Any]:
        try:  # a template takes pydantic's models as they are
            posted = await asyncio.to_thread(mailroom.post, "booked", booking)
        except EventError as error:
            raise HTTPException(422, [str(problem) for _, problem in error.problems]) from None
        return {"sent": posted.is_accepted, "anew": posted.is_new}

    return app


async def use(app: FastAPI) -> None:
    booking = {"reference": "SH-1", "berth": "B 14", "skipper": {"name": "Ana", "mail": "ana@example.org"}}
    wrong = {**booking, "reference": "SH-2", "skipper": {"name": "Bo", "mail": "nowhere"}}
    async with (
        app.router.lifespan_context(app),
        httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://office.example") as client,
    ):
        asked = [client.post("/bookings", json=one) for one in (booking, wrong)]
        for answer in [*await asyncio.gather(*asked), await client.post("/bookings", json=booking)]:
            print(answer.status_code, answer.json())


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        project = Path(name)
        (project / "templates").mkdir()
        (project / "templates/booked.html").write_text(BOOKED)
        (project / "pribble.toml").write_text(SETTINGS)
        outbox = Outbox()  # in the place of the server
        with Mailroom.from_config(project / "pribble.toml", through={"default": outbox}) as mailroom:
            asyncio.run(use(application(mailroom)))
        print(f"{len(outbox.messages)} message sent to {outbox.messages[0].to}")


if __name__ == "__main__":
    main()
