"""Bodies: their transfer encodings (RFC 2045 6) and what is in them (RFC 2046 4)."""

from __future__ import annotations

import re

from pribble.mime.audit.report import Report
from pribble.mime.charsets import codec_name, fits
from pribble.mime.flowed import SIGNATURE, read_line
from pribble.mime.grammar import ENCODED_LINE, MECHANISMS, QUOTED_PRINTABLE, WHITE_SPACE
from pribble.mime.media_types import BY_NAME, type_of
from pribble.mime.reading import Entity
from pribble.regexes import regex

_BAD_ESCAPE = regex(r"=(?![0-9A-Fa-f]{2}|[ \t]*\r?\n|[ \t]*\Z)")
_LOWER_ESCAPE = regex(r"=(?:[a-f][0-9A-Fa-f]|[0-9A-F][a-f])")
# RFC 2045 6.7: behind a soft break there may be padding that a server put there.
_TRAILING = regex(r"(?<![ \t=])[ \t]+(?=\r?\n|\Z)")
_RAW = regex(r"[^\x20-\x7e\t\r\n]")
_ENCODED_ENDS = regex(r"=0D=0A|=0A", re.IGNORECASE)
_FOREIGN = regex(r"[^A-Za-z0-9+/=\r\n]")
_CLEAN_BASE64 = regex(
    r"(?:(?:[A-Za-z0-9+/]{4}){1,19}+\r\n)*+(?:[A-Za-z0-9+/]{4}){0,19}+"
    r"(?:[A-Za-z0-9+/]{2}==|[A-Za-z0-9+/]{3}=)?(?:\r\n)*+"
)
_BEYOND = regex(r"[^\x00-\x7f]")
_META = regex(rb"<meta\s[^>]{0,300}>", re.IGNORECASE)
_CONTENT = regex(rb"""\bcontent\s*+=\s*+("[^"]*"|'[^']*'|[^\s>]+)""", re.IGNORECASE)
_PRAGMA = regex(rb"""\bhttp-equiv\s*+=\s*+["']?\s*+content-type\b""", re.IGNORECASE)
_CHARSET = regex(rb"""\bcharset\s*+=\s*+["']?\s*+([A-Za-z0-9_.:-]{1,40})""", re.IGNORECASE)


def check_body(entity: Entity, report: Report) -> None:
    """Checks the body of a part that has no parts."""
    encoding = entity.encoding
    field = entity.first("content-transfer-encoding")
    if encoding not in MECHANISMS:
        if field is not None and not encoding.startswith("x-"):
            report.add_at("encodings.unknown", field)
        return
    if encoding == "quoted-printable":
        _check_quoted_printable(entity, report)
    elif encoding == "base64":
        _check_base64(entity, report)
    elif encoding == "7bit" and not entity.parts and (found := _beyond_ascii(entity)) is not None:
        report.add("encodings.undeclared", found, found + 1)
    if entity.type.value.startswith("text/"):
        _check_text(entity, report)
    elif entity.type.value in BY_NAME:
        _check_signature(entity, report)


def check_around(entity: Entity, report: Report) -> None:
    """Checks what stands around the parts of a multipart, which is shown to nobody and travels all the same."""
    if entity.encoding == "7bit":
        for start, end in entity.own_stretches():
            if found := _BEYOND.search(entity.text, start, end):
                report.add("encodings.undeclared", found.start(), found.end())


def _beyond_ascii(entity: Entity) -> int | None:
    if entity.body.isascii():
        return None
    found = _BEYOND.search(entity.text, entity.body_start, entity.end)
    return None if found is None else found.start()


def _check_encoded_width(body: str, base: int, rule: str, report: Report) -> None:
    """Checks lines of an encoded body, which are short."""
    position = base
    for line in body.split("\n"):
        size = len(line) - line.endswith("\r")
        if size > ENCODED_LINE:
            report.add(rule, position, position + size, size)
        position += len(line) + 1


# ---- quoted-printable -----------------------------------------------------------------------------------------


def _check_quoted_printable(entity: Entity, report: Report) -> None:
    body, base = entity.body, entity.body_start

    def tell(rule: str, pattern: re.Pattern[str]) -> None:
        for found in pattern.finditer(body):
            report.add(rule, base + found.start(), base + found.end())

    _check_encoded_width(body, base, "encodings.qp-long", report)
    if not QUOTED_PRINTABLE.fullmatch(body):
        tell("encodings.qp-not-hex", _BAD_ESCAPE)
        tell("encodings.qp-lower-case", _LOWER_ESCAPE)
        tell("encodings.qp-raw-octet", _RAW)
    tell("encodings.qp-trailing-space", _TRAILING)
    if entity.type.value.startswith("text/"):
        tell("encodings.qp-line-ends", _ENCODED_ENDS)
    last = body.removesuffix("\n").removesuffix("\r")
    if last.endswith("="):
        report.add("encodings.qp-ends-soft", base + len(last) - 1, entity.end)


# ---- base64 ---------------------------------------------------------------------------------------------------


def _check_base64(entity: Entity, report: Report) -> None:
    body, base = entity.body, entity.body_start
    if not _CLEAN_BASE64.fullmatch(body):
        _check_encoded_width(body, base, "encodings.base64-long", report)
        for found in _FOREIGN.finditer(body):
            report.add("encodings.base64-foreign", base + found.start(), base + found.end())
        characters = re.sub(r"[^A-Za-z0-9+/=]", "", body)
        content = characters.rstrip("=")
        padding = len(characters) - len(content)
        if "=" in content or padding > 2 or len(characters) % 4:
            at = base + (body.find("=") if "=" in content else max(0, len(body.rstrip(WHITE_SPACE)) - 1))
            report.add("encodings.base64-padding", at, at + 1)
    if (
        entity.type.value.startswith("text/")
        and entity.disposition.value != "attachment"
        and (re.search(rb"(?<!\r)\n", entity.decoded()))
    ):
        report.add("encodings.base64-bare-lf", base, base + 1)


# ---- charset and type -----------------------------------------------------------------------------------------

# Names that people write and IANA does not list.
_UNREGISTERED = frozenset(
    (
        "utf8",
        "utf-16bit",
        "latin-1",
        "unicode",
        "cp-1252",
        "windows1252",
        "iso8859-1",
        "iso88591",
        "iso-88591",
        "ansi",
        "ascii7",
        "win1252",
        "cp1252",
        "shiftjis",
        "x-sjis",
    )
)


def _check_text(entity: Entity, report: Report) -> None:
    octets = entity.decoded()
    named = entity.type.get("charset")
    field = entity.first("content-type")
    start, end = (field.start, field.end) if field else (entity.start, entity.start)
    if entity.type.value == "text/calendar":  # whose folds may split a character, which another check reports
        octets = re.sub(rb"\r?\n[ \t]", b"", octets)
    beyond = not octets.isascii()
    if named is None:
        in_page = entity.type.value == "text/html" and _in_page(octets)
        is_file = entity.disposition.value == "attachment"  # in whatever charset its program knows
        if beyond and not in_page and not is_file:
            report.add("types.no-charset", start, end)
        return
    charset = named.lower()
    if charset in _UNREGISTERED:
        report.add("types.charset-name", start, end, named)
    if charset == "us-ascii":
        if beyond:
            report.add("types.us-ascii", start, end)
    elif codec_name(charset) is None:
        report.add("types.charset-unknown", start, end, named)
    elif beyond and not fits(octets, charset):
        report.add("types.octets", start, end, named)
    if entity.type.value == "text/html" and (said := _in_page(octets)):
        names = codec_name(said), codec_name(charset)
        if None not in names and names[0] != names[1]:
            report.add("types.meta", start, end, said)


def _in_page(octets: bytes) -> str | None:
    """Returns the charset that a page names for itself: in an attribute of its own, or by the pragma Content-Type."""
    for tag in _META.findall(octets[:2048]):
        content = _CONTENT.search(tag)
        rest = tag.replace(content[0], b"") if content else tag
        found = _CHARSET.search(rest) or (_CHARSET.search(content[1]) if content and _PRAGMA.search(rest) else None)
        if found:
            return found[1].decode("ascii")
    return None


def _check_signature(entity: Entity, report: Report) -> None:
    head = Entity(
        entity.text,
        entity.start,
        min(entity.end, entity.body_start + 100),
        fields=entity.fields,
        body_start=entity.body_start,
    ).decoded()
    declared, found = BY_NAME[entity.type.value], type_of(head)
    if declared.signature is not None and found is not None and found is not declared:
        field = entity.first("content-type")
        assert field is not None
        report.add_at("types.content", field, f"{declared.name}, and is {found.name}")


# ---- texts that flow (RFC 3676) ---------------------------------------------------------------------------------


def check_flowed(entity: Entity, report: Report) -> None:
    """Checks the lines of a text/plain with format=flowed."""
    form, delsp = (entity.type.get("format") or "").lower(), entity.type.get("delsp")
    if form not in ("", "fixed", "flowed") or (delsp is not None and form != "flowed"):
        field = entity.first("content-type")
        assert field is not None
        report.add_at("flowed.parameter", field)
    if form != "flowed":
        return
    octets, start = entity.decoded(), entity.body_start
    as_written = entity.encoding not in ("quoted-printable", "base64")
    position, before, flows = start, 0, False
    for line in octets.decode("latin-1").split("\n"):
        text = line.removesuffix("\r")
        content, depth, fixed = read_line(text)
        at = position if as_written else start  # an encoding moves places
        if flows and content == SIGNATURE:
            report.add("flowed.signature", at, at + len(text))
        elif flows and depth != before:
            report.add("flowed.depth", at, at + len(text))
        elif text.startswith("From "):
            report.add("flowed.from", at, at + len(text))
        flows = not fixed
        before = depth
        position += len(line) + 1
