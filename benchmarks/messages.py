"""The mooring statement as a message: its bytes against the least they could cost, and against the standard library.

The floor of the bytes is what a developer in a hurry would do: both bodies through `binascii.b2a_qp`, and one join with
the pictures, which are in base64 already.  That makes no header, and no message: `b2a_qp` is what most of it would be.
"""

from __future__ import annotations

import binascii
import os
import subprocess
import sys
import time
from collections.abc import Callable
from email.message import EmailMessage
from email.policy import SMTP
from typing import Any, NamedTuple

from pribble import Message, TemplateFolder
from pribble.demo import OFFICE, TEMPLATES
from pribble.values.formatters import FORMATTERS, prepared
from pribble.values.settings import Settings

TO = "Ana Ferreira-Björk <ana@example.org>"


class Ways(NamedTuple):
    """Each a way to do it, and a floor below it."""

    whole: Callable[[], bytes]  # data to bytes
    written: Callable[[], bytes]  # a rendering to bytes
    floor: Callable[[], bytes]
    text_by_hand: Callable[[], str]
    by_the_library: Callable[[], bytes]


def ways() -> Ways:
    template = TemplateFolder(TEMPLATES, locale="en_GB")["mooring-statement"]
    data = template.samples[""]
    rendering = template.render(data)
    html, text = str(rendering.html), rendering.text
    pictures = [picture.base64_body for picture in rendering.pictures]

    def whole() -> bytes:
        return bytes(template.render(data).message(sender=OFFICE, to=TO))

    def written() -> bytes:
        return bytes(rendering.message(sender=OFFICE, to=TO))

    def floor() -> bytes:
        return b"".join(
            [binascii.b2a_qp(html.encode(), istext=True), binascii.b2a_qp(text.encode(), istext=True), *pictures]
        )

    by_hand = text_by_hand()
    assert by_hand(data) == text, "the two texts differ, so there is nothing to compare"
    assert Message.from_bytes(whole()).html == html.replace("\r\n", "\n")

    def by_the_library() -> bytes:
        made = EmailMessage(policy=SMTP)
        made["From"], made["To"], made["Subject"] = OFFICE, TO, rendering.subject
        made.set_content(text)
        made.add_alternative(html, subtype="html")
        page = made.get_payload()[1]
        for picture in rendering.pictures:
            page.add_related(
                picture.content,
                *picture.type.split("/"),
                cid=f"<{picture.content_id('x.example')}>",
                filename=picture.file_name,
            )
        return made.as_bytes()

    return Ways(whole, written, floor, lambda: by_hand(data), by_the_library)


def text_by_hand() -> Callable[[Any], str]:
    """The statement's plain text as one would write it for these columns."""
    settings = Settings("en_GB")

    def formatter(name: str, *arguments: str) -> Callable[[Any], str]:
        return prepared(FORMATTERS[name], settings, arguments, {})

    money, number, day, long = (
        formatter("money", "GBP"),
        formatter("number"),
        formatter("date", "d MMM"),
        formatter("date", "long"),
    )

    def page(data: Any) -> str:
        statement, paid, entries = data["statement"], data["paid"], data["entries"]
        charged = sum(entry["quantity"] * entry["price"] for entry in entries)
        due = charged - paid
        said = (
            f"this is what {data['vessel']['name']} has used at berth {data['berth']['pier']} "
            f"{data['berth']['number']} from {long(statement['from'])} to {long(statement['to'])}. Thank you for "
            f"the {money(paid)} you have paid already."
        )
        turn = said.rfind(" ", 0, 73)
        title = f"Mooring statement {statement['number']}"
        rule = "-" * 62
        rows = "".join(
            [
                f"{day(e['day']):<8}{e['what']:<29}{number(e['quantity']):>8}{money(e['price']):>8}"
                f"{money(e['quantity'] * e['price']):>9}\n"
                for e in entries
            ]
        )
        return (
            f"{title}\n{'=' * len(title)}\n\nDear {data['skipper'].get('name') or 'skipper'},\n\n"
            f"{said[:turn]}\n{said[turn + 1 :]}\n\nPay {money(due)} <{statement['link']}>\n\n"
            f"[Shore power used each day, in kWh]\n\n"
            f"{'Day':<8}{'Entry':<29}{'Quantity':>8}{'Price':>8}{'Amount':>9}\n{rule}\n{rows}{rule}\n"
            f"{'Charged':<53}{money(charged):>9}\n{'Paid already':<53}{money(paid):>9}\n"
            f"{'Due by ' + long(statement['due']):<53}{money(due):>9}\n\nFair winds,\nthe berth office\n\n"
            "Berth Office, Skerrow Haven\nHarbour Street 1 · open from 8 to 20\n"
            "+44 1632 960100 · berths@skerrow.example\n"
        )

    return page


def start(statement: str) -> float:
    """The seconds that an interpreter takes to start and run a statement: the least of several."""
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    times = []
    for _ in range(12):
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", statement], check=True, env=environment)
        times.append(time.perf_counter() - began)
    return min(times)
