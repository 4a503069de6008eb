"""Fields of a form of their own: comments, addresses of the net, names of lists, what servers and signers add."""

from __future__ import annotations

import re

from pribble.mime.audit.mailboxes import Mailboxes
from pribble.mime.audit.report import Report
from pribble.mime.comments import read_comments
from pribble.mime.fields import Syntax
from pribble.mime.grammar import DATE_TIME, URI, WHITE_SPACE
from pribble.mime.reading import ReadField
from pribble.regexes import regex

_IN_ANGLES = regex(r"<([^<>]*)>")
_LIST_ID = regex(r"[^<>]*<[^<>.\s]+(?:\.[^<>.\s]+)+>")
_URIS = regex(r"<>(?:,<>)*+")
_QUOTED = regex(r'"(?:[^"\\]|\\.)*+"', re.DOTALL)
_BLANK = regex(r"[ \t\r\n]")
# RFC 6376 3.5: the tags that a signature must have.


def check_form(field: ReadField, report: Report, syntax: Syntax, *, smtputf8: bool) -> None:
    """Checks a field that is neither free text nor made of names and addresses."""
    commented = read_comments(field.raw)
    if commented.unclosed is not None:
        start = field.value_start + commented.unclosed
        report.add("fields.unclosed-comment", start, field.value_start + len(field.raw), field.name)
    value = commented.outside.strip(WHITE_SPACE)
    if syntax == "uris":
        _check_uris(field, value, report)
    elif syntax == "list-id":
        if not _LIST_ID.fullmatch(_QUOTED.sub("", value)):
            report.add_at("machines.list-id", field)
    elif syntax == "path":
        if not re.fullmatch(r"<[^<>]*>", value):
            report.add_at("trace.return-path", field)
        else:
            Mailboxes(field, report, smtputf8=smtputf8).check()
    elif field.key == "received":
        _, semicolon, moment = value.rpartition(";")
        if not semicolon or not DATE_TIME.fullmatch(re.sub(r"[\r\n]", "", moment).strip(WHITE_SPACE)):
            report.add_at("trace.received-date", field)


def _check_uris(field: ReadField, value: str, report: Report) -> None:
    """Checks addresses in angle brackets (RFC 2369 2, RFC 5064 2)."""
    if field.key == "list-post" and value.upper() == "NO":
        return
    found = _IN_ANGLES.findall(value)
    shape = _BLANK.sub("", _IN_ANGLES.sub("<>", value))
    if not _URIS.fullmatch(shape) or not all(":" in one for one in found):
        report.add_at("machines.unsubscribe" if field.key == "list-unsubscribe" else "machines.uri", field, field.name)
    for one in found:
        if _BLANK.search(one):
            report.add_at("machines.uri-blank", field, field.name)
        elif ":" in one and not URI.fullmatch(one):
            report.add_at("machines.uri-character", field, field.name)
