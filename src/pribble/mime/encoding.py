"""Transfer encodings of bodies (RFC 2045 6): 7bit where it is safe, else the shorter of the other two."""

from __future__ import annotations

import binascii
import re

from pribble.errors import PribbleError

LINE = 76  # RFC 2045 6.7(5), 6.8
_LONGEST = 998

_LINE_ENDS = re.compile(r"\r\n|\r|\n")
_BARE_END = re.compile(rb"\r(?!\n)|(?<!\r)\n")


def canonical(text: str) -> bytes:
    """`text` in UTF-8 with every line break as CRLF, the canonical form that is encoded (RFC 2045 6.8).

    Raises `PribbleError` for a lone surrogate, which no UTF-8 has.
    """
    try:
        return _LINE_ENDS.sub("\r\n", text).encode("utf-8")
    except UnicodeEncodeError as error:
        raise PribbleError(f"a lone surrogate at position {error.start} of a body is no character") from None


def encoded_text(text: str) -> tuple[str, bytes]:
    """The transfer encoding for a text, and the text so encoded."""
    body = canonical(text)
    if body.isascii() and b"\0" not in body and not _is_trapped(body) and _longest(body) <= _LONGEST:
        return "7bit", body
    quoted = quoted_printable(body)
    characters = (len(body) + 2) // 3 * 4
    if len(quoted) <= characters + 2 * -(-characters // LINE):
        return "quoted-printable", quoted
    return "base64", base64_lines(body)


def _is_trapped(body: bytes) -> bool:
    """Whether a line is one that a mailbox format or a server takes for something else: "From …", a lone dot."""
    framed = b"\n" + body + b"\r\n"
    return b"\nFrom " in framed or b"\n.\r\n" in framed


def _longest(body: bytes) -> int:
    return max(map(len, body.split(b"\r\n")))


def base64_lines(data: bytes) -> bytes:
    """`data` in base64, in lines of 76 (RFC 2045 6.8); the last has no line end."""
    encoded = binascii.b2a_base64(data, newline=False)
    return b"\r\n".join([encoded[start:start + LINE] for start in range(0, len(encoded), LINE)])


def quoted_printable(body: bytes) -> bytes:
    """A text whose lines end in CRLF, in quoted-printable (RFC 2045 6.7).

    Lines are at most 76 long with their "=", hex digits in capitals, blanks at line ends encoded, and no
    line begins "From " or is a lone dot.
    """
    # What the codec of the standard library gets wrong: lone line ends, NUL, lines that end in a blank, traps.
    framed = body + b"\r\n"
    if not (_BARE_END.search(body) or b"\0" in body or b" \r\n" in framed or b"\t\r\n" in framed):
        quoted = binascii.b2a_qp(framed, istext=True)[:-2]
        if not _is_trapped(quoted):
            return quoted
    return b"\r\n".join(map(_quoted_line, body.split(b"\r\n")))


_UNSAFE = re.compile(rb"[^\x20-\x3c\x3e-\x7e\t]")


def _quoted_line(line: bytes) -> bytes:
    """One line, without its end, as lines of quoted-printable joined by soft breaks."""
    quoted = _UNSAFE.sub(_hex, line)
    if quoted[-1:] in (b" ", b"\t"):
        quoted = quoted[:-1] + b"=%02X" % quoted[-1]
    lines: list[bytes] = []
    start = 0
    while True:
        head = b""
        if quoted.startswith(b"From ", start) or quoted[start:start + 2] == b".":
            head = b"=%02X" % quoted[start]
            start += 1
        if len(head) + len(quoted) - start < LINE:
            lines.append(head + quoted[start:])
            return b"\r\n".join(lines)
        end = start + LINE - 1 - len(head)
        for back in (1, 2):  # never within =XX
            if quoted[end - back:end - back + 1] == b"=":
                end -= back
                break
        lines.append(head + quoted[start:end] + b"=")
        start = end


def _hex(found: re.Match[bytes]) -> bytes:
    return b"=%02X" % found[0][0]
