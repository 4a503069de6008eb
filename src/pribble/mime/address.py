"""Mailboxes (RFC 5322 3.4, RFC 6531, RFC 6532): read, checked, and ready to be written."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from typing import NoReturn
from urllib.parse import quote

from pribble.errors import AddressError, HeaderError
from pribble.mime.grammar import (
    ATOM,
    DOMAIN_LITERAL,
    LONGEST_DOMAIN,
    LONGEST_LOCAL,
    LONGEST_PATH,
    QUOTED,
    USUAL_ADDRESS,
)
from pribble.mime.header import checked, quoted_string
from pribble.records import record
from pribble.regexes import regex

_USUAL = regex(USUAL_ADDRESS)
# The same behind a name of words, or alone.
_USUAL_MAILBOX = regex(rf"(?:({ATOM.pattern}(?: {ATOM.pattern})*+) <({USUAL_ADDRESS})>|({USUAL_ADDRESS}))")
# Of the reserved characters of a URI, those that RFC 6068 2 lets stand in an address as they are, but for the comma.
_BARE = "!$'*+"


@record(frozen=True, slots=True)
class Address:
    """A mailbox: a display `name`, or "", and an `addr` like ``ana@example.org``.

    The domain is kept as its A-label (RFC 5890).  Raises `AddressError` for an address that no server can take, and
    `HeaderError` for a line break or another control character in either.
    """

    name: str
    addr: str

    def __post_init__(self) -> None:
        checked("a display name", self.name)
        if isinstance(self.addr, str) and _USUAL.fullmatch(self.addr):
            return
        checked("an address", self.addr)
        local, domain = _AddressParser(self.addr).whole_addr_spec()
        object.__setattr__(self, "addr", f"{local}@{domain}")

    @property
    def domain(self) -> str:
        """The domain, in ASCII."""
        return self.addr.rpartition("@")[2]

    @property
    def needs_smtputf8(self) -> bool:
        """Whether only servers that speak SMTPUTF8 can take it (RFC 6531): its local part is not ASCII."""
        return not self.addr.isascii()

    def __str__(self) -> str:
        if not self.name:
            return self.addr
        plain = all(ATOM.fullmatch(word) for word in self.name.split(" "))
        return f"{self.name if plain else quoted_string(self.name)} <{self.addr}>"


@record(frozen=True, slots=True, init=False)
class Group:
    """Mailboxes under one `name` (RFC 5322 3.4), for To, Cc and Reply-To; a group may have no `members`.

    Raises `AddressError` and `HeaderError` for a name or members that cannot be written.
    """

    name: str
    members: AddressList

    def __init__(self, name: str, members: Recipients = ()) -> None:
        if not checked("a group's name", name).strip():
            raise AddressError("a group needs a name")
        object.__setattr__(self, "name", name)
        object.__setattr__(self, "members", recipients(members, "a group", groups=False))

    def __str__(self) -> str:
        return f"{quoted_string(self.name)}: {', '.join(map(str, self.members))};"


class AddressList(tuple[Address, ...]):
    """The mailboxes of an address field, those in groups among them; `entries` are those and the groups as named."""

    entries: tuple[Address | Group, ...]

    def __new__(cls, entries: Iterable[Address | Group] = ()) -> AddressList:
        kept = tuple(entries)
        made = super().__new__(cls, members(kept))
        made.entries = kept
        return made


def in_uri(address: Address) -> str:
    """Returns an address as it stands in a ``mailto:`` (RFC 6068 2), where a comma is between two of them."""
    local, _, domain = address.addr.rpartition("@")
    return f"{quote(local, safe=_BARE)}@{quote(domain, safe=_BARE)}"


# One mailbox: as text, as an `Address`, or as a pair of name and address.
Mailbox = str | Address | tuple[str, str]
Recipient = Mailbox | Group
# What an address field takes.  No bare tuple: two strings could be a name and an address, or two addresses.
Recipients = str | Address | Group | Iterable[Recipient]


def recipients(given: Recipients, field: str, *, groups: bool = True) -> AddressList:
    """Returns what a caller gave for a field that may name several: a string, an `Address`, a `Group`, or a list of
    these and of pairs of name and address; with no `groups`, mailboxes alone.

    Each string is one mailbox.  Raises `AddressError` or `HeaderError`, both naming `field`, and `TypeError` for a bare
    tuple that holds anything but `Address` and `Group` objects, and for what is none of these.
    """
    if given.__class__ is tuple and not given:
        return NOBODY
    if isinstance(given, AddressList):
        found = given
    elif isinstance(given, (str, Address, Group)):
        found = AddressList((_recipient(given, field),))
    else:
        if given.__class__ is not list:  # what nearly all give
            _check_several(given, field)
        found = AddressList([_recipient(one, field) for one in given])
    if not groups:
        for one in found.entries:
            if isinstance(one, Group):
                raise _no_group(field)
    return found


def _check_several(given: object, field: str) -> None:
    """Raise `TypeError` for what is no collection of recipients."""
    if isinstance(given, tuple) and not all(isinstance(one, Address | Group) for one in given):
        raise TypeError(
            f"{field}: a bare tuple is not taken, as two strings could be a name and an address or two addresses; "
            "write Address(name, addr) for one mailbox, and a list for several: [(name, addr), …]"
        )
    if not isinstance(given, Iterable) or isinstance(given, bytes | Mapping):
        raise TypeError(f"{field}: recipients are a string, an Address, a Group or a list, not {type(given).__name__}")


def mailbox(given: Mailbox, field: str) -> Address:
    """Returns the one mailbox that a field has: a string, an `Address`, or a pair of name and address."""
    found = _recipient(given, field)
    if isinstance(found, Group):
        raise _no_group(field)
    return found


def _no_group(field: str) -> AddressError:
    return AddressError(f"{field}: a group has no place here", hint="groups stand in To, Cc and Reply-To")


def members(found: Iterable[Address | Group]) -> Iterator[Address]:
    """Yields the mailboxes of a field, those in groups among them."""
    for one in found:
        if isinstance(one, Group):
            yield from one.members
        else:
            yield one


NOBODY = AddressList()


def _recipient(given: object, field: str) -> Address | Group:
    if isinstance(given, (Address, Group)):
        return given
    if isinstance(given, str):
        checked(field, given)
    elif not (isinstance(given, tuple) and len(given) == 2 and isinstance(given[0], str) and isinstance(given[1], str)):
        raise TypeError(
            f"{field}: a mailbox is a string, an Address or a pair (name, address) of strings, not {_describe(given)}"
        )
    try:
        return parse_mailbox(given) if isinstance(given, str) else Address(*given)
    except AddressError as error:
        raise AddressError(f"{field}: {error.problem}", hint=error.hint) from None
    except HeaderError:  # of a pair: which field it is for, it does not know
        for text in given:
            checked(field, text)
        raise


def _describe(given: object) -> str:
    return f"a tuple of {len(given)}" if isinstance(given, tuple) else type(given).__name__


@lru_cache(256)  # the sender is always the same
def parse_mailbox(text: str) -> Address:
    """Returns the one mailbox that `text` is; raises `AddressError` for none, for several, and for a group."""
    if usual := _USUAL_MAILBOX.fullmatch(text):
        return Address(usual[1] or "", usual[2] or usual[3])
    found = parse_list(text)
    one = found[0] if found else None
    if len(found) == 1 and isinstance(one, Address):
        return one
    if any(isinstance(each, Group) for each in found):
        raise AddressError(
            f'"{_quote_for_error(text)}" is a group where an address is asked for',
            hint="give a group as Group(name, members)",
        )
    raise AddressError(
        f'"{_quote_for_error(text)}" holds {len(found)} addresses where one is asked for',
        hint="give several as a list" if found else None,
    )


def parse_mailboxes(text: str) -> list[Address]:
    """Returns the mailboxes of a list (RFC 5322 3.4), those in groups included; raises `AddressError` with the
    position."""
    return list(members(parse_list(text)))


def parse_list(text: str) -> list[Address | Group]:
    """Returns the mailboxes and groups of a list (RFC 5322 3.4); raises `AddressError` with the position."""
    return list(_AddressParser(text).address_list())


def _quote_for_error(text: str) -> str:
    return text if len(text) <= 60 else text[:60] + "…"


@lru_cache(maxsize=1024)
def _a_label(domain: str) -> str:
    import idna

    return idna.encode(domain, uts46=True, std3_rules=True).decode("ascii")


class _AddressParser:
    """Reads addresses from left to right; every method leaves `position` behind what it read."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.position = 0

    def _fail(self, problem: str, hint: str | None = None, at: int | None = None) -> NoReturn:
        position = self.position if at is None else at
        raise AddressError(f'{problem} at position {position} of "{_quote_for_error(self.text)}"', hint=hint)

    # -- lists --

    def address_list(self) -> Iterator[Address | Group]:
        self._space()
        while self.position < len(self.text):
            if self._takes(","):  # an empty member (RFC 5322 4.4)
                self._space()
                continue
            yield self._mailbox_or_group()
            self._space()
            if self.position < len(self.text) and not self._takes(","):
                self._fail("a comma is missing", "a name that holds , ; : @ < > or ( ) is put in quotes")
            self._space()

    def _mailbox_or_group(self, *, in_group: bool = False) -> Address | Group:
        start = self.position
        words = self._phrase()
        self._space()
        following = self.text[self.position : self.position + 1]
        if following == "<":
            name = " ".join(words)
            return Address(name, self._angle())
        # RFC 5322 3.4 has no group within a group.
        if following == ":" and words and not in_group:
            self.position += 1
            return Group(" ".join(words), tuple(self._group()))
        # What was read as a name was a local part: it is read again, by the rules of an addr-spec.
        if following == "@" or (not words and following):
            self.position = start
            return Address("", "@".join(self._addr_spec()))
        if following == "," and words:
            self._fail(
                f'"{_quote_for_error(" ".join(words))}" is no address',
                'is it a name with a comma? Put the name in quotes: "Bell, Ana" <ana@example.org>',
                at=start,
            )
        return self._fail(
            f'"{_quote_for_error(" ".join(words))}" is no address' if words else "an address is missing",
            "an address has a local part, an @ and a domain",
            at=start,
        )

    def _group(self) -> Iterator[Address]:
        self._space()
        while not self._takes(";"):
            if self.position >= len(self.text):
                self._fail("the group is not closed", 'a group ends with ";"')
            if not self._takes(","):
                one = self._mailbox_or_group(in_group=True)
                assert isinstance(one, Address)  # a group in a group has failed
                yield one
            self._space()

    def _angle(self) -> str:
        self.position += 1
        self._space()
        while self._takes("@"):  # a source route (RFC 5322 4.4), which means nothing any more
            self._domain()
            self._space()
            if not self._takes(",") and not self._takes(":"):
                self._fail("a route is not closed", 'a route ends with ":"')
            self._space()
        local, domain = self._addr_spec()
        self._space()
        if not self._takes(">"):
            self._fail("the address is not closed", 'a ">" is missing')
        return f"{local}@{domain}"

    # -- addr-spec --

    def whole_addr_spec(self) -> tuple[str, str]:
        """Returns the local part and A-label domain that the text consists of."""
        self._space()
        local, domain = self._addr_spec()
        self._space()
        if self.position < len(self.text):
            self._fail("the address goes on", "an address holds no spaces; several are given as a list")
        return local, domain

    def _addr_spec(self) -> tuple[str, str]:
        start = self.position
        local = self._local_part()
        self._space()
        if not self._takes("@"):
            self._fail(f'"{_quote_for_error(self.text[start:].strip())}" is no address', "an @ is missing", at=start)
        self._space()
        domain = self._domain()
        if len(local.encode("utf-8")) > LONGEST_LOCAL:
            self._fail(f"a local part of more than {LONGEST_LOCAL} octets", at=start)
        # The path adds two angle brackets, and the address its @ (RFC 5321 4.5.3.1.3).
        if len(local.encode("utf-8")) + len(domain) + 3 > LONGEST_PATH:
            self._fail(f"an address of more than {LONGEST_PATH - 2} octets", at=start)
        return local, domain

    def _local_part(self) -> str:
        """Returns atoms and quoted strings joined by dots; a quoted string stays one only where it must."""
        words = []
        while True:
            self._space()
            if self.text.startswith('"', self.position):
                content = self._quoted()
                # RFC 5322 3.4.1 asks for the form without quotes where there is one; both name the same mailbox.
                words.append(content if ATOM.fullmatch(content) else quoted_string(content))
            elif found := ATOM.match(self.text, self.position):
                # RFC 6532 3.1 recommends NFC, and servers compare octets.
                words.append(unicodedata.normalize("NFC", found[0]))
                self.position = found.end()
            else:
                self._fail(
                    "a local part is missing" if not words else "a dot too many in the local part",
                    "write a local part with dots at its ends or in a row in quotes"
                    if words
                    else "an address has a local part, an @ and a domain",
                )
            self._space()
            if not self._takes("."):
                return ".".join(words)

    def _domain(self) -> str:
        self._space()
        start = self.position
        # An address of the net in brackets, as [192.0.2.1] (RFC 5321 4.1.3).
        if found := DOMAIN_LITERAL.match(self.text, start):
            self.position = found.end()
            return re.sub(r"[ \t]", "", found[0])
        labels = []
        while found := ATOM.match(self.text, self.position):
            labels.append(found[0])
            self.position = found.end()
            self._space()
            # IDNA takes the ideographic and the fullwidth full stop for a dot (RFC 3490 3.1, UTS 46 2.3).
            if not self.text.startswith((".", "。", "．"), self.position):
                break
            self.position += 1
            self._space()
        return self._ascii_domain(".".join(labels), start)

    def _ascii_domain(self, domain: str, start: int) -> str:
        """Returns the domain's A-label (RFC 5891, UTS 46); raises where a label is empty, too long or not permitted."""
        if not domain:
            self._fail("a domain is missing", "an address ends with a domain: example.org", at=start)
        try:
            encoded = _a_label(domain)
        except UnicodeError as error:  # what idna raises is one
            reason = str(error).rstrip(".")
            self._fail(f'"{_quote_for_error(domain)}" is no domain ({reason[:1].lower()}{reason[1:]})', at=start)
        if len(encoded) > LONGEST_DOMAIN:
            self._fail(f"a domain of more than {LONGEST_DOMAIN} octets", at=start)
        return encoded

    # -- lexical --

    def _phrase(self) -> list[str]:
        """Returns the words of a display name, also with the bare dots that older mail has (RFC 5322 4.1)."""
        words: list[list[str]] = []  # each in its pieces
        glued = False
        while self.position < len(self.text):
            if self.text.startswith('"', self.position):
                word = self._quoted()
            elif found := ATOM.match(self.text, self.position):
                word, self.position = found[0], found.end()
            # "John Q. Public" without quotes is obsolete syntax and very common (RFC 5322 4.1, obs-phrase).
            elif self.text.startswith(".", self.position) and words:
                word, self.position, glued = ".", self.position + 1, True
            else:
                break
            if glued and words:
                words[-1].append(word)
            else:
                words.append([word])
            before = self.position
            self._space()
            glued = self.position == before
        return ["".join(word) for word in words]

    def _quoted(self) -> str:
        found = QUOTED.match(self.text, self.position)
        if found is None:
            self._fail("a quoted string is not closed", "a '\"' is missing")
        self.position = found.end()
        return re.sub(r"\\(.)", r"\1", found[0][1:-1])

    def _space(self) -> None:
        """White space and comments, which may be nested (RFC 5322 3.2.2)."""
        while self.position < len(self.text):
            if self.text[self.position] in " \t\r\n":
                self.position += 1
            elif self.text[self.position] == "(":
                self._comment()
            else:
                return

    def _comment(self) -> None:
        start, depth = self.position, 0
        while self.position < len(self.text):
            character = self.text[self.position]
            # A backslash quotes one character, also a parenthesis (RFC 5322 3.2.1).
            self.position += 2 if character == "\\" else 1
            depth += (character == "(") - (character == ")")
            if not depth:
                return
        self._fail("a comment is not closed", 'a ")" is missing', at=start)

    def _takes(self, character: str) -> bool:
        if self.text.startswith(character, self.position):
            self.position += 1
            return True
        return False
