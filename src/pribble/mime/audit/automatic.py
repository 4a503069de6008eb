"""Fields that machines read (RFC 3834, RFC 2369, RFC 8058)."""

from __future__ import annotations

import re

from pribble.mime.audit.report import Report
from pribble.mime.machines import AUTO_SUBMITTED, ONE_CLICK
from pribble.mime.reading import Entity

# RFC 5436 2.7 has registered one more.
_KNOWN = (*AUTO_SUBMITTED, "auto-notified")
_SIGNED = re.compile(r"(?:^|;)h=([^;]*)")  # RFC 6376 3.5
_ADDRESSES = re.compile(r"<([^<>]*)>")


def check_machines(message: Entity, report: Report) -> None:
    """What says how a message came to be, and how one gets off its list."""
    for field in message.all("auto-submitted"):
        if re.split(r"[;( \t\r\n]", field.value.lower(), maxsplit=1)[0] not in _KNOWN:
            report.tell_of("machines.auto-submitted", field)
    secure = 0
    for field in message.all("list-unsubscribe"):
        addresses = _ADDRESSES.findall(re.sub(r"[ \t\r\n]", "", field.value))
        secure += sum(address.lower().startswith("https:") for address in addresses)
        if not addresses or not all(":" in address for address in addresses):
            report.tell_of("machines.unsubscribe", field)
    post = message.first("list-unsubscribe-post")
    if post is None:
        return
    if re.sub(r"[ \t\r\n]", "", post.value) != ONE_CLICK:
        report.tell_of("machines.post-value", post)
    if secure != 1:
        report.tell_of("machines.post-https", post, secure)
    signed = [_SIGNED.search(re.sub(r"[ \t]", "", field.value.lower())) for field in message.all("dkim-signature")]
    if not any(found and {"list-unsubscribe", "list-unsubscribe-post"} <= set(found[1].split(":")) for found in signed):
        report.tell_of("machines.post-unsigned", post)
