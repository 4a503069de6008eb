"""Time zones in calendars, against another reader of calendars."""

from __future__ import annotations

import io
import re
import unittest
from datetime import UTC, datetime, timedelta
from random import Random
from zoneinfo import ZoneInfo, available_timezones

from dateutil.tz import tzical

from pribble import Address, Invitation
from tests.support import seeds, slow

# Zones that changed in every way: to the north and south, by half an hour, in Ramadan, for ever, over the date line.
ZONES = (
    "America/New_York Europe/Dublin Africa/Casablanca Asia/Kolkata Australia/Lord_Howe America/Sao_Paulo "
    "Asia/Pyongyang Pacific/Apia Antarctica/Troll"
).split()


def calendar(zone: str, start: datetime, hours: float = 2) -> str:
    begin = start.replace(tzinfo=ZoneInfo(zone))
    end = (start + timedelta(hours=hours)).replace(tzinfo=ZoneInfo(zone))
    stay = Invitation(begin, end, "Stay", "office@skerrow.example", "u@skerrow.example")
    return stay.calendar([Address("", "ana@example.org")], datetime(2026, 1, 1, tzinfo=UTC))


class Zones(unittest.TestCase):
    @slow
    def test_offsets_are_those_of_the_zone(self) -> None:
        found = sorted(available_timezones() - {"localtime", "Factory"})
        chosen = [(zone, year) for zone in ZONES for year in (2011, 2018, 2026)]
        chosen += [(Random(seed).choice(found), Random(seed).randint(1950, 2036)) for seed in seeds(40)]
        for name, year in chosen:
            start, zone = datetime(year, 7, 1, 12), ZoneInfo(name)
            written = calendar(name, start)
            if "BEGIN:VTIMEZONE" not in written:
                continue
            read = tzical(io.StringIO(written)).get(name)
            with self.subTest(name, year=year):
                for hour in range(-360 * 24, 360 * 24, 5):
                    local = start + timedelta(hours=hour)
                    if local.replace(tzinfo=zone).astimezone(UTC).astimezone(zone).replace(tzinfo=None) != local:
                        continue  # an hour that never was
                    self.assertEqual(
                        local.replace(tzinfo=read).utcoffset(), local.replace(tzinfo=zone).utcoffset(), local
                    )

    def test_a_change_stands_in_the_local_time_before_it(self) -> None:
        written = calendar("America/New_York", datetime(2025, 7, 3, 12))
        parts = re.findall(r"BEGIN:(DAYLIGHT|STANDARD)\r\nDTSTART:(\w+)\r\nTZNAME:(\w+)\r\n", written)
        self.assertIn(("DAYLIGHT", "20250309T020000", "EDT"), parts)
        self.assertIn(("STANDARD", "20251102T020000", "EST"), parts)
        self.assertEqual({start[9:] for _, start, _ in parts}, {"020000"})
        self.assertIn("PRODID:-//Pribble//", written)

    def test_a_long_stay_tells_of_its_ends(self) -> None:
        written = calendar("Europe/London", datetime(1990, 7, 1), hours=24 * 366 * 40)
        self.assertLess(written.count("BEGIN:STANDARD"), 9)
        self.assertIn("DTSTART:2030", written)
        self.assertIn("DTSTART:1990", written)


if __name__ == "__main__":
    unittest.main()
