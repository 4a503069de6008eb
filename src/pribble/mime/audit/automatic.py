"""Fields that machines read (RFC 3834, RFC 2156, RFC 8058)."""

from __future__ import annotations

import re

from pribble.mime.audit.report import Report
from pribble.mime.audit.signatures import check_signatures
from pribble.mime.comments import without_comments
from pribble.mime.grammar import WHITE_SPACE
from pribble.mime.machine_fields import AUTO_SUBMITTED, IMPORTANCE, ONE_CLICK
from pribble.mime.reading import Entity
from pribble.regexes import regex

# RFC 5436 2.7 has registered one more.
_KNOWN = (*AUTO_SUBMITTED, "auto-notified")
# RFC 2156 5.3.4, 5.3.6
_VALUES = {
    "importance": IMPORTANCE,
    "priority": ("normal", "non-urgent", "urgent"),
    "sensitivity": ("personal", "private", "company-confidential"),
}
_ADDRESSES = regex(r"<([^<>]*)>")


def check_machines(message: Entity, report: Report) -> None:
    """Checks what says how a message came to be, how much it matters, and how one gets off its list."""
    for field in message.all("auto-submitted"):
        if re.split(r"[;( \t\r\n]", field.value.lower(), maxsplit=1)[0] not in _KNOWN:
            report.add_at("machines.auto-submitted", field)
    for key, values in _VALUES.items():
        for field in message.all(key):
            if without_comments(field.value).strip(WHITE_SPACE).lower() not in values:
                report.add_at("machines.value", field, f"{field.name} is {', '.join(values)}")
    signed = check_signatures(message, report)
    post = message.first("list-unsubscribe-post")
    if post is None:
        return
    secure = 0
    for field in message.all("list-unsubscribe"):
        addresses = _ADDRESSES.findall(re.sub(r"[ \t\r\n]", "", field.value))
        secure += sum(address.lower().startswith("https:") for address in addresses)
    if re.sub(r"[ \t\r\n]", "", post.value) != ONE_CLICK:
        report.add_at("machines.post-value", post)
    if secure != 1:
        report.add_at("machines.post-https", post, secure)
    if not any({"list-unsubscribe", "list-unsubscribe-post"} <= names for names in signed):
        report.add_at("machines.post-unsigned", post)
