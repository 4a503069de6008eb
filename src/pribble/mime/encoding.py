"""Transfer encodings of bodies (RFC 2045 6): 7bit where it is safe, else the shorter of the other two."""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator

from pribble.errors import PribbleError
from pribble.mime.grammar import ENCODED_LINE, LONGEST_LINE

_LINE_ENDS = re.compile(r"\r\n|\r|\n")
# Octets that quoted-printable may leave as they are, and line ends; "=" is looked after first.
_SAFE = bytes(range(0x20, 0x7f)) + b"\t\r\n"
_SAFE_OR_HIGH = _SAFE + bytes(range(0x80, 0x100))
_BLANKS = (b" ", b"\t")
_UNSAFE = re.compile(rb"[^\x20-\x7e\t]+")
# How much of a large body is encoded at a time: whole lines of base64.
_STRETCH = ENCODED_LINE // 4 * 3 * 1024


def canonical(text: str) -> bytes:
    """`text` in UTF-8 with every line break as CRLF, the canonical form that is encoded (RFC 2045 6.8).

    Raises `PribbleError` for a lone surrogate, which no UTF-8 has.
    """
    lines = text.replace("\n", "\r\n") if "\r" not in text else _LINE_ENDS.sub("\r\n", text)
    try:
        return lines.encode("utf-8")
    except UnicodeEncodeError:
        surrogate = next(index for index, c in enumerate(text) if "\ud800" <= c <= "\udfff")
        raise PribbleError(f"a lone surrogate (U+{ord(text[surrogate]):04X}) at position {surrogate} of a body is no "
                           "character") from None


def encoded_text(text: str) -> tuple[str, bytes]:
    """The transfer encoding for a text, and the text so encoded."""
    body = canonical(text)
    if is_seven_bit(body):
        return "7bit", body
    in_base64 = base64_size(len(body)) + 2  # an octet or two go to the form that people can read
    if len(body) + 2 * len(body.translate(None, _SAFE)) <= in_base64:
        quoted = quoted_printable(body)
        if len(quoted) <= in_base64:
            return "quoted-printable", quoted
    return "base64", base64_lines(body)


def is_seven_bit(body: bytes) -> bool:
    """Whether a text whose lines end in CRLF travels as it is (RFC 2045 2.7), and nobody on the way changes it."""
    return body.isascii() and b"\0" not in body and not is_trapped(body) and longest_line(body) <= LONGEST_LINE


def is_trapped(body: bytes) -> bool:
    """Whether a line is one that a mailbox format or a server takes for something else: "From …", a lone dot."""
    return (b"\nFrom " in body or b"\n.\r\n" in body or body.startswith((b"From ", b".\r\n"))
            or body.endswith(b"\n.") or body == b".")


def longest_line(body: bytes) -> int:
    """How many octets the longest line has, its end not counted."""
    return max(map(len, body.split(b"\r\n")))


# ---- base64 ---------------------------------------------------------------------------------------------------


def base64_lines(data: bytes | memoryview) -> bytes:
    """`data` in base64, in lines of 76 (RFC 2045 6.8); the last has no line end."""
    encoded = binascii.b2a_base64(data, newline=False)
    return b"\r\n".join([encoded[start:start + ENCODED_LINE] for start in range(0, len(encoded), ENCODED_LINE)])


def base64_chunks(data: bytes) -> Iterator[bytes]:
    """`base64_lines` of `data`, piece by piece, so that a large body is never there twice."""
    view = memoryview(data)
    for start in range(0, len(data), _STRETCH):
        if start:
            yield b"\r\n"
        yield base64_lines(view[start:start + _STRETCH])


def base64_size(size: int) -> int:
    """How many octets `size` octets become in lines of base64."""
    characters = (size + 2) // 3 * 4
    return characters + max(0, 2 * (-(-characters // ENCODED_LINE) - 1))


# ---- quoted-printable -----------------------------------------------------------------------------------------


def quoted_printable(body: bytes) -> bytes:
    """A text whose lines end in CRLF, and which holds no other CR or LF, in quoted-printable (RFC 2045 6.7).

    Lines are at most 76 long with their "=", hex digits in capitals, blanks at line ends encoded, and no
    line begins "From " or is a lone dot.
    """
    lines = body.replace(b"=", b"=3D").split(b"\r\n")
    # Lines that need nothing are the rule; what only a closer look gets right is rare.
    if not body.translate(None, _SAFE_OR_HIGH):
        quoted = b"\r\n".join([line if len(line) < ENCODED_LINE and line.isascii() and not line.endswith(_BLANKS)
                               else _quoted_line(line) for line in lines])
        if not is_trapped(quoted):
            return quoted
    return b"\r\n".join(map(_quoted_line, lines))


def _quoted_line(line: bytes) -> bytes:
    """One line, "=" encoded, as lines of quoted-printable joined by soft breaks."""
    quoted = _UNSAFE.sub(_hex, line)
    if quoted.endswith(_BLANKS):
        quoted = quoted[:-1] + b"=%02X" % quoted[-1]
    lines: list[bytes] = []
    start, size = 0, len(quoted)
    while True:
        head = b""
        if quoted.startswith(b"From ", start) or quoted[start:] == b".":
            head = b"=%02X" % quoted[start]
            start += 1
        end = start + ENCODED_LINE - 1 - len(head)
        if size <= end:
            lines.append(head + quoted[start:])
            return b"\r\n".join(lines)
        escape = quoted.find(b"=", end - 2, end)  # never within =XX
        if escape >= 0:
            end = escape
        lines.append(head + quoted[start:end] + b"=")
        start = end


def _hex(found: re.Match[bytes]) -> bytes:
    return f"={found[0].hex('=')}".upper().encode("ascii")
