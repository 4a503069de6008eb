"""Texts that flow (RFC 3676) and calendars (RFC 5545, 5546, 6047)."""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.mime.audit.report import Report
from pribble.mime.flowed import SIGNATURE, read_line
from pribble.mime.reading import Entity

_METHOD = re.compile(r"^METHOD[^:\r\n]*+:[ \t]*+([A-Za-z-]+)", re.IGNORECASE | re.MULTILINE)
_COMPONENTS = ("VEVENT", "VTODO", "VJOURNAL")
LONGEST_CALENDAR_LINE = 75


def check_flowed(entity: Entity, report: Report) -> None:
    """The lines of a text/plain with format=flowed."""
    form, delsp = (entity.type.get("format") or "").lower(), entity.type.get("delsp")
    if form not in ("", "fixed", "flowed") or (delsp is not None and form != "flowed"):
        field = entity.first("content-type")
        assert field is not None
        report.tell_of("flowed.parameter", field)
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
            report.tell("flowed.signature", at, at + len(text))
        elif flows and depth != before:
            report.tell("flowed.depth", at, at + len(text))
        elif text.startswith("From "):
            report.tell("flowed.from", at, at + len(text))
        flows = not fixed
        before = depth
        position += len(line) + 1


def check_calendar(entity: Entity, report: Report) -> None:
    """An iCalendar object that travels as text/calendar."""
    octets = entity.decoded()
    start = entity.body_start
    if re.search(rb"(?<!\r)\n", octets):
        report.tell("calendar.bare-lf", start, start + 1)
    for line in octets.replace(b"\r\n", b"\n").split(b"\n"):
        if len(line) > LONGEST_CALENDAR_LINE:
            report.tell("calendar.long-line", start, start + 1, len(line))
        try:
            line.removeprefix(b" ").decode("utf-8")
        except UnicodeDecodeError:
            report.tell("calendar.split-character", start, start + 1)
    unfolded = re.sub(rb"\r?\n[ \t]", b"", octets).decode("utf-8", "replace").replace("\r\n", "\n")
    found = _METHOD.search(unfolded)
    said, method = entity.type.get("method"), found[1] if found else None
    field = entity.first("content-type")
    if (said or "").upper() != (method or "").upper() and field is not None:
        report.tell_of("calendar.method", field)
    for names in _components(unfolded):
        _check_component(names, method or "", start, report)


def _components(calendar: str) -> Iterator[set[str]]:
    """The names of the properties of each event, task and journal entry."""
    names: set[str] | None = None
    for line in calendar.split("\n"):
        name, _, value = line.strip().partition(":")
        is_component = value.upper() in _COMPONENTS
        if names is not None and is_component and name.upper() in ("BEGIN", "END"):
            yield names
            names = None
        if is_component and name.upper() == "BEGIN":
            names = set()
        elif names is not None:
            names.add(name.partition(";")[0].upper())
    if names is not None:
        yield names


def _check_component(names: set[str], method: str, start: int, report: Report) -> None:
    lacking = [name for name in ("UID", "DTSTAMP") if name not in names]
    if lacking:
        report.tell("calendar.incomplete", start, start + 1, " and ".join(lacking))
    if method.upper() == "REQUEST" and not {"ORGANIZER", "ATTENDEE"} <= names:
        report.tell("calendar.people", start, start + 1)
