"""Any message as a tree of entities with their places: whatever is written is read, and nothing is refused.

A message is read as a text of octets, one character each (ISO 8859-1), so that an offset in the text is an offset in
the bytes.  Depth and number of parts are bounded; what lies deeper stays a body.
"""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator

from pribble.cached_property import cached_property
from pribble.mime.comments import without_comments
from pribble.mime.grammar import FIELD_NAME, FOLD, MESSAGE_TYPES, WHITE_SPACE
from pribble.mime.parameters import Departure, Parameters, read_parameters
from pribble.records import field, record
from pribble.regexes import regex

MOST_DEPTH = 50
MOST_PARTS = 10_000
_MOST_TOLD = 100  # of one multipart

# A field as it should be, or nearly: what stands before the colon has no space in it.
_FIELD = regex(r"([^ \t\r\n:]+)([ \t]*):")
_WIDER_FIELD = regex(r"[^ \t\r\n:][^\r\n:]{0,75}:")
# A word that was meant as the name of a field.
_LIKE_A_NAME = regex(r"(?:[A-Z][A-Za-z0-9]*(?:-[A-Za-z0-9]+)+|From|To|Cc|Subject|Date|Sender)(?=[ \t]|\r?\n)")
# RFC 2045 6.7(3): blanks at the end of a line were put there on the way.
_PADDING = regex(rb"(?<![ \t])[ \t]++(?=\r?\n)")
_BOM = "\xef\xbb\xbf"


@record(slots=True)
class ReadField:
    """A header field: its name as it was written, where it begins, where its value does and where it ends, line end
    included; and the value, unfolded."""

    name: str
    start: int
    value_start: int
    end: int
    raw: str

    @property
    def key(self) -> str:
        """The name as it is compared."""
        return self.name.lower()

    @property
    def value(self) -> str:
        """The value in one line, without the spaces around it."""
        return FOLD.sub("", self.raw).strip(WHITE_SPACE)


@record(eq=False)
class Entity:
    """A message or a part of one: its header, and its body from `body_start` to `end`."""

    text: str = field(repr=False)
    start: int
    end: int
    parent: Entity | None = field(default=None, repr=False)
    depth: int = 0
    fields: list[ReadField] = field(default_factory=list)
    body_start: int = 0
    parts: list[Entity] = field(default_factory=list)
    departures: list[Departure] = field(default_factory=list)
    closed: bool = True  # a multipart whose last delimiter is there

    def all(self, name: str) -> list[ReadField]:
        """Returns its fields of this name, which is in lower case."""
        return [f for f in self.fields if f.key == name]

    def first(self, name: str) -> ReadField | None:
        """Returns the first of its fields of this name, which is in lower case."""
        return next((f for f in self.fields if f.key == name), None)

    @cached_property
    def type(self) -> Parameters:
        """Its Content-Type; where there is none, what a reader takes it for (RFC 2045 5.2, RFC 2046 5.1.5)."""
        found = self.first("content-type")
        if found is not None:
            return read_parameters(found.raw)
        digest = self.parent is not None and self.parent.type.value == "multipart/digest"
        return Parameters("message/rfc822" if digest else "text/plain")

    @cached_property
    def disposition(self) -> Parameters:
        """Its Content-Disposition, empty where there is none."""
        found = self.first("content-disposition")
        return Parameters() if found is None else read_parameters(found.raw)

    @property
    def encoding(self) -> str:
        """Its transfer encoding, in lower case."""
        found = self.first("content-transfer-encoding")
        return "7bit" if found is None else without_comments(found.value).strip(WHITE_SPACE).lower()

    @property
    def is_multipart(self) -> bool:
        return self.type.value.startswith("multipart/")

    @property
    def is_message(self) -> bool:
        """Whether a message is nested in it."""
        return self.type.value in MESSAGE_TYPES

    @property
    def body(self) -> str:
        """Its body as it is written."""
        return self.text[self.body_start : self.end]

    @property
    def content_id(self) -> str | None:
        found = self.first("content-id")
        return None if found is None else found.value.strip("<>")

    @property
    def file_name(self) -> str | None:
        return self.disposition.get("filename") or self.type.get("name")

    def own_stretches(self) -> Iterator[tuple[int, int]]:
        """Yields where its body is its own: all of it, or of a multipart what stands before the first part and behind
        the last (RFC 2046 5.1.1: preamble and epilogue), with the delimiters there."""
        if not self.parts:
            yield self.body_start, self.end
        elif self.is_multipart:
            yield self.body_start, self.parts[0].start
            yield self.parts[-1].end, self.end

    def decoded(self) -> bytes:
        """Returns its body without its transfer encoding, as far as it can be decoded."""
        octets = self.body.encode("latin-1")
        if self.encoding == "quoted-printable":
            return binascii.a2b_qp(_PADDING.sub(b"", octets))
        if self.encoding == "base64":
            return _from_base64(octets)
        return octets

    def walk(self) -> Iterator[Entity]:
        """Itself and all parts, in their order."""
        waiting = [self]
        while waiting:
            entity = waiting.pop()
            yield entity
            waiting += reversed(entity.parts)


def _from_base64(octets: bytes) -> bytes:
    characters = re.sub(rb"[^A-Za-z0-9+/]", b"", octets)
    whole = len(characters) // 4 * 4
    rest = characters[whole:]
    tail = binascii.a2b_base64(rest + b"=" * (4 - len(rest))) if len(rest) > 1 else b""
    return binascii.a2b_base64(characters[:whole]) + tail


# ---- the tree -------------------------------------------------------------------------------------------------


def read_message(text: str) -> Entity:
    """Returns the message that `text`, one character for each octet, consists of."""
    root = Entity(text, 0, len(text))
    _read_header(root)
    waiting, count = [root], 1
    while waiting:
        entity = waiting.pop()
        if not (entity.is_multipart or entity.is_message):
            continue
        if entity.depth >= MOST_DEPTH or count >= MOST_PARTS:
            entity.departures.append(
                Departure(
                    "limits.too-deep" if entity.depth >= MOST_DEPTH else "limits.too-many-parts",
                    entity.start,
                    entity.body_start,
                )
            )
            continue
        entity.parts = _parts(entity, MOST_PARTS - count) if entity.is_multipart else _nested(entity)
        count += len(entity.parts)
        for part in entity.parts:
            _read_header(part)
        waiting += entity.parts
    return root


def _nested(entity: Entity) -> list[Entity]:
    """Returns the message within `entity`; none where it is encoded, since it has no offsets then."""
    if entity.encoding in ("base64", "quoted-printable"):
        return []
    return [Entity(entity.text, entity.body_start, entity.end, entity, entity.depth + 1)]


def _parts(entity: Entity, most: int) -> list[Entity]:
    """Returns the parts of a multipart between its delimiter lines (RFC 2046 5.1.1); the preamble and the epilogue are
    none."""
    text, boundary = entity.text, entity.type.get("boundary")
    entity.closed = False
    if not boundary:
        return []
    delimiter = "--" + boundary.encode("utf-8").decode("latin-1")
    parts: list[Entity] = []
    position, begin = entity.body_start, -1
    while True:
        found = text.find(delimiter, position, entity.end)
        if found >= 0 and found != entity.body_start and text[found - 1] != "\n":
            position = found + 1
            continue
        after = found + len(delimiter)
        line_end = text.find("\n", after, entity.end) if found >= 0 else -1
        rest = text[after : entity.end if line_end < 0 else line_end] if found >= 0 else ""
        if found >= 0 and rest.strip(" \t\r") not in ("", "--"):
            if len(entity.departures) < _MOST_TOLD:
                entity.departures.append(Departure("multipart.boundary-in-part", found, after + len(rest)))
            position = after
            continue
        if begin >= 0 and len(parts) < most:
            stop = entity.end if found < 0 else _before(text, found, begin)
            parts.append(Entity(text, begin, stop, entity, entity.depth + 1))
        if found < 0:
            return parts
        if rest.startswith("--"):
            entity.closed = True
            return parts
        begin = position = entity.end if line_end < 0 else line_end + 1


def _before(text: str, delimiter: int, begin: int) -> int:
    """Returns where a part ends: the line end before a delimiter belongs to the delimiter."""
    end = delimiter - 1 - (text[delimiter - 2 : delimiter] == "\r\n")
    return max(begin, end)


# ---- a header -------------------------------------------------------------------------------------------------


def _read_header(entity: Entity) -> None:
    """Read the fields up to the empty line; reports what is no field, or takes it as the beginning of the body if it
    looks like one."""
    text, position, end = entity.text, _first_line(entity), entity.end
    tell = entity.departures.append
    while position < end:
        stop = text.find("\n", position, end) + 1 or end
        line = text[position:stop].rstrip("\r\n")
        if not line:
            entity.body_start = stop
            break
        if line[0] in " \t":
            if entity.fields:
                entity.fields[-1].end = stop
            else:
                tell(Departure("lines.starts-folded", position, stop))
            if not line.strip(" \t"):
                tell(Departure("lines.blank-continuation", position, stop))
        elif found := _FIELD.match(text, position, stop):
            if not FIELD_NAME.fullmatch(found[1]):
                tell(Departure("lines.field-name", position, found.end() - 1))
            if found[2]:
                tell(Departure("lines.space-before-colon", position, found.end()))
            entity.fields.append(ReadField(found[1], position, found.end(), stop, ""))
        elif _goes_on(entity, position, stop):
            wider = _WIDER_FIELD.match(text, position, stop)
            tell(Departure("lines.field-name" if wider else "lines.no-colon", position, stop))
        else:
            tell(
                Departure(
                    "multipart.no-empty-line"
                    if entity.parent is not None and entity.parent.is_multipart
                    else "lines.no-empty-line",
                    position,
                    stop,
                )
            )
            entity.body_start = position
            break
        position = stop
    else:
        entity.body_start = end
    _settle_parts(entity)


def _settle_parts(entity: Entity) -> None:
    for one in entity.fields:
        one.raw = entity.text[one.value_start : one.end].removesuffix("\n").removesuffix("\r")


def _first_line(entity: Entity) -> int:
    """Returns where the header begins: reports a byte order mark or a line of a mailbox file before it."""
    text, position = entity.text, entity.start
    if text.startswith(_BOM, position):
        entity.departures.append(Departure("lines.bom-first", position, position + 3))
        position += 3
    is_mark = text.startswith("From ", position) and not _FIELD.match(text, position, entity.end)
    if is_mark or text.startswith(">From ", position):
        stop = text.find("\n", position, entity.end) + 1 or entity.end
        entity.departures.append(Departure("lines.mbox-from", position, stop))
        position = stop
    return position


def _goes_on(entity: Entity, start: int, stop: int) -> bool:
    """Returns whether a line that is no field stands in a header that goes on after it."""
    text, end = entity.text, entity.end
    following = stop
    while following < end and text[following] in " \t":
        following = text.find("\n", following, end) + 1 or end
    if following < end and _FIELD.match(text, following, end):
        return True
    is_last = following >= end or text.startswith(("\r\n", "\n"), following)
    return is_last and bool(entity.fields) and _LIKE_A_NAME.match(text, start, stop) is not None
