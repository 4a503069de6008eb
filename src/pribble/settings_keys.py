"""Every key of ``pribble.toml``: where it stands, what kind of value it has, what it says; one row each.

`pribble.settings` checks a file against this table, and docs/settings.md shows it.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from pribble.records import record

SettingKind = Literal["text", "texts", "flag", "table", "tables"]
KINDS: Mapping[SettingKind, str] = {
    "text": "a text",
    "texts": "a list of texts",
    "flag": "true or false",
    "table": "a table",
    "tables": "a list of tables",
}
ANY = "NAME"  # a table that the user names


@record(frozen=True, slots=True)
class SettingsKey:
    """A key: the table that it stands in, "" for the file itself; what it says; and what it is where it is left out."""

    table: str
    name: str
    kind: SettingKind
    words: str
    default: str = ""


def _keys(table: str, *rows: tuple[str, SettingKind, str, str]) -> tuple[SettingsKey, ...]:
    return tuple(SettingsKey(table, *row) for row in rows)


SETTINGS_KEYS = (
    *_keys(
        "",
        ("templates", "text", "the template folder", "`templates`"),
        ("locale", "text", "of templates without one of their own", "`en`"),
        ("timezone", "text", "in which moments are shown", "`UTC`"),
        ("journal", "text", "where events are kept: a file, or `postgresql://host/name`", "none: events are sent once"),
    ),
    *_keys("senders", (ANY, "text", 'a mailbox: "Name <address>"', "")),
    *_keys(
        f"transports.{ANY}",
        ("url", "text", "where messages go ([delivery.md](delivery.md))", ""),
    ),
    *_keys(
        "pictures",
        ("embed", "text", "how pictures travel: `cid`, `data`, `link`, `none`", "`cid`"),
        ("base", "text", "what linked pictures lie below", "none"),
    ),
    *_keys("attachments", ("folders", "texts", "where files may lie that the data of an event name", "none may")),
    *_keys("suppress", ("file", "text", "addresses that get nothing, one a line", "none")),
    *_keys(
        "signing",
        ("domain", "text", "the domain that signs (DKIM, RFC 6376): that of From, or one that it is in", ""),
        ("keys", "tables", "its keys: every message is signed with each", ""),
    ),
    *_keys(
        "signing.keys",
        ("selector", "text", "the name that its public key is published under: `selector._domainkey.domain`", ""),
        ("file", "text", "the private key, RSA or Ed25519, in PEM; nobody else may read it", ""),
    ),
    *_keys(
        f"events.{ANY}",
        ("key", "text", "what tells one event from another: a text with marks", "each is another one"),
        ("sample", "text", "a JSON file, for `post --check`", "the first template's sample"),
        ("valid_for", "text", "how long its messages are tried: `10 minutes`, `2 hours`, `1 day`", "4 days"),
        ("even_if_suppressed", "flag", "also to addresses that get nothing else", "`false`"),
        ("messages", "tables", "its messages, in the order in which they are sent", ""),
    ),
    *_keys(
        f"events.{ANY}.messages",
        ("template", "text", "the template's name", ""),
        ("name", "text", "what tells it from the event's others", "the template's name"),
        ("to", "text", "mailboxes with marks", ""),
        ("cc", "text", "mailboxes with marks", "nobody"),
        ("bcc", "text", "mailboxes with marks", "nobody"),
        ("reply_to", "text", "mailboxes with marks", "nobody"),
        ("sender", "text", "a name in `[senders]`", "`default`"),
        ("locale", "text", "a text with marks", "the template's"),
        ("unsubscribe", "text", "an address with marks that leads off the list (RFC 2369)", "none"),
        ("envelope_sender", "text", "where failures are reported to: a mailbox with marks", "the sender"),
        ("when", "text", "a condition, as of `{{ if … }}`: else there is no such message", "always"),
        ("through", "text", "a name in `[transports]`", "`default`"),
        ("attach", "texts", "files of the project, or below `[attachments] folders` where they have marks", "none"),
        ("optional", "flag", "a problem in it does not stop the event's others", "`false`"),
    ),
    *_keys(
        "check",
        ("strict", "flag", "warnings count as errors", "`false`"),
        ("off", "table", 'rules that are off, each with a reason: `group.name = "why"`', "none"),
    ),
    *_keys("check.off", (ANY, "text", "the reason why nobody looks at it", "")),
    *_keys("viewers", (ANY, "table", "a viewer of the project's own ([checks.md](checks.md) has its keys)", "")),
)


def keys_of(table: str) -> dict[str, SettingsKey]:
    """Returns the keys of a table by name."""
    return {key.name: key for key in SETTINGS_KEYS if key.table == table}


def tables_in(table: str) -> set[str]:
    """Returns the names of the tables right within a table; `ANY` where the user names them."""
    prefix = f"{table}." if table else ""
    inner = {
        key.table.removeprefix(prefix) for key in SETTINGS_KEYS if key.table.startswith(prefix) and key.table != table
    }
    return {name.partition(".")[0] for name in inner if name}


def is_list(table: str) -> bool:
    """Returns whether there may be several tables of a name: ``[[events.booked.messages]]``."""
    outer, _, name = table.rpartition(".")
    found = keys_of(outer).get(name)
    return found is not None and found.kind == "tables"
