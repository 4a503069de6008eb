"""Replies of a server, read from octets as they come, within bounds; and what class of answer each is.

RFC 5321 4.2:  Reply-line = *( Reply-code "-" [ textstring ] CRLF ) Reply-code [ SP textstring ] CRLF
               Reply-code = %x32-35 %x30-35 %x30-39

No socket is in here.  What a server says is somebody else's text: it is bounded in lines and octets, and shown in one
printable line.
"""

from __future__ import annotations

import re

from pribble.delivery.states import Answer, Step
from pribble.records import record
from pribble.regexes import regex

# RFC 5321 4.5.3.1.5 permits 512 octets a line; some servers say more.
LONGEST_LINE = 4096
MOST_LINES = 200
LONGEST_TEXT = 500

# The second digit is taken as it comes: the first one alone decides (RFC 5321 4.2.1).
_LINE = regex(rb"([2-5][0-9]{2})(?:([ -])(.*))?", re.DOTALL)
# RFC 3463 2:  status-code = class "." subject "." detail
_ENHANCED = regex(r"([245]\.[0-9]{1,3}\.[0-9]{1,3})(?:[ \t]|$)")
# A mailbox of one recipient that is full, or takes nothing so large, is no limit on their number (RFC 3463 3.3, 3.4).
_ABOUT_A_MAILBOX = regex(r"[0-9]\.(?:2\.2|3\.4)")


class BrokenReply(Exception):
    """What came is no reply."""


@record(frozen=True, slots=True)
class Reply:
    """A reply: its `code`, and the octets of its lines behind the code."""

    code: int
    lines: tuple[bytes, ...]

    @property
    def text(self) -> str:
        """What it says, in one printable line."""
        return printable_line(b" ".join(self.lines))

    @property
    def enhanced(self) -> str | None:
        """Its enhanced status code (RFC 3463), if it has one."""
        return enhanced_code(self.text)


class ReplyReader:
    """Makes replies of the octets that are fed to it."""

    def __init__(self) -> None:
        self._octets = bytearray()
        self._looked_at = 0  # how much of them holds no end of a line
        self._code: bytes | None = None
        self._lines: list[bytes] = []

    @property
    def is_empty(self) -> bool:
        """Whether nothing is left of what was fed."""
        return not self._octets and self._code is None

    def feed(self, octets: bytes) -> None:
        self._octets += octets

    def next_reply(self) -> Reply | None:
        """Returns the next whole reply, or None where more octets are needed.  Raises `BrokenReply`."""
        while (line := self._next_line()) is not None:
            found = _LINE.fullmatch(line)
            if found is None:
                raise BrokenReply(f"it said {printable_line(line[:80])!r}, which is no reply")
            code, mark, text = found.groups()
            if self._code not in (None, code):
                raise BrokenReply("the lines of its reply have different codes")
            self._code = code
            self._lines.append(text or b"")
            if mark != b"-":
                reply = Reply(int(code), tuple(self._lines))
                self._code, self._lines = None, []
                return reply
            if len(self._lines) >= MOST_LINES:
                raise BrokenReply(f"its reply has more than {MOST_LINES} lines")
        return None

    def _next_line(self) -> bytes | None:
        end = self._octets.find(b"\n", self._looked_at)
        if max(end, len(self._octets) if end < 0 else 0) > LONGEST_LINE:
            raise BrokenReply(f"a line of its reply has more than {LONGEST_LINE} octets")
        if end < 0:
            self._looked_at = len(self._octets)
            return None
        line = bytes(self._octets[:end]).removesuffix(b"\r")
        del self._octets[: end + 1]
        self._looked_at = 0
        return line


def answer_of(step: Step, reply: Reply) -> Answer:
    """Returns the class of answer that `reply` to `step` is (RFC 5321 4.2.1)."""
    if reply.code == 421:
        return "closing"
    if step == "rcpt" and (reply.code == 452 or (reply.code == 552 and not _is_about_a_mailbox(reply))):
        return "full"
    if step in ("greeting", "starttls") and reply.code // 100 == 2 and reply.code != 220:
        return "broken"
    classes: dict[int, Answer] = {2: "ok", 3: "more", 4: "later", 5: "no"}
    return classes[reply.code // 100]


def _is_about_a_mailbox(reply: Reply) -> bool:
    return reply.enhanced is not None and _ABOUT_A_MAILBOX.fullmatch(reply.enhanced) is not None


def enhanced_code(text: str) -> str | None:
    """Returns the enhanced status code that a text begins with (RFC 3463 2)."""
    found = _ENHANCED.match(text)
    return found[1] if found else None


def printable_line(octets: bytes) -> str:
    """Returns what a server or a program said as one line that a terminal can show."""
    text = octets.decode("utf-8", "replace")
    return " ".join("".join(c if c.isprintable() else " " for c in text).split())[:LONGEST_TEXT]
