"""Who a message goes to, and where answers go: what only a message shows."""

from __future__ import annotations

import re
from collections import Counter

from pribble.mime.base import BaseMessage
from pribble.mime.encoded_words import decoded_text
from pribble.mime.reading import Entity
from pribble.regexes import regex
from pribble.review.report import CheckReport

_NO_REPLY = regex(
    r"(?:do-?not-?reply|no-?reply|keine-?antwort|ne-?pas-?repondre|no-?responder)(?:\b|_|[0-9])", re.IGNORECASE
)
_HTTPS = regex("<https:[^<>]{1,2000}>", re.IGNORECASE)


def check_envelope(message: BaseMessage, root: Entity, report: CheckReport) -> None:
    """The recipients of a message, where answers to it go, and how a reader leaves its list."""
    counted = Counter(address.addr.casefold() for field in (message.to, message.cc, message.bcc) for address in field)
    for recipient, count in counted.items():
        if count > 1:
            report.add("envelope.doubled", None, recipient)
    answered = [address.addr for address in message.reply_to] or [message.sender.addr]
    for address in answered:
        if _NO_REPLY.match(address):
            report.add("envelope.no-reply", None, address)
    fields = {field.key: decoded_text(field.value) for field in root.fields}
    if "list-unsubscribe-post" in fields:
        if not _HTTPS.search(fields.get("list-unsubscribe", "")):
            report.add("envelope.unsubscribe", None, "one-click unsubscribing has no https: address to ask")
        elif "dkim-signature" not in fields:
            report.add("envelope.unsubscribe", None, "one-click unsubscribing counts in signed messages alone")
