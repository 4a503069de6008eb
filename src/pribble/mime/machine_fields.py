"""Fields that machines read: automatic mail (RFC 3834), ways off a list (RFC 2369, 8058), importance, language, and a
signature that others make."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from pribble.errors import HeaderError
from pribble.mime.grammar import FIELD_NAME, LANGUAGE, LONGEST_LINE, URI
from pribble.mime.header import checked, write_field
from pribble.regexes import regex

AutoSubmitted = Literal["no", "auto-generated", "auto-replied"]
Importance = Literal["high", "normal", "low"]
AUTO_SUBMITTED: tuple[AutoSubmitted, ...] = ("no", "auto-generated", "auto-replied")  # RFC 3834 5
IMPORTANCE: tuple[Importance, ...] = ("high", "normal", "low")  # RFC 2156 5.3.4, registered by RFC 4021 2.1.54
ONE_CLICK = "List-Unsubscribe=One-Click"  # RFC 8058 3.1
_SCHEMES = ("https", "http", "mailto")

_SIGNED = regex(rb"(?:[\x21-\x39\x3b-\x7e]++:[^\r\n]*+\r\n(?:[ \t][^\r\n]*+\r\n)*+)++")


def one_of(field: str, value: str, known: Sequence[str]) -> bytes:
    """Returns a field that has one of few values; raises `HeaderError` for another."""
    if value not in known:
        shown = checked(field, str(value))
        raise HeaderError(f'{field}: "{shown[:60]}" is none of its values', hint=f"it is {', '.join(known)}")
    return write_field(field, value)


def unsubscribe_fields(addresses: Sequence[str], *, one_click: bool) -> bytes:
    """List-Unsubscribe (RFC 2369 3.2) and, where one request is to do, the field that says so (RFC 8058 3.1).

    Raises `HeaderError` for what is no URI, and for a single request without exactly one ``https:`` address.
    """
    field = "List-Unsubscribe"
    for address in addresses:
        if not URI.fullmatch(checked(field, address)) or address.partition(":")[0].lower() not in _SCHEMES:
            raise HeaderError(
                f'{field}: "{address[:60]}" is no address of the kinds https:, http: and mailto:',
                hint="what is not ASCII, and a space, is percent-encoded",
            )
    secure = [address for address in addresses if address.lower().startswith("https:")]
    if one_click and len(secure) != 1:
        raise HeaderError(
            f"{field}: one https: address is asked for, {len(secure)} are given",
            hint="a single request says nothing of which one to use (RFC 8058 3.1)",
        )
    if not addresses:
        return b""
    fields = write_field(
        field, *(f"<{address}>{',' * (number < len(addresses))}" for number, address in enumerate(addresses, 1))
    )
    return fields + (write_field("List-Unsubscribe-Post", ONE_CLICK) if one_click else b"")


def language_field(languages: Sequence[str]) -> bytes:
    """Content-Language (RFC 3282 2), of tags such as ``en`` and ``de-CH`` (RFC 5646); an underscore, as locales have
    one, is a hyphen."""
    tags = [checked("Content-Language", language).replace("_", "-") for language in languages]
    for tag in tags:
        if not LANGUAGE.fullmatch(tag):
            raise HeaderError(f'Content-Language: "{tag[:60]}" is no language', hint='one is written "en" or "de-CH"')
    return write_field(
        "Content-Language", *(f"{tag}{',' * (number < len(tags))}" for number, tag in enumerate(tags, 1))
    )


def signature(made: object) -> bytes:
    """Returns what a signer returned, if it can stand before a message: whole header fields; raises `HeaderError`
    else."""
    if not isinstance(made, bytes) or not _SIGNED.fullmatch(made):
        raise HeaderError(
            "sign: what the signer returned is no header field",
            hint=r"it returns bytes: name, colon, value, and CRLF at the end of each line",
        )
    name = FIELD_NAME.match(made.decode("latin-1"))
    if any(len(line) > LONGEST_LINE for line in made.split(b"\r\n")):
        raise HeaderError(f"sign: the field {name[0] if name else ''} has a line of more than {LONGEST_LINE} octets")
    return made
