"""Texts that a formatter made fit for one place: there they are not encoded again, elsewhere they are plain text."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any


class Encoded(str):
    """A text that is percent-encoded already (RFC 3986), for the path or query of an address."""

    __slots__ = ()


class Address(str):
    """A whole address, its pieces encoded already."""

    __slots__ = ()


class Json(str):
    """A JSON text."""

    __slots__ = ()


class Fragment(str):
    """A text that is markup between tags: `markup` there, `events` for the plain-text part.

    As a text it is what one would read; where `trusted` it can stand between tags only, since there is no
    plain text that would do for an attribute.
    """

    __slots__ = ("events", "markup", "trusted")

    markup: str
    events: tuple[Any, ...]
    trusted: bool

    @classmethod
    def of(cls, text: str, markup: str, events: Iterable[Any], *, trusted: bool = False) -> Fragment:
        """A fragment."""
        made = cls(text)
        made.markup, made.events, made.trusted = markup, tuple(events), trusted
        return made
