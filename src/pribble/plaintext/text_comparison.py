"""What the two forms of a message say differently: words, numbers and addresses that one of them lacks."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable

from pribble.records import record
from pribble.regexes import regex

_ADDRESS = regex(
    r"(?:[a-z][a-z0-9+.-]{1,20}://|mailto:|tel:|www\.)[^\s<>\"]+"
    r"|[\w.!#$%&'*+/=?^`{|}~-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63})+",
    re.IGNORECASE,
)
_CLOSING = ".,;:!?)]}»”’'\""
_NUMBER = regex("[0-9]{1,3}(?:[ '’\u00a0\u202f][0-9]{3})+(?![0-9])(?:[.,][0-9]+)?|[0-9]+(?:[.,][0-9]+)*")
# The number of an item in a list, which is none that is said.
_LISTED = regex("(?m)^[ >]*[0-9]{1,3}[.)] ")
_TELEPHONE = regex("[+(]?[0-9][0-9 ()/\u00a0.-]{4,30}[0-9]")
_BETWEEN_DIGITS = regex("[ '’\u00a0\u202f]")
# A word; of scripts that put no spaces between words, each character.
_UNSPACED = "\u2e80-\u9fff\uf900-\ufaff\U00020000-\U0003fffd\u0e01-\u0e5b"
_WORD = regex(rf"[{_UNSPACED}]|(?:(?![{_UNSPACED}])[^\W\d_])+(?:['’-][^\W\d_]+)*")


@record(frozen=True, slots=True)
class MissingContent:
    """What the text lacks of the HTML, and the HTML of the text, each in the order of its first place."""

    text: tuple[str, ...] = ()
    html: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.text or self.html)


@record(frozen=True, slots=True)
class TextDifferences:
    """The words, numbers and addresses that one form of a message lacks of the other; false where there is none."""

    words: MissingContent = MissingContent()
    numbers: MissingContent = MissingContent()
    addresses: MissingContent = MissingContent()

    def __bool__(self) -> bool:
        return bool(self.words or self.numbers or self.addresses)

    def __str__(self) -> str:
        lines = []
        for name, lack in (("words", self.words), ("numbers", self.numbers), ("addresses", self.addresses)):
            lines += [
                f"the {form} lacks the {name}: {', '.join(lacking)}"
                for form, lacking in (("text", lack.text), ("HTML", lack.html))
                if lacking
            ]
        return "\n".join(lines) or "both forms say the same"


def compare_texts(said: str, addresses: Iterable[str], text: str) -> TextDifferences:
    """Returns the drift between what a page says, without the addresses of its links, which are given, and a text."""
    linked = [*addresses]
    telephones = {_digits(address) for address in linked if address.lower().startswith("tel:")}
    page, plain = _Said(said, linked, telephones), _Said(text, (), telephones)
    return TextDifferences(
        _missing(page.words, plain.words),
        _missing(page.numbers, plain.numbers),
        _missing(page.addresses, plain.addresses),
    )


class _Said:
    """What a text says: each word, number and address by what it is compared by, as it is written.  A telephone number
    that one form has as a link is an address in both."""

    def __init__(self, text: str, addresses: Iterable[str], telephones: set[str]) -> None:
        text = unicodedata.normalize("NFKC", text.replace("\u00ad", ""))
        written = [found[0].rstrip(_CLOSING) for found in _ADDRESS.finditer(text)]
        rest = _ADDRESS.sub(" ", text)
        for found in _TELEPHONE.finditer(rest):
            if _digits(found[0]) in telephones:
                written.append(f"tel:{found[0]}")
                rest = rest.replace(found[0], " ")
        rest = _LISTED.sub("", rest)
        self.addresses = _first_pairs((_address(address), address) for address in (*addresses, *written))
        self.numbers = _first_pairs((_BETWEEN_DIGITS.sub("", found[0]), found[0]) for found in _NUMBER.finditer(rest))
        self.words = _first_pairs((found[0].casefold().replace("’", "'"), found[0]) for found in _WORD.finditer(rest))


def _digits(text: str) -> str:
    return re.sub("[^0-9]", "", text)


def _first_pairs(pairs: Iterable[tuple[str, str]]) -> dict[str, str]:
    found: dict[str, str] = {}
    for key, shown in pairs:
        found.setdefault(key, shown)
    return found


def _address(written: str) -> str:
    """Returns an address as it is compared: without what a reader would add or leave out."""
    address = written.rstrip("/")
    scheme, colon, rest = address.partition(":")
    if colon and scheme.lower() == "mailto":
        return rest.partition("?")[0].casefold()
    if colon and scheme.lower() == "tel":
        return f"tel:{_digits(rest)}"
    if "@" in address and "://" not in address:
        return address.casefold()
    host, slash, path = rest.removeprefix("//").partition("/") if colon else address.partition("/")
    return f"{scheme.lower() if colon else 'https'}://{host.casefold()}{slash}{path}"


def _missing(page: dict[str, str], text: dict[str, str]) -> MissingContent:
    return MissingContent(
        tuple(shown for key, shown in page.items() if key not in text),
        tuple(shown for key, shown in text.items() if key not in page),
    )
