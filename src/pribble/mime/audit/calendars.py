"""Calendars (RFC 5545), what they ask (RFC 5546) and how they travel (RFC 6047)."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import datetime, timedelta
from typing import NamedTuple, Protocol

from pribble.mime.audit.report import Report
from pribble.mime.grammar import URI
from pribble.mime.reading import Entity
from pribble.records import field, record
from pribble.regexes import regex

LONGEST_LINE = 75
_EVENTS = ("VEVENT", "VTODO", "VJOURNAL")
# RFC 5545 3.6.1: at most once in an event
_ONCE = frozenset(
    "CLASS CREATED DESCRIPTION DTEND DTSTAMP DTSTART DUE DURATION GEO LAST-MODIFIED LOCATION ORGANIZER PRIORITY "
    "RECURRENCE-ID SEQUENCE STATUS SUMMARY TRANSP UID URL".split()
)
_MOMENTS = ("DTSTART", "DTEND", "DTSTAMP", "RECURRENCE-ID", "DUE")
# RFC 5546 3.2.1, 3.2.2: a beginning is named by what is published or asked for; RFC 5545 3.6.1: and where there is no
# method.
_BEGINS = ("", "PUBLISH", "REQUEST")

# RFC 5545 3.1:  contentline = name *(";" param ) ":" value CRLF   param = param-name "=" param-value *("," param-value)
#                param-value = paramtext / quoted-string
_LINE = regex(r'([A-Za-z0-9-]+)((?:;[^=;:"]*+=(?:"[^"]*"|[^";:])*+)*+):(.*)', re.DOTALL)
_PARAMETER = regex(r';([^=;:"]*)=("[^"]*"|[^";:]*)')
# RFC 5545 3.3.4, 3.3.5
_MOMENT = regex(r"([0-9]{4})([0-9]{2})([0-9]{2})(?:T([0-9]{2})([0-9]{2})([0-9]{2})(Z?))?")
_INTEGER = regex(r"[+-]?[0-9]{1,10}")


class Property(NamedTuple):
    """A line of a calendar: its name and its parameters' names in capitals, and the value as it is written."""

    name: str
    parameters: Mapping[str, str]
    value: str


@record
class Component:
    """What stands between BEGIN and END."""

    name: str
    properties: list[Property] = field(default_factory=list)
    parts: list[Component] = field(default_factory=list)

    def first(self, name: str) -> Property | None:
        """Returns the first of its properties of this name."""
        return next((one for one in self.properties if one.name == name), None)

    def lacking(self, *names: str) -> list[str]:
        """Returns those of the names that no property has."""
        there = {one.name for one in self.properties if one.value.strip()}
        return [name for name in names if name not in there]

    def walk(self) -> Iterator[Component]:
        """Itself and all within it."""
        waiting = [self]
        while waiting:
            one = waiting.pop()
            yield one
            waiting += reversed(one.parts)


class _Tell(Protocol):
    def __call__(self, rule: str, detail: object = "", *, reference: str = "") -> None: ...


def check_calendar(entity: Entity, report: Report) -> None:
    """Checks an iCalendar object that travels as text/calendar."""
    octets = entity.decoded()
    start = entity.body_start

    def tell(rule: str, detail: object = "", *, reference: str = "") -> None:
        report.add(rule, start, start + 1, detail, reference=reference)

    _check_lines(octets, tell)
    unfolded = re.sub(rb"\r?\n[ \t]", b"", octets).decode("utf-8", "replace").replace("\r\n", "\n")
    root, is_balanced = _read_components(unfolded, tell)
    if not is_balanced and not _is_cut_off(entity):
        tell("calendar.unbalanced")
    calendars = [one for one in root.parts if one.name == "VCALENDAR"] or [root]
    found = calendars[0].first("METHOD")
    method = found.value.strip().upper() if found else ""
    content_type = entity.first("content-type")
    if (entity.type.get("method") or "").upper() != method and content_type is not None:
        report.add_at("calendar.method", content_type)
    for calendar in calendars:
        _check_calendar(calendar, method, tell)


def _is_cut_off(entity: Entity) -> bool:
    """Returns whether the message ends within it, of which its multipart tells."""
    parent = entity.parent
    return parent is not None and parent.is_multipart and not parent.closed and parent.parts[-1] is entity


def _check_lines(octets: bytes, tell: _Tell) -> None:
    if re.search(rb"(?<!\r)\n", octets):
        tell("calendar.bare-lf")
    for line in octets.replace(b"\r\n", b"\n").split(b"\n"):
        if len(line) > LONGEST_LINE:
            tell("calendar.long-line", len(line))
        try:
            line.removeprefix(b" ").decode("utf-8")
        except UnicodeDecodeError:
            tell("calendar.split-character")


def _read_components(calendar: str, tell: _Tell) -> tuple[Component, bool]:
    """Returns all components, in one that has no name, and whether each that begins also ends; what is no line of a
    calendar is told."""
    root = Component("")
    open_, is_balanced = [root], True
    for line in calendar.split("\n"):
        found = _LINE.fullmatch(line.strip())
        if found is None:
            if line.strip():
                tell("calendar.line")
            continue
        name, value = found[1].upper(), found[3]
        if name == "BEGIN":
            open_.append(Component(value.strip().upper()))
            open_[-2].parts.append(open_[-1])
        elif name != "END":
            parameters = {key.upper(): said.strip('"') for key, said in _PARAMETER.findall(found[2])}
            open_[-1].properties.append(Property(name, parameters, value))
        elif open_[-1].name == value.strip().upper() and len(open_) > 1:
            open_.pop()
        else:
            is_balanced = False
    return root, is_balanced and len(open_) == 1


def _check_calendar(calendar: Component, method: str, tell: _Tell) -> None:
    if lacking := calendar.lacking("PRODID", "VERSION"):
        tell("calendar.header", " and ".join(lacking))
    elif all(one.value.strip() != "2.0" for one in calendar.properties if one.name == "VERSION"):
        tell("calendar.header", "VERSION:2.0")
    components = list(calendar.walk())
    ids = [one.first("TZID") for one in components if one.name == "VTIMEZONE"]
    zones = {zone.value.strip() for zone in ids if zone is not None}
    named = [each.parameters.get("TZID") for one in components for each in one.properties]
    for name in dict.fromkeys(named):
        if name and name not in zones and not name.startswith("/"):  # RFC 5545 3.2.19: such a one is known everywhere
            tell("calendar.no-zone", name[:60])
    met: set[tuple[str, str, str]] = set()
    for event in components:
        if event.name in _EVENTS:
            _check_event(event, method, tell)
            uid, instance = event.first("UID"), event.first("RECURRENCE-ID")
            if uid is not None:
                key = event.name, uid.value, instance.value if instance else ""
                if key in met:
                    tell("calendar.repeated", uid.value[:60])
                met.add(key)


def _check_event(event: Component, method: str, tell: _Tell) -> None:
    if lacking := event.lacking("UID", "DTSTAMP"):
        tell("calendar.incomplete", " and ".join(lacking))
    if event.name == "VEVENT" and method in _BEGINS and event.lacking("DTSTART"):
        tell("calendar.no-start")
    if method == "REQUEST" and event.lacking("ORGANIZER", "ATTENDEE"):
        tell("calendar.people")
    if method == "CANCEL" and event.lacking("SEQUENCE"):
        tell("calendar.sequence")
    for name, count in Counter(one.name for one in event.properties).items():
        if count > 1 and name in _ONCE:
            tell("calendar.property-repeated", name)
    for one in event.properties:
        _check_value(one, tell)
    _check_end(event, tell)


def _check_value(one: Property, tell: _Tell) -> None:
    value = one.value.strip()
    if one.name in ("ATTENDEE", "ORGANIZER"):
        if not URI.fullmatch(value):
            tell("calendar.address", one.name)
    elif one.name in _MOMENTS:
        if _read_time(value) is None:
            tell("calendar.value", f"{one.name}:{value[:60]}")
        elif one.name == "DTSTAMP" and ("TZID" in one.parameters or not value.endswith("Z")):
            tell("calendar.stamp", value[:60])
    elif one.name == "SEQUENCE" and not _INTEGER.fullmatch(value):
        tell("calendar.value", f"{one.name}:{value[:60]}")


def _read_time(value: str) -> datetime | None:
    """Returns a moment or a day, without regard to its zone; None for what is neither."""
    found = _MOMENT.fullmatch(value)
    if found is None:
        return None
    year, month, day, hour, minute, second = (int(digits or 0) for digits in found.groups()[:6])
    try:
        return datetime(year, month, day, hour, minute, min(second, 59))  # 60 is a leap second
    except ValueError:
        return None


def _check_end(event: Component, tell: _Tell) -> None:
    start, end = event.first("DTSTART"), event.first("DTEND")
    if end is None:
        return
    if not event.lacking("DURATION"):
        tell("calendar.end-and-duration")
    if start is None:
        return
    begins, ends = _read_time(start.value.strip()), _read_time(end.value.strip())
    if begins is None or ends is None:
        return
    if ("T" in start.value) != ("T" in end.value):
        tell("calendar.end-kind")
    in_one_zone = start.parameters.get("TZID") == end.parameters.get("TZID") and start.value[15:] == end.value[15:]
    # No two zones are more than 26 hours apart.
    if ends < begins and (in_one_zone or begins - ends > timedelta(hours=26)):
        tell("calendar.end-first")
