"""Transfer encodings of bodies (RFC 2045 6): 7bit where it is safe, else the shorter of the other two."""

from __future__ import annotations

import binascii
import codecs
from collections.abc import Callable, Iterator, Sequence

from pribble.errors import PribbleError
from pribble.mime.grammar import ENCODED_LINE, LONGEST_LINE
from pribble.regexes import regex

_LINE_ENDS = regex(r"\r\n|\r|\n")
# Octets that quoted-printable may leave as they are, and line ends; "=" is looked after first.  A tab may stay, but not
# at the end of a line.
_USUAL = bytes(range(0x20, 0x7F)) + b"\n"
_TRAP = regex(rb"\n(?:From |\.(?:\r\n|\Z))")
_CONTROL = regex(rb"[\x00-\x08\x0b-\x1f\x7f]")
# How much of a large body is encoded at a time: whole lines of base64.
_STRETCH = ENCODED_LINE // 4 * 3 * 1024


def canonical_lines(text: str) -> bytes:
    """Returns `text` in UTF-8 with every line break as CRLF, the canonical form that is encoded (RFC 2045 6.8).

    Raises `PribbleError` for a lone surrogate, which no UTF-8 has.
    """
    lines = text.replace("\n", "\r\n") if "\r" not in text else _LINE_ENDS.sub("\r\n", text)
    try:
        return lines.encode("utf-8")
    except UnicodeEncodeError:
        surrogate = next(index for index, c in enumerate(text) if "\ud800" <= c <= "\udfff")
        raise PribbleError(
            f"a lone surrogate (U+{ord(text[surrogate]):04X}) at position {surrogate} of a body is no character"
        ) from None


# A body in pieces, which are put together on their way out: it is never there twice.
Pieces = Sequence[bytes]


class PreparedBody:
    """What a text is in quoted-printable, known sooner than by its characters; None where it is not known after all.
    `has_long_lines` says that it has lines which are too long to travel as they are."""

    __slots__ = ("has_long_lines", "quoted")

    def __init__(self, quoted: Callable[[], Pieces | None], *, has_long_lines: bool = False) -> None:
        self.quoted, self.has_long_lines = quoted, has_long_lines

    def __reduce__(self) -> tuple[Callable[[Pieces | None, bool], PreparedBody], tuple[Pieces | None, bool]]:
        return _prepared, (self.quoted(), self.has_long_lines)


def _prepared(quoted: Pieces | None, has_long_lines: bool) -> PreparedBody:
    """Returns the body that was copied, or went to another process."""
    return PreparedBody(lambda: quoted, has_long_lines=has_long_lines)


def encoded_text(text: str, prepared: PreparedBody | None = None) -> tuple[str, Pieces]:
    """Returns the transfer encoding for a text, and the text so encoded; `prepared` is what is known of it already."""
    if not (prepared is not None and prepared.has_long_lines) and text.isascii():
        body = canonical_lines(text)
        if is_seven_bit(body):
            return "7bit", (body,)
    quoted = (prepared.quoted() if prepared is not None else None) or (quoted_printable(text),)
    size = sum(map(len, quoted))
    if size > base64_size(len(text)):  # the text's octets are no fewer than its characters
        body = canonical_lines(text)
        # An octet or two go to the form that people can read.
        if size > base64_size(len(body)) + 2:
            return "base64", (base64_lines(body),)
    return "quoted-printable", quoted


def is_seven_bit(body: bytes) -> bool:
    """Returns whether a text whose lines end in CRLF travels as it is (RFC 2045 2.7), and nobody on the way changes
    it."""
    return body.isascii() and b"\0" not in body and not is_trapped(body) and longest_line(body) <= LONGEST_LINE


def is_trapped(body: bytes) -> bool:
    """Returns whether a line is one that a mailbox format or a server takes for something else: "From …", a lone
    dot."""
    return _TRAP.search(body) is not None or body.startswith((b"From ", b".\r\n")) or body == b"."


def longest_line(body: bytes) -> int:
    """Returns how many octets the longest line has, its end not counted."""
    return max(map(len, body.split(b"\r\n")))


# ---- base64 ---------------------------------------------------------------------------------------------------


def base64_lines(data: bytes | memoryview) -> bytes:
    """Returns `data` in base64, in lines of 76 (RFC 2045 6.8); the last has no line end."""
    encoded = binascii.b2a_base64(data, newline=False)
    return b"\r\n".join([encoded[start : start + ENCODED_LINE] for start in range(0, len(encoded), ENCODED_LINE)])


def base64_chunks(data: bytes) -> Iterator[bytes]:
    """`base64_lines` of `data`, piece by piece, so that a large body is never there twice."""
    view = memoryview(data)
    for start in range(0, len(data), _STRETCH):
        if start:
            yield b"\r\n"
        yield base64_lines(view[start : start + _STRETCH])


def base64_size(size: int) -> int:
    """Returns how many octets `size` octets become in lines of base64."""
    characters = (size + 2) // 3 * 4
    return characters + max(0, 2 * (-(-characters // ENCODED_LINE) - 1))


# ---- quoted-printable -----------------------------------------------------------------------------------------


def quoted_printable(text: str) -> bytes:
    """Returns a text in UTF-8, its line breaks as CRLF, in quoted-printable (RFC 2045 6.7).

    Lines are at most 76 long with their "=", hex digits in capitals, blanks at line ends encoded, and no
    line begins "From " or is a lone dot.  Raises `PribbleError` for a lone surrogate.
    """
    lines = _LINE_ENDS.sub("\n", text) if "\r" in text else text
    try:
        quoted = _in_ascii(f"{lines}\n".replace("=", "=3D"))
    except UnicodeEncodeError:
        canonical_lines(text)  # says where
        raise
    if b" \n" in quoted:
        quoted = quoted.replace(b" \n", b"=20\n")
    unusual = quoted.translate(None, _USUAL)
    if b"\t" in unusual:
        quoted = quoted.replace(b"\t\n", b"=09\n")
    written = quoted[:-1].split(b"\n")
    if not unusual.strip(b"\t"):
        made = b"\r\n".join([line if len(line) < ENCODED_LINE else _broken_line(line) for line in written])
        if not is_trapped(made):
            return made
    # What only a closer look gets right is rare.
    return b"\r\n".join([_guard_line(line) for line in written])


def _broken_line(line: bytes) -> bytes:
    """Returns a line that is too long, with soft breaks, none within =XX."""
    stretches: list[bytes] = []
    start = 0
    while len(line) - start >= ENCODED_LINE:
        end = _stretch_end(line, start + ENCODED_LINE - 1)
        stretches.append(line[start:end])
        start = end
    return b"=\r\n".join([*stretches, line[start:]])


def _stretch_end(line: bytes, end: int) -> int:
    """Returns where a stretch ends that may go as far as `end`: never within =XX."""
    escape = line.find(b"=", end - 2, end)
    return end if escape < 0 else escape


def quoted_values(values: Sequence[object]) -> list[bytes] | None:
    """Returns texts in quoted-printable, each to stand at the beginning of a line and before a soft break; None where
    one holds a carriage return, which may be half of a line break."""
    texts: Sequence[str] = values  # type: ignore[assignment]
    try:
        whole = "\n".join(texts)
    except TypeError:  # one is nothing
        texts = [f"{value}" for value in values]
        whole = "\n".join(texts)
    if "\r" in whole:
        return None
    quoted = _in_ascii(whole.replace("=", "=3D"))  # all at once, a line each
    made = quoted.split(b"\n")
    if len(made) != len(texts) or quoted.translate(None, _USUAL).strip(b"\t") or b"From " in quoted:
        return list(map(quoted_printable, texts))
    if max(map(len, made)) >= ENCODED_LINE:
        for index, value in enumerate(made):
            if len(value) >= ENCODED_LINE:
                made[index] = quoted_printable(texts[index])
    return made


def _guard_line(line: bytes) -> bytes:
    """Returns a line as its stretches, with controls encoded, and the first character of what would be taken for
    something else."""
    line = _CONTROL.sub(lambda found: b"=%02X" % found[0][0], line)
    pieces: list[bytes] = []
    start = 0
    while True:
        head = b""
        if line.startswith(b"From ", start) or line[start:] == b".":
            head = b"=%02X" % line[start]
            start += 1
        end = start + ENCODED_LINE - 1 - len(head)
        if len(line) <= end:
            pieces.append(head + line[start:])
            return b"=\r\n".join(pieces)
        end = _stretch_end(line, end)
        pieces.append(head + line[start:end])
        start = end


_HANDLER = "pribble.quoted-printable"


def _in_ascii(text: str) -> bytes:
    """Returns `text` with =XX for all octets of what is beyond ASCII.  Raises `UnicodeEncodeError` for a lone
    surrogate."""
    if len(text) < _SHORT and not text.isascii():
        for character in _ESCAPED.latest:
            if character in text:
                text = text.replace(character, _ESCAPED[character])
        for _ in range(_FEW):
            try:
                return text.encode("ascii")
            except UnicodeEncodeError as error:
                character = text[error.start]
                text = text.replace(character, _ESCAPED[character])
                _ESCAPED.latest = (character, *_ESCAPED.latest[: _FEW - 1])
    return text.encode("ascii", _HANDLER)


# A short text has few characters beyond ASCII, and each often: a currency's sign, umlauts.
_SHORT, _FEW = 5000, 8


class _Escaped(dict[str, str]):
    """What characters beyond ASCII become; single ones are kept, as the same few are in every message: the `latest` are
    looked for first."""

    latest: tuple[str, ...] = ()

    def __missing__(self, run: str) -> str:
        made = f"={run.encode('utf-8').hex('=')}".upper()
        if len(run) == 1 and len(self) < 1000:
            self[run] = made
        return made


_ESCAPED = _Escaped()


def _quoted_run(error: UnicodeError) -> tuple[str, int]:
    """Returns what the codec puts for what it cannot encode, which it finds faster than any pattern."""
    end = error.end  # type: ignore[attr-defined]  # it is a UnicodeEncodeError
    return _ESCAPED[error.object[error.start : end]], end  # type: ignore[attr-defined]


codecs.register_error(_HANDLER, _quoted_run)
