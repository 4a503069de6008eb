"""The statement as a message: its bytes against the least they could cost, and against the standard library.

The floor of the bytes is what a developer in a hurry would do: both bodies through `binascii.b2a_qp`, and one join with
the pictures, which are in base64 already.  That makes no header, and no message: `b2a_qp` is what most of it would be.
"""

from __future__ import annotations

import binascii
import io
import random
from email.message import EmailMessage
from email.policy import SMTP
from typing import Any

from PIL import Image

from benchmarks.statement import Statement
from pribble import Message, Rendering, Template
from pribble.demo import OFFICE


class Messages:
    """The ways to the bytes of a statement; what they take is the data of a recipient, or its rendering."""

    def __init__(self, statement: Statement) -> None:
        self.statement = statement
        self.series = statement.template.series(sender=OFFICE)
        self.renderings = [(data, self._rendered(data)) for data in statement.recipients]
        data, rendering = self.renderings[0]
        assert Message.from_bytes(self.whole((data, rendering))).html == str(rendering.html).replace("\r\n", "\n")

    def _rendered(self, data: Any) -> Rendering:
        rendering = self.statement.template.render(data)
        assert rendering.html and rendering.text and all(picture.base64_body for picture in rendering.pictures)
        return rendering

    @staticmethod
    def _message(data: Any, rendering: Rendering) -> bytes:
        return bytes(rendering.message(sender=OFFICE, to=_mailbox(data)))

    def whole(self, given: tuple[Any, Rendering]) -> bytes:
        """From the data to the bytes."""
        return self._message(given[0], self.statement.template.render(given[0]))

    def written(self, given: tuple[Any, Rendering]) -> bytes:
        """From a rendering to the bytes."""
        return self._message(*given)

    def written_in_a_batch(self, given: tuple[Any, Rendering]) -> bytes:
        """From a rendering to the bytes, by what a batch keeps for all of its messages."""
        return bytes(self.series.of(given[1], to=_mailbox(given[0])))

    def whole_in_a_batch(self, given: tuple[Any, Rendering]) -> bytes:
        """From the data to the bytes, by the same."""
        return bytes(self.series.message(given[0], to=_mailbox(given[0])))

    def fresh(self, given: tuple[Any, Rendering]) -> tuple[Any, Rendering]:
        """The same with a rendering of which nobody has made a message yet; its page and its text are there."""
        return given[0], self._rendered(given[0])

    @staticmethod
    def floor(given: tuple[Any, Rendering]) -> bytes:
        """Both bodies encoded, and joined with the pictures."""
        rendering = given[1]
        html, text = str(rendering.html), rendering.text
        bodies = [binascii.b2a_qp(html.encode(), istext=True), binascii.b2a_qp(text.encode(), istext=True)]
        return b"".join([*bodies, *[picture.base64_body for picture in rendering.pictures]])

    def floors(self, given: tuple[Any, Rendering]) -> None:
        """HTML, text and bytes at their floors."""
        self.statement.html_by_hand(given[0])
        self.statement.text_by_hand(given[0])
        self.floor(given)

    @staticmethod
    def by_the_library(given: tuple[Any, Rendering]) -> bytes:
        """The same parts, built and serialised by the standard library's email package."""
        data, rendering = given
        made = EmailMessage(policy=SMTP)
        made["From"], made["To"], made["Subject"] = OFFICE, data["skipper"]["email"], rendering.subject
        made.set_content(rendering.text)
        made.add_alternative(str(rendering.html), subtype="html")
        page: Any = made.get_payload(1)
        for picture in rendering.pictures:
            content_id = f"<{picture.content_id('x.example')}>"
            page.add_related(picture.content, *picture.type.split("/"), cid=content_id, filename=picture.file_name)
        return made.as_bytes()


def _mailbox(data: Any) -> list[tuple[str, str]]:
    return [(data["skipper"]["name"], data["skipper"]["email"])]


class Album:
    """A page with a megabyte of pictures, that travel inside it or beside it."""

    def __init__(self) -> None:
        chance = random.Random(2026)
        pictures = [_noise(chance) for _ in range(4)]
        marks = "".join(f'<img src="{{{{ pictures[{n}] }}}}" alt="">' for n in range(4))
        self.template = Template.from_text(f"<h1>{{{{ name }}}}</h1>{marks}")
        self.recipients = [{"name": f"Album {n}", "pictures": pictures} for n in range(10)]
        assert sum(map(len, pictures)) > 1_000_000

    def inside(self, data: Any) -> bytes:
        return self._sent(data, "data")

    def beside(self, data: Any) -> bytes:
        return self._sent(data, "cid")

    def _sent(self, data: Any, embed: Any) -> bytes:
        return bytes(self.template.render(data, embed=embed).message(sender=OFFICE, to="ana@example.org"))


def _noise(chance: random.Random) -> bytes:
    file = io.BytesIO()
    Image.frombytes("RGB", (300, 300), chance.randbytes(270_000)).save(file, "PNG")
    return file.getvalue()
