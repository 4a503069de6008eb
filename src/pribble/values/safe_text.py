"""Texts that a formatter made fit for one place: there they are not encoded again, elsewhere they are plain text."""

from __future__ import annotations


class EncodedText(str):
    """A text that is percent-encoded already (RFC 3986), for the path or query of an address."""

    __slots__ = ()


class AddressText(str):
    """A whole address, its pieces encoded already."""

    __slots__ = ()


class JsonText(str):
    """A JSON text."""

    __slots__ = ()


class Fragment(str):
    """A text that is markup between tags: `markup` there.

    As a text it is lines of plain text; where `trusted` it can stand between tags only, since there is no plain text
    that would do for an attribute.
    """

    __slots__ = ("markup", "trusted")

    markup: str
    trusted: bool

    @classmethod
    def of(cls, text: str, markup: str, *, trusted: bool = False) -> Fragment:
        """Returns a fragment."""
        made = cls(text)
        made.markup, made.trusted = markup, trusted
        return made
