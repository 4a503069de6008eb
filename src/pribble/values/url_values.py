"""Values in addresses (WHATWG URL, RFC 3986, RFC 6068, RFC 3966): what each piece accepts, and how it is written.

Every function takes a text and gives one that is percent-encoded where it must be.  What could lead elsewhere
than the author meant raises `UnsafeValue`.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NoReturn
from urllib.parse import unquote

from pribble.errors import AddressError, HeaderError, UnsafeValue
from pribble.mime.address import in_uri, parse_mailboxes
from pribble.mime.grammar import USUAL_ADDRESS
from pribble.regexes import regex
from pribble.values.escaping import checked_characters

_SCHEME = regex(r"([A-Za-z][A-Za-z0-9+.-]*):")
# What most addresses are: nothing in them needs a second look.  All characters of RFC 3986, and %XX, stay as they are;
# but no %XX in the fields of a mailto: that is a control character, which only its body may have.
_HOST = r"(?![^/?#:]{64})[A-Za-z0-9]++(?:[.-][A-Za-z0-9]++)*+(?::[0-9]{1,4}(?![0-9]))?+"
_PLAIN = r"[A-Za-z0-9/._~?&=#+,;:@!$*'()\[\]-]*+"
_USUAL_HOST = regex(_HOST)
_SIMPLE = regex(
    rf"https?://{_HOST}(?:[/?#]{_PLAIN}(?:%[0-9A-Fa-f]{{2}}{_PLAIN})*+)?+"
    rf"|(?:tel|sms):\+?[0-9]{{2,20}}"
    rf"|mailto:{USUAL_ADDRESS}(?:\?{_PLAIN}(?:%[2-689A-Fa-f][0-9A-Fa-f]{_PLAIN})*+)?+"
    rf"|#{_PLAIN}"
)
_SCHEMES = frozenset({"http", "https", "mailto", "tel", "sms"})
_PICTURE_DATA = regex(r"data:image/[A-Za-z0-9.+-]+(?:;[A-Za-z0-9=-]+)*,[A-Za-z0-9+/=%._~!$&'()*,;:@-]*")
_CONTENT_ID = regex(r"cid:[A-Za-z0-9%!$&'*+/=?^_`{|}~.@-]+")
_AUTHORITY = regex(r"//([^/?#]*)")
_BETWEEN_DIGITS = regex(r"[\s.()/\u2010-\u2015-]")
# Behind the code of a country, the zero that only those within it dial: a habit of the trade, and no standard.
_DIALLED_WITHIN = regex(r"\s*(\+[0-9]{1,3})\s*\(0\)")
_TELEPHONE = regex(r"\+?[0-9]{2,20}")
_CONTROL = regex("[\x00-\x1f\x7f-\x9f\u2028\u2029\ud800-\udfff\\\\]")
# All that RFC 3986 allows in a URI stays as it is; existing %XX too.
_NOT_IN_URI = regex(r"[^A-Za-z0-9!#$&'()*+,/:;=?@\[\]~%._-]+|%(?![0-9A-Fa-f]{2})")
# RFC 3986 2.3: unreserved = ALPHA / DIGIT / "-" / "." / "_" / "~"
_RESERVED = regex(r"[^A-Za-z0-9._~-]+")
_PORT = regex(r":([0-9]{1,5})?\Z")
_LABEL = regex(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?")
_DOTS_ONLY = regex(r"(?:\.|%2[eE])*")
_BREAKS = regex(r"\r\n?|\n")
_ENCODED_CONTROL = regex(r"%(?:[01][0-9A-Fa-f]|7[Ff])")


def whole_address(text: str, *, picture: bool = False) -> str:
    """Returns a whole address: http, https, mailto, tel, sms or ``#…``; for a `picture` also ``cid:`` and
    ``data:image``."""
    if _SIMPLE.fullmatch(text):
        return text
    return _address(text, picture) if len(text) < _LONGEST_KEPT else _checked_address(text, picture)


def _checked_address(text: str, picture: bool) -> str:
    text = text.strip()
    if found := _CONTROL.search(text):
        name = "a backslash" if found[0] == "\\" else f"the control character U+{ord(found[0]):04X}"
        raise UnsafeValue(f"{name} at position {found.start()} may not stand in an address")
    if text.startswith("#"):
        return _percent(text)
    scheme = _SCHEME.match(text)
    if scheme is None:
        raise UnsafeValue(
            f'"{_quote_value(text)}" is no absolute address',
            hint="a message has no page that it could be relative to; write https:// and the host",
        )
    name, rest = scheme[1].lower(), text[scheme.end() :]
    if picture and name in ("cid", "data") and (_CONTENT_ID if name == "cid" else _PICTURE_DATA).fullmatch(text):
        return text
    if name not in _SCHEMES:
        raise UnsafeValue(
            f"an address may not begin with {scheme[1]}:", hint="it may begin with http, https, mailto, tel, sms or #"
        )
    if name in ("tel", "sms"):
        return _telephone_address(name, rest)
    if name == "mailto":
        return _mailto(rest)
    authority = _AUTHORITY.match(rest)
    if authority is None:
        raise UnsafeValue(f'"{_quote_value(text)}" names no host', hint="write https:// and the host")
    return f"{scheme[1]}://{host(authority[1])}{_percent(rest[authority.end() :])}"


# Those that need a closer look are often the same in all messages.
_address = lru_cache(maxsize=256)(_checked_address)
_LONGEST_KEPT = 1000


def base(text: str) -> str:
    """Returns the beginning of an address, to which its author adds from a ``/`` on; its own last ``/`` is dropped."""
    return stem(text).rstrip("/")


def stem(text: str) -> str:
    """Returns the beginning of an address, to which its author adds a query or fragment."""
    made = whole_address(text)
    if not made[:5].lower().startswith(("http:", "https")):
        raise UnsafeValue("an address that goes on in the template begins with http:// or https://")
    if "?" in made or "#" in made:
        raise UnsafeValue("an address that goes on in the template may hold no query or fragment")
    return made


def host(text: str) -> str:
    """Returns a host, perhaps with a port; an international name as its A-label (RFC 5891)."""
    if _USUAL_HOST.fullmatch(text):
        return text
    text = text.strip()
    port = _PORT.search(text)
    name = text[: port.start()] if port else text
    if port and port[1] and int(port[1]) > 65535:
        raise UnsafeValue(f'"{port[1]}" is no port')
    if name.startswith("[") and name.endswith("]"):
        from ipaddress import AddressValueError, IPv6Address

        try:
            return f"[{IPv6Address(name[1:-1]).compressed}]{text[len(name) :]}"
        except AddressValueError:
            _no_host(text)
    if len(name) > 253:
        _no_host(text)
    if not name.isascii():
        import idna

        try:
            name = idna.encode(name, uts46=True, std3_rules=True).decode("ascii")
        except idna.IDNAError:
            _no_host(text)
    if len(name) > 253 or not all(map(_is_label, name.removesuffix(".").split("."))):
        _no_host(text)
    return name + text[port.start() :] if port else name


def label(text: str) -> str:
    """Returns one label of a host, as in ``{{ … }}.skerrow.example``."""
    made = host(text)
    if not _LABEL.fullmatch(made):
        raise UnsafeValue(f'"{_quote_value(text)}" is no single label of a host', hint="it may hold no dot and no port")
    return made


def _is_label(text: str) -> bool:
    # Names in use hold underscores too, whatever RFC 1123 says of hosts.
    return _LABEL.fullmatch(text.replace("_", "x")) is not None


def _no_host(text: str) -> NoReturn:
    raise UnsafeValue(
        f'"{_quote_value(text)}" is no host', hint="write a name like skerrow.example, perhaps with a port"
    )


def segment(text: str) -> str:
    """Returns the whole of a segment of a path, or what keeps one from being empty: ``/`` is encoded too."""
    if _DOTS_ONLY.fullmatch(text):
        raise UnsafeValue(
            f'"{_quote_value(text)}" cannot be a segment of a path',
            hint="it would lead elsewhere" if text else "the value is empty",
        )
    return percent_encode(text)


def encoded_path(text: str) -> str:
    """Returns several segments of a path, encoded already."""
    for piece in text.split("/"):
        if _DOTS_ONLY.fullmatch(piece):
            raise UnsafeValue(f'"{_quote_value(text)}" holds a segment that is empty or leads elsewhere')
    return text


def percent_encode(text: str) -> str:
    """Returns a text percent-encoded whole: a piece of a segment, of a query, of a fragment."""
    return _RESERVED.sub(_percent_encoded, checked_characters(text))


def telephone(text: str) -> str:
    """Returns a telephone number (RFC 3966): digits, perhaps after a +; what only separates them is dropped, and so is
    the zero in ``+49 (0)30``."""
    within = _DIALLED_WITHIN.match(text)
    number = _BETWEEN_DIGITS.sub("", within[1] + text[within.end() :] if within else text)
    if not _TELEPHONE.fullmatch(number):
        raise UnsafeValue(f'"{_quote_value(text.strip())}" is no telephone number', hint="write +44 1632 960147")
    return number


def telephone_digits(text: str) -> str:
    """Returns what goes on with a telephone number: digits."""
    number = _BETWEEN_DIGITS.sub("", text)
    if not (number.isascii() and number.isdigit()) or len(number) > 20:
        raise UnsafeValue(f'"{_quote_value(text.strip())}" does not go on with a telephone number')
    return number


def mailboxes(text: str) -> str:
    """Returns E-mail addresses for a ``mailto:`` (RFC 6068 2), their display names dropped."""
    try:
        found = parse_mailboxes(text.strip())
    except (AddressError, HeaderError) as error:
        raise UnsafeValue(error.problem, hint=error.hint) from None
    if not found:
        raise UnsafeValue("no e-mail address")
    return ",".join(map(in_uri, found))


def mailto_field(text: str) -> str:
    """Returns the value of a header field in a ``mailto:``, which has no lines."""
    if found := _BREAKS.search(text):
        raise UnsafeValue(
            f"a line break at position {found.start()} may not stand in this field of a mailto: address",
            hint="only its body has lines",
        )
    return percent_encode(text)


def body(text: str) -> str:
    """Returns the body in a ``mailto:``: its line breaks become ``%0D%0A`` (RFC 6068 5)."""
    return percent_encode(_BREAKS.sub("\r\n", text))


def _mailto(rest: str) -> str:
    to, asked, fields = rest.partition("?")
    made = "mailto:" + (mailboxes(unquote(to)) if to else "")
    for parameter in fields.split("&"):
        if _ENCODED_CONTROL.search(parameter) and parameter.partition("=")[0].lower() != "body":
            raise UnsafeValue(
                "a line break or control character may not stand in this field of a mailto: address",
                hint="only its body has lines",
            )
    return f"{made}?{_percent(fields)}" if asked else made


def _telephone_address(scheme: str, rest: str) -> str:
    number, asked, fields = rest.partition("?")
    made = f"{scheme}:{','.join(map(telephone, number.split(',')))}"
    return f"{made}?{_percent(fields)}" if asked else made


def _percent(text: str) -> str:
    return _NOT_IN_URI.sub(_percent_encoded, text)


def _percent_encoded(found: re.Match[str]) -> str:
    return "%" + found[0].encode("utf-8").hex("%").upper()


def _quote_value(text: str) -> str:
    return text if len(text) <= 40 else text[:40] + "…"


# ---- where addresses stand ------------------------------------------------------------------------------------

_FUNCTION_ENDS = str.maketrans({c: f"%{ord(c):02X}" for c in "'()"})


def in_function(address: str) -> str:
    """Returns an address in a CSS ``url()``: what could end it is encoded."""
    return address.translate(_FUNCTION_ENDS)


def in_candidates(address: str) -> str:
    """Returns an address in a ``srcset``: commas at its ends would be read as those between addresses."""
    inner = address.strip(",")
    before, _, after = address.partition(inner) if inner else (address, "", "")
    return before.replace(",", "%2C") + inner + after.replace(",", "%2C")
