"""The audit: every departure from the standards in a message, anyone's, and the tree of its parts.

    for finding in audit(raw):
        print(finding)

Reading a message back proves little, since readers forgive much silently; the audit forgives nothing.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from pribble import arguments
from pribble.findings import Finding
from pribble.mime.audit.automatic import check_machines
from pribble.mime.audit.bodies import check_around, check_body, check_flowed
from pribble.mime.audit.calendars import check_calendar
from pribble.mime.audit.heads import check_content_fields, check_date, check_fields, check_ids, check_senders
from pribble.mime.audit.lines import check_lines
from pribble.mime.audit.mailboxes import Mailboxes
from pribble.mime.audit.multiparts import (
    check_encoding_of_whole,
    check_forms,
    check_multipart,
    check_parameters,
    check_related,
    check_secured,
    without_extended,
)
from pribble.mime.audit.report import Octets, Report
from pribble.mime.audit.signatures import check_signed_octets
from pribble.mime.audit.structured import check_form
from pribble.mime.audit.words import check_raw, check_raw_in_part, check_words
from pribble.mime.fields import known_field
from pribble.mime.reading import Entity, ReadField, read_message
from pribble.records import field, record

# Fields with parameters, which may be encoded in a way of their own (RFC 2231).
_WITH_PARAMETERS = ("content-type", "content-disposition")


@record(frozen=True, slots=True)
class AuditedPart:
    """A part of a message: its media `type`, transfer `encoding`, `charset`, `disposition`, file `name` and
    `content_id` (each "" where there is none), its `size` in octets as it travels, the `offset` of its header, its
    `parts`."""

    type: str
    encoding: str
    charset: str
    disposition: str
    name: str
    content_id: str
    size: int
    offset: int
    parts: tuple[AuditedPart, ...] = ()

    def walk(self, depth: int = 0) -> Iterator[tuple[int, AuditedPart]]:
        """Yields the part and all within it, each with how deep it lies."""
        yield depth, self
        for part in self.parts:
            yield from part.walk(depth + 1)


@record(frozen=True, slots=True)
class Audit:
    """What an audit found: the `tree` of parts, and the `findings` in the order of the message.

    Iterating yields the findings.  Of a rule that was broken very often only the first are among them; `counts` says
    how often each was.
    """

    tree: AuditedPart
    findings: tuple[Finding, ...]
    counts: Mapping[str, int] = field(default_factory=dict)

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.findings)

    @property
    def is_sound(self) -> bool:
        """Whether no finding is an error."""
        return not any(finding.severity == "error" for finding in self.findings)


def audit(
    raw: bytes,
    *,
    submitted: bool = False,
    smtputf8: bool = True,
    keys: Mapping[str, str] | None = None,
    name: str = "message",
) -> Audit:
    """Returns what departs from the standards in any message, with its tree of parts.

    `submitted` says that the message goes to a first server, where some fields have no place yet; `smtputf8` that the
    servers on its way take addresses beyond ASCII (RFC 6531).  `keys` are published keys of signatures, records by name
    (``selector._domainkey.domain``, RFC 6376 3.6): with them, signatures are verified, which needs the extra ``sign``.
    `name` is what findings call the message.  A finding has
    its offset in octets in `where.start`.  No message makes this fail.
    """
    arguments.octets(raw=raw)
    arguments.texts(name=name)
    text = raw.decode("latin-1")
    root = read_message(text)
    report = Report(Octets(name, text))
    check_lines(root, report)
    international: dict[int, bool] = {}
    for entity in root.walk():
        parent = entity.parent
        of_message = parent is None or parent.is_message
        international[id(entity)] = _is_international(entity) if of_message else international[id(parent)]
        _check_entity(
            entity,
            report,
            submitted=submitted,
            smtputf8=smtputf8,
            international=smtputf8 and international[id(entity)],
        )
    check_signed_octets(root, raw, keys, report)
    check_related(root, report)
    check_forms(root, report)
    return Audit(_audited(root), report.findings, dict(report.counts))


def _check_entity(entity: Entity, report: Report, *, submitted: bool, smtputf8: bool, international: bool) -> None:
    report.add_all(without_extended(entity) if entity.is_multipart else entity.departures)
    if entity.parent is None or entity.parent.is_message:
        check_fields(entity, report, submitted=submitted, nested=entity.parent is not None)
        check_machines(entity, report)
    check_content_fields(entity, report)
    addresses = {
        one.key: found
        for one in entity.fields
        if (found := _check_field(one, report, smtputf8=smtputf8, international=international)) is not None
    }
    check_senders(entity, addresses, report)
    check_parameters(entity, report, international=international)
    if entity.is_multipart:
        check_multipart(entity, report)
        check_secured(entity, report)
        check_around(entity, report)
    if entity.is_multipart or entity.is_message:
        check_encoding_of_whole(entity, report)
    if not entity.parts and not entity.is_multipart:
        check_body(entity, report)
    if entity.type.value == "text/plain" and not entity.parts:
        check_flowed(entity, report)
    elif entity.type.value == "text/calendar" and entity.disposition.value != "attachment":  # else a file like others
        check_calendar(entity, report)


def _check_field(field: ReadField, report: Report, *, smtputf8: bool, international: bool) -> list[str] | None:
    """A field by the form that it has; returns the addresses in it, None where it has none."""
    syntax = known_field(field.key).syntax
    if not field.key.startswith("content-"):
        check_raw(field, report, smtputf8=smtputf8)
    elif field.key not in _WITH_PARAMETERS and not international:
        check_raw_in_part(field, report)
    if field.key not in _WITH_PARAMETERS:  # these are findings about parameters
        check_words(field, report, syntax)
    if syntax in ("mailboxes", "addresses"):
        return Mailboxes(field, report, smtputf8=smtputf8).check()
    if syntax == "date":
        check_date(field, report)
    elif syntax in ("id", "ids"):
        check_ids(field, report)
    if syntax != "text":
        check_form(field, report, syntax, smtputf8=smtputf8)
    return None


def _is_international(message: Entity) -> bool:
    """Returns whether the header of a message is not ASCII, and so those of its parts need not be either (RFC 6532
    3.4)."""
    return any(not field.raw.isascii() for field in message.fields if not field.key.startswith("content-"))


def _audited(entity: Entity) -> AuditedPart:
    given = entity.type
    return AuditedPart(
        given.value,
        entity.encoding,
        given.get("charset") or "",
        entity.disposition.value,
        entity.file_name or "",
        entity.content_id or "",
        entity.end - entity.body_start,
        entity.start,
        tuple(_audited(part) for part in entity.parts),
    )
