"""Which fields a message has, how often, and the dates in them (RFC 5322 3.3, 3.6; RFC 2045 4)."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date

from pribble.mime.audit.report import Report
from pribble.mime.comments import without_comments
from pribble.mime.fields import FIELDS, known_field
from pribble.mime.grammar import (
    ATEXT,
    DATE_TIME,
    DOMAIN_LITERAL,
    MESSAGE_ID,
    MONTHS,
    OBSOLETE_ZONES,
    QUOTED,
    WEEKDAYS,
    WHITE_SPACE,
)
from pribble.mime.reading import Entity, ReadField
from pribble.regexes import regex


def check_fields(message: Entity, report: Report, *, submitted: bool, nested: bool) -> None:
    """Checks what a message must have.  One that is `nested` in another may lack all but syntax (RFC 2046 5.2.1)."""
    _check_counts(message, report)
    for key in ("to", "cc", "sender", "reply-to", "from"):
        for field in message.all(key):
            if not without_comments(field.value).strip(WHITE_SPACE):
                report.add("fields.empty", field.start, field.value_start, field.name)
    if not nested:
        _check_missing(message, report)
        _check_version(message, report)
        if bcc := next((f for f in message.all("bcc") if "@" in f.value), None):
            report.add_at("fields.bcc-shown", bcc)
        if submitted and (path := message.first("return-path")):
            report.add("fields.return-path-submitted", path.start, path.end)
    resent = [field for field in message.fields if field.key.startswith("resent-")]
    if resent:
        lacking = [name for name in ("Resent-Date", "Resent-From") if not message.first(name.lower())]
        if lacking:
            report.add("fields.resent-incomplete", resent[0].start, resent[0].value_start, " and ".join(lacking))


def _check_counts(entity: Entity, report: Report) -> None:
    """Checks each field at most as often as the table of fields allows."""
    met: set[str] = set()
    for field in entity.fields:
        known = FIELDS.get(field.key)
        if known is None or not known.once or field.key == "mime-version":  # which has a rule of its own
            continue
        if field.key in met:
            rule = "mime.content-type-repeated" if field.key.startswith("content-") else "fields.repeated"
            report.add(rule, field.start, field.value_start, field.name, reference=known.reference)
        met.add(field.key)


def _check_missing(message: Entity, report: Report) -> None:
    start = message.start
    for key, rule in (
        ("date", "fields.date-missing"),
        ("from", "fields.from-missing"),
        ("message-id", "fields.message-id-missing"),
    ):
        if not message.first(key):
            report.add(rule, start, start)
    if not any(message.first(key) for key in ("to", "cc", "bcc")):
        report.add("fields.no-destination", start, start)


def _check_version(message: Entity, report: Report) -> None:
    found = message.all("mime-version")
    if not found:
        if content := next((f for f in message.fields if f.key.startswith("content-")), None):
            report.add("mime.version-missing", content.start, content.value_start)
        return
    for again in found[1:]:
        report.add("mime.version-repeated", again.start, again.value_start)
    if re.sub(r"[ \t]", "", without_comments(found[0].value)) != "1.0":
        report.add_at("mime.version-unknown", found[0])


def check_senders(message: Entity, addresses: Mapping[str, Sequence[str]], report: Report) -> None:
    """Checks who wrote a message and who sent it, by the addresses in From and Sender (RFC 5322 3.6.2)."""
    author, sender = message.first("from"), message.first("sender")
    written = addresses.get("from", ())
    if author is not None and sender is None and len(written) > 1:
        report.add_at("fields.sender-missing", author)
    elif sender is not None and len(written) == 1 and list(written) == list(addresses.get("sender", ())):
        report.add("fields.sender-needless", sender.start, sender.end)


def check_content_fields(entity: Entity, report: Report) -> None:
    """In the header of a part each field once, and none but those that tell what its body is."""
    if entity.parent is not None and entity.parent.is_multipart:
        _check_counts(entity, report)
        for field in entity.fields:
            if not field.key.startswith("content-"):
                report.add("multipart.other-field", field.start, field.value_start, field.name)


# ---- dates ----------------------------------------------------------------------------------------------------

_ISO = regex(r"[0-9]{4}-[0-9]{2}-[0-9]{2}")
_WITHOUT_ZONE = regex(r".*[0-9]{2}:[0-9]{2}(?::[0-9]{2})?[ \t]*", re.DOTALL)
_OTHER_MONTH = regex(r"(?:[^ \t,]+,)?[ \t]*[0-9]{1,2}[ \t]+([^ \t0-9]+)[ \t]+[0-9]{2,4}[ \t]")


def check_date(field: ReadField, report: Report) -> None:
    """Checks a date-time (RFC 5322 3.3), its obsolete forms (4.3), and what is neither."""
    value = re.sub(r"[\r\n]", "", without_comments(field.value)).strip(WHITE_SPACE)
    found = DATE_TIME.fullmatch(value)
    if found is None:
        other = _OTHER_MONTH.match(value)
        rule = (
            "date.iso"
            if _ISO.match(value)
            else "date.month"
            if other and other[1] not in MONTHS
            else "date.no-zone"
            if DATE_TIME.fullmatch(f"{value} +0000") and _WITHOUT_ZONE.fullmatch(value)
            else "date.syntax"
        )
        report.add_at(rule, field)
        return
    month = found["month"].capitalize()
    weekday = (found["weekday"] or "").capitalize()
    if month not in MONTHS or (weekday and weekday not in WEEKDAYS):
        report.add_at("date.month", field)
        return
    _check_moment(field, report, found, month, weekday)
    _check_zone(field, report, found["zone"])


def _check_moment(field: ReadField, report: Report, found: re.Match[str], month: str, weekday: str) -> None:
    digits = found["year"]
    year = int(digits[:9])
    if len(digits) < 4:
        report.add_at("date.short-year", field, len(digits))
        year += 2000 if len(digits) == 2 and year < 50 else 1900  # RFC 5322 4.3
    elif year < 1900:
        report.add_at("date.early-year", field, year)
    # A second of 60 is a leap second (RFC 5322 3.3).
    if int(found["hour"]) > 23 or int(found["minute"]) > 59 or int(found["second"] or 0) > 60:
        report.add_at("date.no-such-time", field)
    try:
        day = date(year, MONTHS.index(month) + 1, int(found["day"]))
    except ValueError:
        report.add_at("date.no-such-day", field)
        return
    if weekday and weekday != WEEKDAYS[day.weekday()]:
        report.add_at(
            "date.weekday",
            field,
            ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")[day.weekday()],
        )


def _check_zone(field: ReadField, report: Report, zone: str) -> None:
    if zone[0] in "+-":
        if int(zone[3:]) > 59:
            report.add_at("date.zone-range", field)
        elif int(zone[1:]) > 1400:
            report.add_at("date.far-zone", field, zone)
    else:
        report.add_at("date.old-zone" if zone.upper() in OBSOLETE_ZONES else "date.zone-name", field)


# ---- ids ------------------------------------------------------------------------------------------------------

_AN_ID = regex(r"<[^<>]*>")
# RFC 5322 4.5.4:  obs-id-left = local-part   obs-id-right = domain   (4.4: obs-local-part = word *("." word))
_A_WORD = rf"(?:[{ATEXT}]+|{QUOTED.pattern})"
_OBSOLETE_ID = regex(rf"<{_A_WORD}(?:\.{_A_WORD})*@(?:[{ATEXT}]+(?:\.[{ATEXT}]+)*|{DOMAIN_LITERAL.pattern})>")


def check_ids(field: ReadField, report: Report) -> None:
    """Checks ids in Message-ID, In-Reply-To, References and Content-ID (RFC 5322 3.6.4, RFC 2045 7)."""
    several = known_field(field.key).syntax == "ids"
    value = without_comments(field.raw)
    found = _AN_ID.findall(value)
    words = _AN_ID.sub(" ", value).replace(",", " ").strip(WHITE_SPACE)
    if field.key == "content-id":
        if len(found) != 1 or words:
            report.add_at("ids.content-id", field)
            return
    elif not found:
        rule = "ids.words" if several and "@" not in words else "ids.no-brackets"
        report.add_at(rule, field)
        return
    elif words:
        report.add_at("ids.words" if several else "ids.no-brackets", field)
    if len(found) > 1 and not several:
        report.add_at("ids.several", field)
    for one in found:
        if MESSAGE_ID.fullmatch(one) is None:
            report.add_at(
                "ids.folded"
                if "\n" in one
                else "ids.no-at"
                if "@" not in one
                else "ids.space"
                if re.search(r"[ \t\r\n]", one)
                else "ids.obsolete"
                if _OBSOLETE_ID.fullmatch(one)
                else "ids.syntax",
                field,
            )
