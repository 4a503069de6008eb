"""Links: the label, and the address behind it in angle brackets (RFC 3986, appendix C), or a number and a note."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal, Protocol
from urllib.parse import quote, unquote

from pribble.plaintext import characters as chars
from pribble.plaintext.blocks import Content, Paragraph
from pribble.regexes import regex

# How addresses are said: behind the label, as a numbered note, or not at all.
Form = Literal["inline", "notes", "bare"]

# Addresses that lead nowhere from a text.
_SILENT = ("#", "javascript:", "vbscript:", "cid:", "data:")
_PLAIN = regex("https?://[!-;=?-~]+")
_EXTENSION = regex(r"ext=[0-9().-]+")
_BETWEEN = regex(r"[0-9][^0-9a-z#;]*+[a-z#;][^0-9]*+[0-9]")
_DROPPED = regex("[\t\n\r]+")
_SPACES = regex(r"[\s<>\x00-\x1f\x7f\u200b\u2060\u00ad\ufeff\u034f]")
_ENDS = f" \n{chars.BOUND}{chars.PICTURED}"
_ONE_PICTURE = regex(f"{chars.PICTURE}([^{chars.PICTURE}{chars.PICTURE_END}]*){chars.PICTURE_END}")
_ONE_BRACKET = regex(r"\[([^\[\]]*)\]")


def address_of(href: str | None) -> str | None:
    """Returns the address of a link as it is written; None for one that leads nowhere from a text."""
    if href and _PLAIN.fullmatch(href):
        return href
    address = _DROPPED.sub("", href or "").strip(" \f\v\u00a0")
    if not address or address.lower().startswith(_SILENT):
        return None
    return _SPACES.sub(lambda found: quote(found[0]), address)


def with_address(label: str, href: str | None) -> str:
    """Returns a label, with its address behind it unless it is the address, and `characters.LINKED` behind that.  A
    label of nothing else than a picture is the words for it."""
    address = address_of(href)
    return label if address is None else _with(label, address, f"<{address}>{chars.LINKED}")


def with_address_apart(label: str, href: str | None) -> str:
    """Returns the same, where no word can follow directly."""
    address = address_of(href)
    return label if address is None else _with(label, address, f"<{address}>")


def _with(label: str, address: str, mark: str) -> str:
    text = label.strip(_ENDS)
    if not text:
        return label.replace(chars.PICTURED, mark, 1)
    words = _ONE_PICTURE.sub(r"\1", text) if _ONE_PICTURE.fullmatch(text) else text
    if is_the_address(words, address) or chars.is_blank(text):
        return label
    before, _, after = label.partition(text)
    return f"{before}{words} {mark}{after}"


def is_the_address(label: str, address: str) -> bool:
    """Returns whether a link's label says its address already: all of it, or without its scheme.  What an address asks
    for besides (an extension, RFC 3966 3; a subject, RFC 6068 2), the label has to say as well."""
    if " " in label and address[:4].lower() != "tel:":
        return False  # since no address has one
    said, meant = _plain_label(label), _plain_label(address)
    scheme, colon, rest = meant.partition(":")
    if scheme == "tel":
        return _is_the_number(said, rest.rstrip(";"))
    if scheme == "mailto":
        return said in (rest.removesuffix("?"), meant)
    return said in (meant, rest.removeprefix("//").removesuffix("/") if colon else meant)


def _is_the_number(said: str, meant: str) -> bool:
    number, _, parameters = meant.partition(";")
    digits = re.sub(r"[^+0-9]", "", said)
    if not parameters:
        return digits == re.sub(r"[^+0-9]", "", number) != ""
    # Of an extension the label has a word ("ext. 3"), or it would be digits of the number.
    extension = _EXTENSION.fullmatch(parameters)
    is_said = extension is not None and _BETWEEN.search(said) is not None
    return said == meant or (is_said and digits == re.sub(r"[^+0-9]", "", meant))


def _plain_label(text: str) -> str:
    return unquote(text).strip(f" \u00a0{chars.BOUND}").casefold().rstrip("/")


class _Cell:
    """The text of a cell, in the place of the paragraph that it was."""

    def __init__(self, cells: list[Content]) -> None:
        self.cells, self.index = cells, len(cells) - 1

    @property
    def text(self) -> str:
        content = self.cells[self.index]
        assert isinstance(content, str)
        return content

    @text.setter
    def text(self, given: str) -> None:
        self.cells[self.index] = given


class PlacedText(Protocol):
    """A paragraph that has been said, and may get an address behind it."""

    text: str


class Links:
    """The links of a page: those that are open, with the last paragraph said in each, and the notes so far."""

    def __init__(self, form: Form = "inline") -> None:
        self.form = form
        self.met: dict[str, None] = {}  # the addresses, for a form that leaves them out
        self.open: list[PlacedText | None] = []
        self.pictured: list[bool] = []
        self.numbers: dict[str, int] = {}
        self.explanations: set[str] = set()

    def enter(self) -> None:
        """A link begins."""
        self.open.append(None)
        self.pictured.append(False)

    def leave(self) -> tuple[PlacedText | None, bool]:
        """Ends a link; returns the last paragraph in it, and whether it had a picture without words."""
        return self.open.pop(), self.pictured.pop()

    def said(self, paragraph: Paragraph) -> None:
        """A paragraph ends in the open link."""
        self.open[-1] = paragraph

    def reduced(self, cells: list[Content]) -> None:
        """The last paragraph became the text of the last of these cells."""
        if self.open[-1] is not None:
            self.open[-1] = _Cell(cells)

    def linked(self, label: str, href: str | None) -> str:
        """Returns a label, with its address or the number of its note."""
        if self.form == "inline":
            return with_address(label, href)
        address = address_of(href)
        if address is None:
            return label
        if self.form == "bare":
            if label.strip(f" \n{chars.BOUND}"):
                self.met[address] = None
            return label + chars.LINKED
        number = self.numbers.get(address, len(self.numbers) + 1)
        made = _with(label, address, f"[{number}]{chars.LINKED}")
        if made != label:
            self.numbers[address] = number
        return made

    def linked_block(self, said: PlacedText, href: str | None) -> None:
        """The same for a label that was a block of its own."""
        words = _ONE_BRACKET.sub(r"\1", said.text) if _ONE_BRACKET.fullmatch(said.text) else said.text
        made = self.linked(words, href)
        if made != words:
            said.text = made.replace(chars.LINKED, "")

    def notes(self) -> Sequence[str]:
        """Returns the addresses by their numbers."""
        return [f"[{number}] <{address}>" for address, number in self.numbers.items()]

    def explained(self, short: str, title: str | None) -> str:
        """Returns what an abbreviation stands for, the first time that it is met."""
        long = chars.collapse_running(title or "").strip()
        if not long or long.casefold() == short.casefold() or short in self.explanations:
            return ""
        self.explanations.add(short)
        return f" ({long})"
