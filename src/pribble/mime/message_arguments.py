"""What kind of value each argument of a message is, for the words of a `TypeError`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from datetime import datetime

from pribble.arguments import ensure
from pribble.mime.part import Attachment

_Is = Callable[[object], bool]


def _is_text(value: object) -> bool:
    return isinstance(value, str)


def _texts(value: object) -> bool:
    return _is_text(value) or (isinstance(value, list | tuple | set | frozenset) and all(map(_is_text, value)))


def _list_of(is_one: _Is) -> _Is:
    return lambda value: isinstance(value, list | tuple) and all(map(is_one, value))


def _has(*names: str) -> _Is:
    return lambda value: all(hasattr(value, name) for name in names)


def _is_mailbox(value: object) -> bool:
    is_pair = isinstance(value, tuple) and len(value) == 2 and all(map(_is_text, value))
    return _is_text(value) or is_pair or hasattr(value, "addr") or hasattr(value, "members")


def _mailboxes(value: object) -> bool:
    if isinstance(value, list | tuple | set | frozenset):
        return all(map(_is_mailbox, value))
    return _is_mailbox(value) or (isinstance(value, Iterable) and not isinstance(value, bytes | Mapping))


def _headers(value: object) -> bool:
    if not isinstance(value, Mapping | list | tuple):
        return False
    pairs = value.items() if isinstance(value, Mapping) else value
    return all(isinstance(pair, tuple | list) and len(pair) == 2 and _texts(list(pair)) for pair in pairs)


# Of each argument, in words and as a test, what it is where it is not None.
_KINDS: dict[str, tuple[str, _Is]] = {
    **dict.fromkeys(
        ("subject", "text", "html", "message_id", "in_reply_to", "id_domain", "text_format"), ("a text", _is_text)
    ),
    **dict.fromkeys(("sender", "envelope_sender"), ("a string, an Address or a pair (name, address)", _is_mailbox)),
    "authors": ("a string, an Address or a list of them", _mailboxes),
    **dict.fromkeys(("references", "language", "unsubscribe"), ("a text or a list of texts", _texts)),
    "date": ("a datetime", lambda value: isinstance(value, datetime)),
    "seed": ("bytes", lambda value: isinstance(value, bytes)),
    "sign": ("a function of the message's bytes", callable),
    "headers": ("a mapping or a list of pairs of texts", _headers),
    "attachments": ("a list of Attachments", _list_of(lambda value: isinstance(value, Attachment))),
    "pictures": ("a list of Pictures", _list_of(_has("type", "file_name", "content_id"))),
    "one_click": ("true or false", lambda value: isinstance(value, bool)),
    "invitation": ("an Invitation", _has("calendar", "asked")),
}


# Those that may not be None.
_NEEDED = frozenset(("sender", "one_click"))


def check_kinds(given: Mapping[str, object]) -> None:
    """Raise `TypeError`, which names the argument, for the first that is of another kind than it should be."""
    for name, value in given.items():
        if name in _KINDS and (value is not None or name in _NEEDED):
            ensure(name, *_KINDS[name], value)
