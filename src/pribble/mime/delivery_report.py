"""Reports of servers that could not deliver (RFC 3464, RFC 6533), in a ``multipart/report`` (RFC 6522)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from pribble.errors import AddressError
from pribble.mime.address import members, parse_list
from pribble.mime.grammar import MESSAGE_ID
from pribble.mime.reading import Entity, read_message
from pribble.records import record
from pribble.regexes import regex

_STATUS_TYPES = ("message/delivery-status", "message/global-delivery-status")
_HEADER_TYPES = ("message/rfc822", "message/global", "text/rfc822-headers", "message/global-headers")
# Of a report, more recipients than these are nobody's.
_MOST_RECIPIENTS = 1_000
_LONGEST_WORDS = 500  # characters
_FIELD = regex(r"([!-9;-~]+)[ \t]*:(.*)", re.DOTALL)
_STATUS = regex(r"[245]\.[0-9]{1,3}\.[0-9]{1,3}")
_DIAGNOSTIC_TYPE = regex(r"\A[A-Za-z0-9-]+ *; *")
_CODE = regex(r"[245][0-9][0-9](?![0-9])")
_HEX = regex(r"\+([0-9A-F]{2})")
_UNITEXT = regex(r"\\x\{([0-9A-Fa-f]{2,6})\}")
_DELIVERED_TO = ("to", "delivered-to", "x-original-to", "envelope-to")


@record(frozen=True, slots=True)
class ReportedRecipient:
    """What a report says of a recipient: the address as it was given (`original`) and as it became on the way
    (`final`), "" where it does not say; the `action` ("failed", "delayed", "delivered", "relayed", "expanded"), the
    `status` (RFC 3463), the server's reply `code`, and its `words`."""

    original: str
    final: str
    action: str
    status: str | None
    code: int | None
    words: str

    @property
    def addresses(self) -> tuple[str, ...]:
        """The addresses that it may have been given as, the likeliest first: some servers hand on the xtext of ORCPT
        (RFC 3461 4.2), and others what it stands for."""
        return tuple(dict.fromkeys(one for one in (self.original, _from_xtext(self.original), self.final) if one))


@record(frozen=True, slots=True)
class DeliveryReport:
    """A report: the `envelope_id` that the message was given (RFC 3461 4.4), the `message_id` that its header has, each
    None where the report does not say; whom the report was sent `to`; what it says of `recipients`."""

    envelope_id: str | None
    message_id: str | None
    to: Sequence[str]
    recipients: Sequence[ReportedRecipient]


def read_report(raw: bytes) -> DeliveryReport | None:
    """Returns what a report of delivery says; None for a message that is none."""
    root = read_message(raw.decode("latin-1"))
    status = next((one for one in root.walk() if one.type.value in _STATUS_TYPES), None)
    if status is None or root.type.value != "multipart/report":
        return None
    text = status.decoded().decode("utf-8", "replace")
    about, *groups = list(_groups(text)) or [{}]
    found = [_recipient(group) for group in groups[:_MOST_RECIPIENTS]]
    envelope_id = about.get("original-envelope-id") or None
    return DeliveryReport(envelope_id, _message_id(root, status), tuple(_sent_to(root)), tuple(filter(None, found)))


def _groups(text: str) -> Iterator[dict[str, str]]:
    """Yields the groups of fields, which empty lines part; of a field that stands twice, the first counts."""
    group: dict[str, str] = {}
    for field in re.split(r"\r?\n(?![ \t])", text):
        if not field.strip():
            if group:
                yield group
            group = {}
        elif (found := _FIELD.match(field)) is not None:
            group.setdefault(found[1].lower(), " ".join(found[2].split()))
    if group:
        yield group


def _recipient(group: dict[str, str]) -> ReportedRecipient | None:
    action = group.get("action", "").partition("(")[0].strip().lower()
    original, final = (_address(group.get(f"{name}-recipient", "")) for name in ("original", "final"))
    if not action or not (original or final):
        return None
    status = _STATUS.match(group.get("status", ""))
    words = _DIAGNOSTIC_TYPE.sub("", group.get("diagnostic-code", ""))
    code = _CODE.match(words)
    shown = words[code.end() :].lstrip(" -") if code else words
    return ReportedRecipient(
        original, final, action, status and status[0], int(code[0]) if code else None, shown[:_LONGEST_WORDS]
    )


def _address(written: str) -> str:
    """Returns the address of an Original-Recipient or Final-Recipient field: behind the semicolon."""
    kind, semicolon, address = written.partition(";")
    address = (address if semicolon else kind).strip().strip("<>")
    if kind.strip().lower() == "utf-8":
        return _UNITEXT.sub(lambda found: _character(found[1]), address)
    return address


def _character(digits: str) -> str:
    number = int(digits, 16)
    return chr(number) if number <= 0x10FFFF and not 0xD800 <= number < 0xE000 else "\ufffd"


def to_xtext(text: str) -> str:
    """Returns a text of ASCII as a parameter of MAIL or RCPT can have it (RFC 3461 4)."""
    return "".join(one if "!" <= one <= "~" and one not in "+=" else f"+{ord(one):02X}" for one in text)


def _from_xtext(text: str) -> str:
    return _HEX.sub(lambda found: chr(int(found[1], 16)), text)


def _message_id(root: Entity, status: Entity) -> str | None:
    """Returns the id of the message that came back, from its header, which the report has behind what it says."""
    for one in root.walk():
        if one.type.value in _HEADER_TYPES and one.start > status.start:
            inner = read_message(one.decoded().decode("latin-1"))
            field = inner.first("message-id")
            found = MESSAGE_ID.search(field.value) if field is not None else None
            return found[0] if found else None
    return None


def _sent_to(root: Entity) -> Iterator[str]:
    for name in _DELIVERED_TO:
        for field in root.all(name)[:10]:
            try:
                yield from (one.addr for one in members(parse_list(field.value)))
            except AddressError:  # what names no address leads nowhere
                continue
