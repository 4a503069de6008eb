"""A time zone as a calendar has it (RFC 5545 3.6.5): from when on which offset holds, around some days."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime, timedelta, tzinfo
from typing import NamedTuple

_WEEK = timedelta(days=7)  # in no zone did the offset change and change back within one
_SECOND = timedelta(seconds=1)
_YEAR = timedelta(days=366)


class Observance(NamedTuple):
    """An offset that holds from a moment on: `start` in local time as it was told before, the offsets from UTC
    before and after, the zone's name, and whether it is a summer time."""

    start: datetime
    before: timedelta
    after: timedelta
    name: str
    is_summer: bool


def observances(zone: tzinfo, days: Iterable[date]) -> list[Observance]:
    """Returns what holds in a zone for a year before and behind each of some days, in order of time.

    The first is the change that came before, or, in a zone that has had none for a year, what holds anyway.
    """
    found: dict[datetime, Observance] = {}
    for day in days:
        middle = datetime(day.year, day.month, day.day, tzinfo=UTC)
        begin, needed, end = middle - 2 * _YEAR, middle - _YEAR, middle + _YEAR
        offset = _name_at(zone, begin)[0]
        since = Observance((begin + offset).replace(tzinfo=None), offset, *_name_at(zone, begin))
        weeks = [begin + number * _WEEK for number in range((end - begin) // _WEEK + 1)]
        for change in (change for week in weeks for change in _changes(zone, week, week + _WEEK)):
            if change.start <= (needed + change.before).replace(tzinfo=None):
                since = change
            else:
                found.setdefault(change.start, change)
        found.setdefault(since.start, since)
    return [found[start] for start in sorted(found)]


def _changes(zone: tzinfo, low: datetime, high: datetime) -> Iterator[Observance]:
    """Yields the change between two moments, if there is one."""
    before, after = _name_at(zone, low), _name_at(zone, high)
    if before == after:
        return
    while high - low > _SECOND:
        middle = low + (high - low) // _SECOND // 2 * _SECOND
        if _name_at(zone, middle) == before:
            low = middle
        else:
            high = middle
    yield Observance((high + before[0]).replace(tzinfo=None), before[0], *after)


def _name_at(zone: tzinfo, moment: datetime) -> tuple[timedelta, str, bool]:
    """Returns the offset at a moment, its name, and whether it is a summer time."""
    local = moment.astimezone(zone)
    summer = local.dst()
    return local.utcoffset() or timedelta(0), local.tzname() or "", summer is not None and summer > timedelta(0)
