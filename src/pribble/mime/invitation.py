"""Invitations for the calendar (RFC 5545, RFC 5546 for what they ask, RFC 6047 for how they travel).

The objects are those of the icalendar package, the extra ``calendar``, which is loaded when first needed.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, date, datetime, timedelta
from typing import Any, Literal

from pribble import arguments
from pribble.errors import HeaderError, loaded
from pribble.mime.address import Address, Mailbox, Recipients, in_uri, mailbox, recipients
from pribble.mime.grammar import FORBIDDEN
from pribble.mime.header import checked
from pribble.mime.zones import observances
from pribble.records import record, replace

Method = Literal["REQUEST", "CANCEL", "PUBLISH"]
METHODS: tuple[Method, ...] = ("REQUEST", "CANCEL", "PUBLISH")
# A year of its zone is written on both sides of an event (`observances`), and calendars begin with the Gregorian one.
_FIRST_YEAR, _LAST_YEAR = 1583, 9997
_PRODUCT = "-//Pribble//Calendar//EN"


@record(frozen=True, slots=True)
class Invitation:
    """An event that its receivers can take into their calendars (RFC 5545, RFC 6047).

    - `start`, `end`: aware datetimes, or dates for whole days, of which `end` is the last day.
    - `summary`, `location`, `description`: texts.
    - `organizer`, `attendees`: mailboxes.  Without attendees, the mailboxes of the message's To are asked.
    - `uid`: names the event for ever; a later invitation with the same uid changes it.  `sequence`: the number of
      changes.
    - `method`: "REQUEST", "CANCEL", or "PUBLISH", which asks nobody (RFC 5546).
    - `also_attached`: whether the event travels a second time, as a file.

    Raises `HeaderError` and `AddressError` for what cannot be written, `MissingExtra` without the icalendar package.
    """

    start: datetime | date
    end: datetime | date
    summary: str
    organizer: Mailbox
    uid: str
    attendees: Recipients = ()
    location: str = ""
    description: str = ""
    sequence: int = 0
    method: Method = "REQUEST"
    also_attached: bool = False

    def __post_init__(self) -> None:
        _icalendar()
        arguments.texts(
            summary=self.summary, uid=self.uid, location=self.location, description=self.description, method=self.method
        )
        arguments.are_instances(date, "a datetime or a date", start=self.start, end=self.end)
        arguments.integers(sequence=self.sequence)
        arguments.flags(also_attached=self.also_attached)
        if not 0 <= self.sequence < 2**31:  # RFC 5545 3.3.8
            raise ValueError("sequence is from 0 to 2,147,483,647")
        object.__setattr__(self, "organizer", mailbox(self.organizer, "ORGANIZER"))
        object.__setattr__(self, "attendees", recipients(self.attendees, "ATTENDEE", groups=False))
        if self.method not in METHODS:
            raise HeaderError(f'METHOD: "{checked("METHOD", self.method)}" is none of {", ".join(METHODS)}')
        if not checked("UID", self.uid).strip():
            raise HeaderError(
                "UID: an event needs a name that stays the same",
                hint="as the booking's number at the office's domain: b-2041@skerrow.example",
            )
        for name, text in (("SUMMARY", self.summary), ("LOCATION", self.location)):
            checked(name, text, text=True)
        if found := FORBIDDEN.search(self.description.replace("\r\n", "").replace("\n", "").replace("\t", "")):
            raise HeaderError(f"DESCRIPTION: a character that no text holds (U+{ord(found[0]):04X})")
        self._check_times()

    def _check_times(self) -> None:
        if isinstance(self.start, datetime) != isinstance(self.end, datetime):
            raise HeaderError("DTEND: the event begins at a time and ends on a day, or the other way round")
        for name, moment in (("DTSTART", self.start), ("DTEND", self.end)):
            if isinstance(moment, datetime) and moment.utcoffset() is None:
                raise HeaderError(
                    f"{name}: a moment without a time zone",
                    hint='an aware one is datetime(2026, 7, 3, 14, tzinfo=ZoneInfo("Europe/London"))',
                )
        if self.end < self.start:
            raise HeaderError("DTEND: the event ends before it begins")
        for name, moment in (("DTSTART", self.start), ("DTEND", self.end)):
            if not _FIRST_YEAR <= moment.year <= _LAST_YEAR:
                raise HeaderError(
                    f"{name}: the year {moment.year}", hint=f"an event is in one from {_FIRST_YEAR} to {_LAST_YEAR}"
                )

    def revised(self, **changes: Any) -> Invitation:
        """Returns the event with other fields and the next `sequence`: who has the earlier one gets the change."""
        return replace(self, **{"sequence": self.sequence + 1, **changes})

    def cancelled(self) -> Invitation:
        """Returns the event called off (RFC 5546 3.2.5)."""
        return self.revised(method="CANCEL")

    def asked(self, named: Sequence[Address]) -> tuple[Address, ...]:
        """Returns who is asked, where those in `named` (the message's To) are besides the attendees; each once, without
        the organizer.  Raises `HeaderError` where somebody must be and nobody is (RFC 5546 3.2.2)."""
        arguments.ensure("named", "a list of Address objects", _are_addresses, named)
        if self.method == "PUBLISH":  # which asks nobody (RFC 5546 3.2.1)
            return ()
        everyone = {address.addr: address for address in (*self._attendees, *named)}
        everyone.pop(self._organizer.addr, None)
        if not everyone:
            raise HeaderError(
                f"ATTENDEE: {self.method} asks somebody, and nobody is named",
                hint='name them in To or as attendees, or let it be a "PUBLISH"',
            )
        return tuple(everyone.values())

    def calendar(self, named: Sequence[Address], stamp: datetime) -> str:
        """Returns the iCalendar object, its lines ending in CRLF; `named` are those of the message's To, `stamp` its
        Date."""
        arguments.are_instances(datetime, "a datetime", stamp=stamp)
        icalendar = _icalendar()
        event = icalendar.Event()
        event.add("uid", self.uid)
        try:
            event.add("dtstamp", stamp.astimezone(UTC))
        except OverflowError:
            raise HeaderError("Date: this moment is in no year from 1 to 9999 in UTC") from None
        event.add("sequence", self.sequence)
        event.add("dtstart", _calendar_moment(self.start))
        event.add(
            "dtend", _calendar_moment(self.end) if isinstance(self.end, datetime) else self.end + timedelta(days=1)
        )
        for name, text in (("summary", self.summary), ("location", self.location), ("description", self.description)):
            if text:
                event.add(name, text.replace("\r\n", "\n"))
        event.add("organizer", _person(icalendar, self._organizer))
        if self.method == "CANCEL":
            event.add("status", "CANCELLED")
        for address in self.asked(named):
            person = _person(icalendar, address)
            if self.method == "REQUEST":
                person.params.update(ROLE="REQ-PARTICIPANT", PARTSTAT="NEEDS-ACTION", RSVP="TRUE")
            event.add("attendee", person)
        whole = icalendar.Calendar()
        whole.add("prodid", _PRODUCT)
        whole.add("version", "2.0")
        whole.add("method", self.method)
        for zone in self._zones():
            whole.add_component(_calendar_zone(icalendar, zone, [_calendar_day(self.start), _calendar_day(self.end)]))
        whole.add_component(event)
        return str(whole.to_ical().decode("utf-8"))

    @property
    def _organizer(self) -> Address:
        assert isinstance(self.organizer, Address)
        return self.organizer

    @property
    def _attendees(self) -> tuple[Address, ...]:
        return self.attendees  # type: ignore[return-value]  # settled by __post_init__

    def _zones(self) -> list[Any]:
        """Returns the named time zones of start and end, each once."""
        moments = [m for m in (self.start, self.end) if isinstance(m, datetime)]
        return list({m.tzinfo.key: m.tzinfo for m in moments if m.tzinfo and _is_named(m)}.values())  # type: ignore[attr-defined]


def _is_named(moment: datetime) -> bool:
    return getattr(moment.tzinfo, "key", "UTC") != "UTC"


def _calendar_moment(moment: datetime | date) -> datetime | date:
    """Returns a moment in a zone that has a name as it is, another in UTC: offsets have no place in a calendar."""
    return moment.astimezone(UTC) if isinstance(moment, datetime) and not _is_named(moment) else moment


def _calendar_day(moment: datetime | date) -> date:
    return moment.date() if isinstance(moment, datetime) else moment


def _calendar_zone(icalendar: Any, zone: Any, days: Sequence[date]) -> Any:
    """Returns a time zone as the calendar needs it around some days."""
    made = icalendar.Timezone()
    made.add("tzid", zone.key)
    for one in observances(zone, days):
        part = icalendar.TimezoneDaylight() if one.is_summer else icalendar.TimezoneStandard()
        part.add("dtstart", one.start)
        part.add("tzoffsetfrom", one.before)
        part.add("tzoffsetto", one.after)
        part.add("tzname", one.name)
        made.add_component(part)
    return made


def _person(icalendar: Any, address: Address) -> Any:
    person = icalendar.vCalAddress(f"mailto:{in_uri(address)}")
    if address.name:
        person.params["CN"] = address.name
    return person


def _icalendar() -> Any:
    return loaded("icalendar", extra="calendar", message="an invitation needs the icalendar package")


def _are_addresses(value: Any) -> bool:
    return isinstance(value, list | tuple) and all(isinstance(one, Address) for one in value)
