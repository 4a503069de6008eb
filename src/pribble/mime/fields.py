"""The header fields there are: how each is written, who sets it, how often it may stand in a header, and where that is
laid down.

Who writes a message, who checks what others wrote, and the documentation read this one table.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

# How the body of a field is written.
Syntax = Literal[
    "text",  # unstructured (RFC 5322 3.2.5): encoded-words are for it
    "phrases",  # names with commas between them: each a phrase (RFC 5322 3.6.5)
    "mailboxes",  # (RFC 5322 3.4)
    "addresses",  # mailboxes and groups (RFC 5322 3.4)
    "path",  # an address in angle brackets, or nothing in them (RFC 5322 3.6.7)
    "date",  # a date-time (RFC 5322 3.3)
    "id",  # one msg-id (RFC 5322 3.6.4)
    "ids",  # msg-ids
    "list-id",  # a phrase, and a name in angle brackets (RFC 2919 3)
    "uris",  # URIs in angle brackets, with commas between them (RFC 2369 2)
    "tokens",  # words of ASCII, with comments and parameters
    "trace",  # what a server says of itself, in which no encoded-word may stand, not even in a comment (RFC 2047 5)
    "structured",  # a form of its own, of ASCII
]

# Who sets a field: an argument of Message of this name ("headers" is one), or
MESSAGE = "Message"  # a message itself, or a part of it
OTHERS = "others"  # servers, signers and readers, on its way


class KnownField(NamedTuple):
    """What is known of a header field: its `name` as it is written, its `syntax`, who is the `setter`, whether it
    stands in a header `once` at most, and the `reference`, a section."""

    name: str
    syntax: Syntax
    setter: str
    once: bool
    reference: str


_ONCE, _OFTEN = True, False

FIELDS: dict[str, KnownField] = {
    one[0].lower(): KnownField(*one)
    for one in (
        # -- RFC 5322, and who else wrote it --
        ("Date", "date", "date", _ONCE, "RFC 5322 3.6.1"),
        ("From", "mailboxes", "authors", _ONCE, "RFC 5322 3.6.2"),
        ("Sender", "mailboxes", "sender", _ONCE, "RFC 5322 3.6.2"),
        ("Reply-To", "addresses", "reply_to", _ONCE, "RFC 5322 3.6.2"),
        ("Author", "mailboxes", "headers", _ONCE, "RFC 9057 3"),
        ("To", "addresses", "to", _ONCE, "RFC 5322 3.6.3"),
        ("Cc", "addresses", "cc", _ONCE, "RFC 5322 3.6.3"),
        ("Bcc", "addresses", "bcc", _ONCE, "RFC 5322 3.6.3"),
        ("Message-ID", "id", "message_id", _ONCE, "RFC 5322 3.6.4"),
        ("In-Reply-To", "ids", "in_reply_to", _ONCE, "RFC 5322 3.6.4"),
        ("References", "ids", "references", _ONCE, "RFC 5322 3.6.4"),
        ("Subject", "text", "subject", _ONCE, "RFC 5322 3.6.5"),
        ("Comments", "text", "headers", _OFTEN, "RFC 5322 3.6.5"),
        ("Keywords", "phrases", "headers", _OFTEN, "RFC 5322 3.6.5"),
        ("Resent-Date", "date", OTHERS, _OFTEN, "RFC 5322 3.6.6"),
        ("Resent-From", "mailboxes", OTHERS, _OFTEN, "RFC 5322 3.6.6"),
        ("Resent-Sender", "mailboxes", OTHERS, _OFTEN, "RFC 5322 3.6.6"),
        ("Resent-To", "addresses", OTHERS, _OFTEN, "RFC 5322 3.6.6"),
        ("Resent-Cc", "addresses", OTHERS, _OFTEN, "RFC 5322 3.6.6"),
        ("Resent-Bcc", "addresses", OTHERS, _OFTEN, "RFC 5322 3.6.6"),
        ("Resent-Reply-To", "addresses", OTHERS, _OFTEN, "RFC 5322 4.5.6"),
        ("Resent-Message-ID", "id", OTHERS, _OFTEN, "RFC 5322 3.6.6"),
        # -- what servers and signers add --
        ("Return-Path", "path", OTHERS, _ONCE, "RFC 5321 4.4"),
        ("Received", "trace", OTHERS, _OFTEN, "RFC 5321 4.4"),
        ("Delivered-To", "structured", OTHERS, _OFTEN, "RFC 9228 4"),
        ("Received-SPF", "structured", OTHERS, _OFTEN, "RFC 7208 9.1"),
        ("Authentication-Results", "structured", OTHERS, _OFTEN, "RFC 8601 2.2"),
        ("DKIM-Signature", "structured", OTHERS, _OFTEN, "RFC 6376 3.5"),
        ("ARC-Seal", "structured", OTHERS, _OFTEN, "RFC 8617 4.1.3"),
        ("ARC-Message-Signature", "structured", OTHERS, _OFTEN, "RFC 8617 4.1.2"),
        ("ARC-Authentication-Results", "structured", OTHERS, _OFTEN, "RFC 8617 4.1.1"),
        # -- MIME --
        ("MIME-Version", "tokens", MESSAGE, _ONCE, "RFC 2045 4"),
        ("Content-Type", "tokens", MESSAGE, _ONCE, "RFC 2045 5"),
        ("Content-Transfer-Encoding", "tokens", MESSAGE, _ONCE, "RFC 2045 6"),
        ("Content-Disposition", "tokens", MESSAGE, _ONCE, "RFC 2183 2"),
        ("Content-ID", "id", MESSAGE, _ONCE, "RFC 2045 7"),
        ("Content-Description", "text", MESSAGE, _ONCE, "RFC 2045 8"),
        ("Content-Language", "tokens", "language", _ONCE, "RFC 3282 2"),
        ("Content-Location", "structured", MESSAGE, _ONCE, "RFC 2557 4.1"),
        ("Content-MD5", "structured", MESSAGE, _ONCE, "RFC 1864 2"),
        ("Content-Duration", "tokens", MESSAGE, _ONCE, "RFC 2424 2"),
        # -- lists and archives --
        ("List-Id", "list-id", "headers", _ONCE, "RFC 2919 3"),
        ("List-Help", "uris", "headers", _ONCE, "RFC 2369 3.1"),
        ("List-Unsubscribe", "uris", "unsubscribe", _ONCE, "RFC 2369 3.2"),
        ("List-Unsubscribe-Post", "structured", "one_click", _ONCE, "RFC 8058 3.1"),
        ("List-Subscribe", "uris", "headers", _ONCE, "RFC 2369 3.3"),
        ("List-Post", "uris", "headers", _ONCE, "RFC 2369 3.4"),
        ("List-Owner", "uris", "headers", _ONCE, "RFC 2369 3.5"),
        ("List-Archive", "uris", "headers", _ONCE, "RFC 2369 3.6"),
        ("Archived-At", "uris", "headers", _OFTEN, "RFC 5064 2"),
        # -- for machines and readers --
        ("Auto-Submitted", "tokens", "auto_submitted", _ONCE, "RFC 3834 5"),
        ("Importance", "tokens", "importance", _ONCE, "RFC 2156 5.3.4"),
        ("Priority", "tokens", "headers", _ONCE, "RFC 2156 5.3.6"),
        ("Sensitivity", "tokens", "headers", _ONCE, "RFC 2156 5.3.4"),
        ("Precedence", "tokens", "headers", _ONCE, "RFC 2076 3.9"),
        ("Message-Context", "tokens", "headers", _ONCE, "RFC 3458 4.2"),
        ("Accept-Language", "tokens", "headers", _ONCE, "RFC 3282 3"),
        ("TLS-Required", "tokens", "headers", _ONCE, "RFC 8689 5"),
        ("Disposition-Notification-To", "mailboxes", "headers", _ONCE, "RFC 8098 2.1"),
        ("Disposition-Notification-Options", "tokens", "headers", _ONCE, "RFC 8098 2.2"),
        ("Original-Recipient", "structured", OTHERS, _ONCE, "RFC 8098 2.3"),
        ("Original-Message-ID", "id", "headers", _ONCE, "RFC 3297 3.4"),
        ("Supersedes", "ids", "headers", _ONCE, "RFC 2156 5.3.4"),
        ("Obsoletes", "ids", "headers", _ONCE, "RFC 2156 5.3.4"),
        ("Expires", "date", "headers", _ONCE, "RFC 5536 3.2.5"),
        ("Expiry-Date", "date", "headers", _ONCE, "RFC 2156 5.3.4"),
        ("Reply-By", "date", "headers", _ONCE, "RFC 2156 5.3.4"),
        ("Deferred-Delivery", "date", "headers", _ONCE, "RFC 2156 5.3.4"),
        ("Latest-Delivery-Time", "date", "headers", _ONCE, "RFC 2156 5.3.4"),
        ("Organization", "text", "headers", _ONCE, "RFC 5536 3.2.9"),
        ("User-Agent", "tokens", "headers", _ONCE, "RFC 5536 3.2.13"),
    )
}

# Of a field that stands not there, by how its name begins; of all others nothing more is known than that they may be
# there: free text (RFC 5322 3.6.8).
_FAMILIES = (
    ("content-", "text", MESSAGE, "RFC 2045 9"),
    ("resent-", "text", OTHERS, "RFC 5322 3.6.6"),
    ("arc-", "structured", OTHERS, "RFC 8617 4.1"),
    ("downgraded-", "text", OTHERS, "RFC 6857 3"),
)


def known_field(name: str) -> KnownField:
    """Returns what is known of the field of this name, in whatever case it is written."""
    key = name.lower()
    found = FIELDS.get(key)
    if found is not None:
        return found
    for begin, syntax, setter, reference in _FAMILIES:
        if key.startswith(begin):
            return KnownField(name, syntax, setter, _OFTEN, reference)  # type: ignore[arg-type]
    return KnownField(name, "text", "headers", _OFTEN, "RFC 5322 3.6.8")
