"""Messages of every kind, made by Hypothesis from arbitrary Unicode, with what each was made of."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta, timezone
from typing import Any

from hypothesis import strategies as st

from pribble import Address, Attachment, Group, Message
from tests.mime.mail import CID, LOGO, STAY

# Text as data have it: letters of many scripts, emoji, spaces of all kinds, what looks like an encoded-word.
PIECES = [
    " ",
    "  ",
    "=?utf-8?Q?x?=",
    "=?",
    "?=",
    "a" * 90,
    "ü" * 40,
    "👨‍👩‍👧‍👦",
    "🇸🇪🇳🇴",
    "é",
    ",",
    '"',
    "\\",
    "(",
    "<a@b>",
]
PIECES += [".", "@", ";", ":"]
TEXT = st.lists(
    st.one_of(
        st.text(st.characters(exclude_categories=("Cs", "Cc", "Zl", "Zp")), max_size=12), st.sampled_from(PIECES)
    ),
    max_size=8,
).map("".join)
BODY_PIECES = ["\n", "\r\n", "\r", ".", "\n.\n", "From ", "\nFrom x", " \n", "\t\n", "=", "a" * 80, "ü" * 30]
BODY_PIECES += ["x" * 1100, "\0", "=3D ", "\n-- \n", "--=_"]
BODY = st.lists(
    st.one_of(st.text(st.characters(exclude_categories=["Cs"]), max_size=20), st.sampled_from(BODY_PIECES)),
    max_size=12,
).map("".join)
NAMES = st.text(st.characters(exclude_categories=("Cs", "Cc", "Zl", "Zp", "Zs", "Cf")), min_size=1, max_size=60).filter(
    lambda name: name.strip(". ") and not set(name) & set("/\\")
)

_ATOM = st.text("abcdefghijklmnopqrstuvwxyz0123456789!#$%&'*+-/=?^_`{|}~", min_size=1, max_size=20)
_LOCAL = st.one_of(
    st.lists(_ATOM, min_size=1, max_size=3).map(".".join).filter(lambda local: "=?" not in local),
    st.text(st.characters(min_codepoint=32, max_codepoint=126), min_size=1, max_size=20)
    .map(lambda text: '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"')
    .filter(lambda local: "=?" not in local),
)
_DOMAIN = st.sampled_from(
    [
        "example.org",
        "skerrow.example",
        "bücher.example",
        "日本.example",
        "a-b.c-d.example.net",
        "[192.0.2.1]",
        "x" * 63 + ".example",
    ]
)
_WORD = st.text("abcdefghijklmnopqrstuvwxyz0123456789.-_", min_size=1, max_size=30).filter(
    lambda word: ".." not in word and word[0] != "." and word[-1] != "."
)
IDS = st.builds("<{}@{}.example>".format, _WORD, st.text("abcdefgh", min_size=1, max_size=10))
DATES = st.builds(
    lambda moment, minutes: moment.replace(microsecond=0, tzinfo=timezone(timedelta(minutes=minutes))),
    st.datetimes(datetime(1970, 1, 2), datetime(2100, 1, 1)),
    st.integers(-14 * 60, 14 * 60),
)


@st.composite
def addresses(draw: st.DrawFn, *, beyond_ascii: bool = False) -> Address:
    """A mailbox of any name."""
    local = draw(_LOCAL)
    if beyond_ascii and draw(st.booleans()):
        local = draw(st.sampled_from(["ünal", "山田", "josé.maría"]))
    return Address(draw(TEXT), f"{local}@{draw(_DOMAIN)}")


BEYOND_ASCII = """From: änne@example.org
To: ana@example.org
Date: Fri, 03 Jul 2026 10:15:00 +0100
MIME-Version: 1.0
Content-Type: text/plain; charset=utf-8
Content-Transfer-Encoding: 8bit

Grüße
"""


@dataclass(frozen=True)
class Made:
    """A message, and the arguments that it was made of."""

    message: Message
    given: dict[str, Any]


@st.composite
def messages(draw: st.DrawFn, *, international: bool = True) -> Made:
    """A message with some of everything.  With HTML there is a text, and each picture is shown."""
    beyond = international and draw(st.integers(0, 4)) == 0
    one = addresses(beyond_ascii=beyond)
    several = st.lists(
        st.one_of(one, one, st.builds(Group, TEXT.filter(str.strip), st.lists(one, max_size=3))), max_size=3
    )
    given: dict[str, Any] = {
        "sender": draw(one),
        "authors": draw(st.one_of(st.just([]), st.just([]), st.lists(one, min_size=1, max_size=2))),
        "to": draw(several),
        "cc": draw(several),
        "bcc": draw(st.lists(one, max_size=2)),
        "reply_to": draw(several),
        "subject": draw(st.none() | TEXT),
        "text": draw(BODY.filter(str.strip)),
        "text_format": draw(st.sampled_from(["flowed", "fixed"])),
        "date": draw(DATES),
        "seed": draw(st.binary(min_size=1, max_size=4)),
        "in_reply_to": draw(st.none() | IDS),
        "references": draw(st.lists(IDS, max_size=25)),
        "headers": draw(
            st.lists(
                st.tuples(
                    st.sampled_from(["Comments", "X-Berth", "Keywords-Of-Ours"]),
                    TEXT.filter(lambda text: not text or text.strip()),  # white space alone is refused
                ),
                max_size=2,
            )
        ),
        "importance": draw(st.sampled_from([None, "high", "low"])),
        "language": draw(st.sampled_from([(), "en", ["en", "de-CH"], "pt_BR"])),
        "auto_submitted": draw(st.sampled_from([None, "auto-generated", "auto-replied", "no"])),
        "unsubscribe": draw(
            st.sampled_from([(), "mailto:off@skerrow.example", ["https://skerrow.example/off/" + "x" * 80]])
        ),
    }
    given["one_click"] = bool(given["unsubscribe"]) and given["unsubscribe"][0].startswith("https")
    if draw(st.booleans()):
        picture = draw(st.booleans())
        given["html"] = draw(BODY.filter(lambda text: "cid:" not in text)) + (
            f'<img src="cid:{CID}">' if picture else ""
        )
        given["pictures"] = [LOGO, LOGO] if picture else []
        given["id_domain"] = "skerrow.example"
    if any(isinstance(to, Address) for to in given["to"]) and draw(st.booleans()):
        given["invitation"] = STAY
    files = st.one_of(BODY, st.binary(max_size=200))
    given["attachments"] = [
        Attachment(name, content, "application/octet-stream" if isinstance(content, bytes) else None)
        for name, content in draw(st.lists(st.tuples(NAMES, files), max_size=2))
    ]
    if draw(st.integers(0, 5)) == 0:
        inner = Message(
            sender=draw(addresses()), subject=draw(TEXT), text=draw(BODY), date=given["date"], seed=given["seed"]
        )
        given["attachments"].append(Attachment("before.eml", bytes(inner)))
    if draw(st.integers(0, 9)) == 0:
        given["attachments"].append(Attachment("global.eml", BEYOND_ASCII))
    return Made(Message(**given), given)
