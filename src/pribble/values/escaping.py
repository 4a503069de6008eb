"""Showing a text fit for its place: between tags, in a quoted attribute, in an address, in plain text.

What a value must not do anywhere is change the structure around it; what it cannot do in a place it is
refused for, with an `UnsafeValue` that says why.
"""

from __future__ import annotations

import re
from urllib.parse import quote

import markupsafe

from pribble.errors import UnsafeValue

# Control characters but tab and line breaks (nothing shows them), and the bidirectional overrides, which
# make text read as what it is not.
_UNSHOWN = "\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u202a-\u202e"
_DROPPED = re.compile(f"[{_UNSHOWN}]")
_SURROGATE = re.compile("[\ud800-\udfff]")
_SPECIAL = re.compile(f"[&<>\"'{_UNSHOWN}\ud800-\udfff]")
_UNPLAIN = re.compile(f"[{_UNSHOWN}\ud800-\udfff]")
_SPACES = re.compile(r"\s+")


def markup(text: str) -> str:
    """`text` between tags or in a quoted attribute: ``& < > " '`` as references, control characters dropped."""
    if _SPECIAL.search(text) is None:
        return text
    return str(markupsafe.escape(plain_text(text)))


def is_harmless(text: str) -> bool:
    """Whether `markup` leaves `text` as it is."""
    return _SPECIAL.search(text) is None


def plain_text(text: str) -> str:
    """`text` in the plain-text part: control characters and bidirectional overrides dropped."""
    if _UNPLAIN.search(text) is None:
        return text
    if found := _SURROGATE.search(text):
        raise UnsafeValue(f"a lone surrogate U+{ord(found[0]):04X} at position {found.start()} is no character")
    return _DROPPED.sub("", text)


def one_line(text: str) -> str:
    """`text` in a subject or preheader: every run of white space is one space, nothing else unseen is let in."""
    text = _SPACES.sub(" ", text)
    if found := _UNPLAIN.search(text):
        raise UnsafeValue(f"U+{ord(found[0]):04X} at position {found.start()} may not stand in a subject")
    return text


# ---- addresses (RFC 3986) -------------------------------------------------------------------------------------

_SCHEME = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*):")
# What most addresses are: nothing in them needs a second look.
_SIMPLE_URL = re.compile(r"https?://[A-Za-z0-9][A-Za-z0-9.-]*(?:[/?#][A-Za-z0-9/._~?&=#+,;:-]*)?")
_SCHEMES = frozenset({"http", "https", "mailto", "tel", "sms"})
_HOST = re.compile(r"//(?:\[[0-9A-Fa-f:.]+\]|[^\s/?#@\[\]\\<>\"'`{}|^]+)(?=[/?#]|$)")
_BETWEEN_DIGITS = re.compile(r"[\s.()\u2010-\u2015-]")
_TELEPHONE = re.compile(r"\+?[0-9]{2,20}")
_CONTROL = re.compile("[\x00-\x1f\x7f-\x9f\u2028\u2029\ud800-\udfff\\\\]")
_BIDI = re.compile("[\u200e\u200f\u202a-\u202e\u2066-\u2069]")
# All that RFC 3986 allows in a URI stays as it is; existing %XX too.
_URI_SAFE = "!#$&'()*+,/:;=?@[]~%-._"
_BARE_PERCENT = re.compile(r"%(?![0-9A-Fa-f]{2})")


def url(text: str) -> str:
    """A whole address, or the start of one, percent-encoded where it must be.

    Accepted are http, https, mailto, tel and sms addresses and ``#…``.  Raises `UnsafeValue` for any other
    scheme, for addresses relative to a page (a message has none) and for control characters.
    """
    if _SIMPLE_URL.fullmatch(text):
        return text
    text = text.strip()
    if found := _CONTROL.search(text):
        name = "a backslash" if found[0] == "\\" else f"the control character U+{ord(found[0]):04X}"
        raise UnsafeValue(f"{name} at position {found.start()} may not stand in an address")
    if text.startswith("#"):
        return _percent(text)
    scheme = _SCHEME.match(text)
    if scheme is None:
        shown = text if len(text) <= 40 else text[:40] + "…"
        raise UnsafeValue(f'"{shown}" is no absolute address',
                          hint="a message has no page that it could be relative to; write https:// and the host")
    if scheme[1].lower() not in _SCHEMES:
        raise UnsafeValue(f"an address may not begin with {scheme[1]}:",
                          hint="it may begin with http, https, mailto, tel, sms or #")
    if scheme[1].lower() in ("tel", "sms"):
        return f"{scheme[1].lower()}:{telephone(text[scheme.end():])}"
    if scheme[1].lower() in ("http", "https") and not _HOST.match(text, scheme.end()):
        raise UnsafeValue(f'"{text[:40]}" names no host', hint="write https:// and the host")
    return _percent(text)


def telephone(text: str) -> str:
    """A telephone number for an address (RFC 3966): digits, perhaps after a +; what only separates them is dropped."""
    number = _BETWEEN_DIGITS.sub("", text)
    if not _TELEPHONE.fullmatch(number):
        raise UnsafeValue(f'"{text.strip()[:40]}" is no telephone number', hint="write +44 1632 960147")
    return number


def _percent(text: str) -> str:
    return quote(_BARE_PERCENT.sub("%25", _BIDI.sub(lambda m: quote(m[0]), text)), safe=_URI_SAFE)


def url_segment(text: str) -> str:
    """One segment of a path, percent-encoded, ``/`` too; raises `UnsafeValue` for an empty, ``.`` or ``..`` one."""
    if text in ("", ".", ".."):
        raise UnsafeValue(f'"{text}" cannot be a segment of a path')
    return url_query(text)


def url_query(text: str) -> str:
    """A piece of a query or fragment, all of it percent-encoded."""
    try:
        return quote(text, safe="")
    except UnicodeEncodeError as error:
        raise UnsafeValue(f"a lone surrogate at position {error.start} is no character") from None
