"""Parts within parts: boundaries (RFC 2046 5.1), encodings of the whole (RFC 2045 6.4), parameters, related parts
(RFC 2387, 2392), and the forms of one text (RFC 2046 5.1.4)."""

from __future__ import annotations

import re
from urllib.parse import unquote

from pribble.mime.audit.report import Report
from pribble.mime.charsets import fits
from pribble.mime.comments import without_comments
from pribble.mime.grammar import BOUNDARY, LONGEST_BOUNDARY, MEDIA_TYPE, TOKEN, TURNING, WHITE_SPACE
from pribble.mime.parameters import Departure, Parameters
from pribble.mime.reading import Entity, ReadField
from pribble.regexes import regex

_UNSAFE_NAME = regex(f"[{TURNING}]")
_CID = regex(rb"""(?:=\s*+["']?|url\(\s*+["']?)\s*+cid:([^"'\s>)]*(?:>(?=["'\s)]))?)""", re.IGNORECASE)
_ADDRESS = regex(rb"""(?:=\s*+["']?|url\(\s*+["']?)\s*+([^"'\s>)]+)""", re.IGNORECASE)
# RFC 3986 3.3:  pchar = unreserved / pct-encoded / sub-delims / ":" / "@"
_PATH = regex(r"(?:[A-Za-z0-9._~!$&'()*+,;=:@/?-]|%[0-9A-Fa-f]{2})*")
# What some types must say besides (a boundary has rules of its own).
REQUIRED_PARAMETERS = {
    "multipart/signed": (("protocol", "micalg"), "RFC 1847 2.1"),
    "multipart/encrypted": (("protocol",), "RFC 1847 2.2"),
    "multipart/report": (("report-type",), "RFC 6522 3"),
    "message/external-body": (("access-type",), "RFC 2046 5.2.3"),
    "message/partial": (("id", "number"), "RFC 2046 5.2.2"),
}
# How rich the forms of a text are; calendars and the like are richer than pages.
_RICHNESS = {"text/plain": 0, "text/enriched": 1, "text/watch-html": 1, "text/html": 2, "multipart/related": 2}


def check_parameters(entity: Entity, report: Report, *, international: bool) -> None:
    """Checks content-Type and Content-Disposition (RFC 2045 5.1, RFC 2183, RFC 2231); `international` says that the
    header of the message is not ASCII, and so need parameters not be (RFC 6532 3.4)."""
    for key, read in (("content-type", entity.type), ("content-disposition", entity.disposition)):
        field = entity.first(key)
        if field is None:
            continue
        report.add_all(read.departures, field.value_start)
        value = "/".join([word.strip(WHITE_SPACE) for word in without_comments(read.value).split("/")])
        if re.search(r"[ \t\r\n]", value):
            report.add_at("parameters.extra-word", field, field.name)
        elif key == "content-type":
            if not MEDIA_TYPE.fullmatch(value):
                report.add_at("parameters.no-subtype", field)
        elif not TOKEN.fullmatch(value):
            report.add_at("parameters.no-disposition", field)
        _check_values(read, field, report, international=international)
        if not international and not _without(field.raw, read).isascii():
            report.add_at("international.part", field, field.name)
    if field := entity.first("content-type"):
        required, reference = REQUIRED_PARAMETERS.get(entity.type.value, ((), ""))
        if lacking := [name for name in required if not entity.type.get(name)]:
            detail = f"{entity.type.value} without {' and '.join(f'{name}=' for name in lacking)}"
            report.add("parameters.required", field.start, field.end, detail, reference=reference)


def _check_values(read: Parameters, field: ReadField, report: Report, *, international: bool) -> None:
    for piece in read.pieces:
        start, end = field.value_start + piece.start, field.value_start + piece.end
        if "=?" in piece.value and "?=" in piece.value:
            report.add("words.in-parameter", start, end)
        elif piece.quoted and not piece.value.isascii() and not (international and _are_utf8(piece.value)):
            report.add("parameters.raw-octets", start, end)
    for name in ("filename", "name"):
        value = read.get(name)
        if value and (re.search(r"[/\\]", value) or _UNSAFE_NAME.search(value)):
            report.add_at(
                "parameters.unsafe-name",
                field,
                "a path in it" if re.search(r"[/\\]", value) else "characters that turn its direction",
            )


def _without(text: str, read: Parameters) -> str:
    """Returns the value of a field without its parameters, which tell of themselves."""
    kept, position = [], 0
    for piece in read.pieces:
        kept.append(text[position : piece.start])
        position = piece.end
    return "".join(kept) + text[position:]


def _are_utf8(octets: str) -> bool:
    return fits(octets.encode("latin-1"), "utf-8")


def check_secured(entity: Entity, report: Report) -> None:
    """Checks multipart/signed and multipart/encrypted: two parts, one of which is of the protocol's type (RFC 1847
    2)."""
    field, kind = entity.first("content-type"), entity.type.value
    if field is None or kind not in ("multipart/signed", "multipart/encrypted"):
        return
    protocol = (entity.type.get("protocol") or "").lower()
    if entity.parts and len(entity.parts) != 2:
        report.add_at("multipart.two-parts", field, f"{kind} with {len(entity.parts)}")
    elif entity.parts and protocol and entity.parts[kind == "multipart/signed"].type.value != protocol:
        report.add_at("multipart.protocol", field, protocol)


def check_multipart(entity: Entity, report: Report) -> None:
    """Checks the boundary of a multipart, and what it says of its parts."""
    field = entity.first("content-type")
    assert field is not None or entity.parent is not None
    start, end = (field.start, field.end) if field else (entity.start, entity.start)
    boundary = entity.type.get("boundary")
    if boundary is None:
        report.add("multipart.no-boundary", start, end)
        return
    if boundary.endswith(" "):
        report.add("multipart.boundary-ends-in-space", start, end)
    elif len(boundary) > LONGEST_BOUNDARY:
        report.add("multipart.long-boundary", start, end, len(boundary))
    elif not BOUNDARY.fullmatch(boundary):
        report.add("multipart.boundary-character", start, end)
    outer = _outer_boundaries(entity)
    if boundary in outer:
        report.add("multipart.same-boundary", start, end)
        return
    if any(boundary.startswith(other) for other in outer if other):
        report.add("multipart.extended-boundary", start, end)
    if not entity.parts:
        report.add("multipart.no-delimiter", start, end)
    elif not entity.closed:
        report.add("multipart.unclosed", max(entity.start, entity.end - 1), entity.end)


def _outer_boundaries(entity: Entity) -> list[str]:
    found, parent = [], entity.parent
    while parent is not None:
        if parent.is_multipart:
            found.append(parent.type.get("boundary") or "")
        parent = parent.parent
    return found


def without_extended(entity: Entity) -> list[Departure]:
    """Returns what was told of a multipart when it was read, but for lines that begin with its boundary and are the
    delimiters of a multipart within."""
    inner = {f"--{part.type.get('boundary')}" for part in entity.walk() if part is not entity and part.is_multipart}
    inner |= {f"{delimiter}--" for delimiter in inner}
    return [
        d
        for d in entity.departures
        if d.rule != "multipart.boundary-in-part" or entity.text[d.start : d.end].rstrip(WHITE_SPACE) not in inner
    ]


def check_encoding_of_whole(entity: Entity, report: Report) -> None:
    """Checks composite types are 7bit, 8bit or binary, and say what their parts need (RFC 2045 6.4)."""
    field = entity.first("content-transfer-encoding")
    encoding = entity.encoding
    if encoding in ("base64", "quoted-printable"):
        assert field is not None
        if entity.is_multipart:
            report.add_at("multipart.encoded", field)
        elif entity.type.value == "message/rfc822":
            report.add_at("multipart.message-encoded", field)
    elif encoding == "7bit" and (part := next((p for p in entity.parts if p.encoding in ("8bit", "binary")), None)):
        start, end = (field.start, field.end) if field else (entity.start, entity.body_start)
        report.add("multipart.understated", start, end, part.encoding)
    if entity.type.value == "message/rfc822" and encoding != "base64":
        for nested in entity.parts:
            beyond = next((f for f in nested.fields if not f.raw.isascii()), None)
            if beyond is not None:
                report.add_at("international.nested", beyond)


# ---- related --------------------------------------------------------------------------------------------------


def check_related(root: Entity, report: Report) -> None:
    """Checks what pages show, and where it is; each multipart/related by itself."""
    by_id: dict[str, Entity] = {}
    for entity in root.walk():
        given = entity.content_id
        if given is None:
            continue
        if given in by_id and not _among_alternatives(entity, by_id[given]):
            field = entity.first("content-id")
            assert field is not None
            report.add_at("related.id-repeated", field)
        by_id.setdefault(given, entity)
    referred: set[str] = set()
    for entity in root.walk():
        if entity.type.value == "text/html" and not entity.parts:
            referred |= _check_references(entity, by_id, report)
    for entity in root.walk():
        if entity.type.value == "multipart/related":
            _check_related(entity, report, referred)


def _among_alternatives(first: Entity, second: Entity) -> bool:
    """Returns whether two parts are in different forms of one text, which may share ids (RFC 2046 5.1.4)."""
    seen, one = {}, first
    while one.parent is not None:
        seen[id(one.parent)] = one
        one = one.parent
    other = second
    while other.parent is not None and id(other.parent) not in seen:
        other = other.parent
    parent = other.parent
    return parent is not None and parent.type.value == "multipart/alternative" and seen[id(parent)] is not other


def _check_related(entity: Entity, report: Report, referred: set[str]) -> None:
    if not entity.parts:
        return
    start = entity.type.get("start")
    named = None if start is None else next((p for p in entity.parts if p.content_id == start.strip("<>")), None)
    if start is not None and named is None:
        report.add_at("related.start", _content_type_of(entity))
    root = named or entity.parts[0]
    _check_root_type(entity, root, report)
    if root.disposition.value == "attachment":
        report.add("related.root-attachment", root.start, root.body_start)
    _check_unreferenced(entity, root, referred, report)


def _content_type_of(entity: Entity) -> ReadField:
    field = entity.first("content-type")
    assert field is not None
    return field


def _check_root_type(entity: Entity, root: Entity, report: Report) -> None:
    """Checks that the type parameter names the type of the root (RFC 2387 3.1)."""
    field, said = _content_type_of(entity), entity.type.get("type")
    if said is None:
        report.add_at("related.no-type", field)
    elif said.lower() != root.type.value:
        # A page that is not first, and no start: the root is not the one that is meant.
        is_later = entity.type.get("start") is None and any(p.type.value == said.lower() for p in entity.parts)
        report.add_at("related.start" if is_later else "related.type", field, said)


def _check_unreferenced(entity: Entity, root: Entity, referred: set[str], report: Report) -> None:
    """Checks parts that no page of the root refers to, by Content-ID or by location."""
    pages = [part for part in root.walk() if part.type.value == "text/html"]
    if not pages:
        return
    text = b"".join(page.decoded() for page in pages)
    addresses = {unquote(found[1].decode("latin-1")) for found in _ADDRESS.finditer(text)}
    for part in entity.parts:
        location = part.first("content-location")
        known = part.content_id in referred or (location is not None and unquote(location.value) in addresses)
        if part is not root and not known and part.disposition.value != "attachment":
            report.add("related.unreferenced", part.start, part.body_start)


def _check_references(page: Entity, by_id: dict[str, Entity], report: Report) -> set[str]:
    """The Content-IDs that a page refers to."""
    referred = set()
    around = page.parent
    while around is not None and around.type.value != "multipart/related":
        around = around.parent
    for written in dict.fromkeys(found[1].decode("latin-1") for found in _CID.finditer(page.decoded())):
        shown = f"cid:{written[:60]}"
        at = page.text.find(shown, page.body_start, page.end)
        start, end = (at, at + len(shown)) if at >= 0 else (page.body_start, page.body_start + 1)
        name = unquote(written)
        if "<" in name or ">" in name or not _PATH.fullmatch(written):
            report.add("related.cid-form", start, end)
            name = name.strip("<>")
        referred.add(name)
        part = by_id.get(name)
        if part is None:
            report.add("related.no-part", start, end, shown)
        elif around is None or not _is_within(part, around):
            report.add("related.outside", start, end, shown)
    return referred


def _is_within(entity: Entity, outer: Entity) -> bool:
    parent: Entity | None = entity
    while parent is not None and parent is not outer:
        parent = parent.parent
    return parent is outer


# ---- alternative ----------------------------------------------------------------------------------------------


def check_forms(root: Entity, report: Report) -> None:
    """Checks the forms of a text: plain first, richest last, none of them an attachment; and a text beside each
    page."""
    for entity in root.walk():
        if entity.type.value == "multipart/alternative":
            _check_alternative(entity, report)
    page = next(
        (e for e in root.walk() if e.type.value == "text/html" and e.disposition.value != "attachment" and _is_body(e)),
        None,
    )
    if page is not None and not any(_has_text(form) for form in _beside(page)):
        report.add("alternative.no-text", page.start, page.body_start)


def _check_alternative(entity: Entity, report: Report) -> None:
    known = [_RICHNESS[part.type.value] for part in entity.parts if part.type.value in _RICHNESS]
    if known != sorted(known):
        report.add("alternative.order", entity.parts[0].start, entity.parts[0].body_start)
    for part in entity.parts:
        if part.disposition.value == "attachment":
            report.add("alternative.attachment", part.start, part.body_start)


def _is_body(entity: Entity) -> bool:
    """Returns whether it is what a reader shows: not within a nested message, and in multiparts the first, or one of
    the forms."""
    while entity.parent is not None:
        parent = entity.parent
        if not parent.is_multipart or (parent.type.value != "multipart/alternative" and parent.parts[0] is not entity):
            return False
        entity = parent
    return True


def _beside(page: Entity) -> list[Entity]:
    """Returns the texts that are forms of the same as a page."""
    found: list[Entity] = []
    entity = page
    while entity.parent is not None:
        entity = entity.parent
        if entity.type.value == "multipart/alternative":
            found += [part for part in entity.walk() if part.type.value == "text/plain"]
    return found


def _has_text(entity: Entity) -> bool:
    return bool(entity.decoded().strip())
