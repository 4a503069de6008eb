"""Messages that the tests of the audit change, and hold against servers: the berth office's, made with fixed dates and
ids."""

from __future__ import annotations

import base64
from datetime import datetime, timedelta, timezone
from typing import Any
from zoneinfo import ZoneInfo

from pribble import Attachment, Invitation, Message, Picture

DATE = datetime(2026, 7, 3, 10, 15, tzinfo=timezone(timedelta(hours=1)))
FIXED: dict[str, Any] = {
    "sender": "Berth Office <berths@skerrow.example>",
    "to": "Ana Bell <ana@example.org>",
    "subject": "Your berth B 14",
    "date": DATE,
    "seed": b"1",
}
PNG = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
)
LOGO = Picture.from_bytes(PNG, "logo.png")
CID = LOGO.content_id("skerrow.example")
TEXT = "Dear Ana,\n\nyour berth is B 14.\n"
PAGE = f'<html><head><meta charset="utf-8"></head><body><p>Dear Ana</p><img src="cid:{CID}" alt=""></body></html>\n'
LONDON = ZoneInfo("Europe/London")
STAY = Invitation(
    datetime(2026, 7, 10, 14, tzinfo=LONDON),
    datetime(2026, 7, 12, 11, tzinfo=LONDON),
    "Berth B 14",
    "Berth Office <berths@skerrow.example>",
    "b-2041@skerrow.example",
)


def bases() -> dict[str, bytes]:
    """Sound messages of every shape."""
    plain = Message(**FIXED, text=TEXT)
    return {
        name: bytes(message)
        for name, message in {
            "plain": plain,
            "words": Message(
                **{**FIXED, "subject": "Grüße aus Skerrow Haven für die Nacht auf Samstag, " + "ü" * 30},
                cc=[("Zoë Ünal", "zoe@example.org"), ("日本 太郎", "taro@example.net")],
                text="Grüße\n",
            ),
            "full": Message(
                **FIXED,
                text=TEXT,
                html=PAGE,
                pictures=[LOGO],
                attachments=[Attachment("map.pdf", b"%PDF-1.7 " + b"x" * 200)],
            ),
            "qp": Message(**FIXED, text="Grüße aus dem Hafen = 1 = 2, " + "wort " * 30 + "\nzweite Zeile\n"),
            "base64": Message(**FIXED, text="日本語のお知らせ\n" * 8),
            "nested": Message(**FIXED, text="See below.\n", attachments=[Attachment("before.eml", bytes(plain))]),
            "calendar": Message(**FIXED, text=TEXT, invitation=STAY),
            "thread": Message(
                **FIXED,
                text=TEXT,
                in_reply_to="<one@example.org>",
                references=["<zero@example.org>", "<one@example.org>"],
                auto_submitted="auto-generated",
                unsubscribe=["https://skerrow.example/off", "mailto:off@skerrow.example"],
                one_click=True,
            ),
            "flowed": Message(
                **FIXED,
                text="> A line that was quoted\n\n" + "A paragraph that flows. " * 6 + "\n\n-- \nBerth Office\n",
            ),
            "utf8": Message(**{**FIXED, "to": "Ünal <ünal@example.org>", "subject": "Grüße"}, text=TEXT),
        }.items()
    }
