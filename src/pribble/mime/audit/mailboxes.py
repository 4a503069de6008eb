"""Address fields (RFC 5322 3.4, 4.4; RFC 6531; RFC 6854), token by token, with every departure and its place."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Sequence
from ipaddress import IPv4Address, IPv6Address
from itertools import pairwise
from typing import NamedTuple

import idna

from pribble.mime.audit.report import Report
from pribble.mime.fields import known_field
from pribble.mime.grammar import ENCODED_WORD_TEXT, LONGEST_DOMAIN, LONGEST_LABEL, LONGEST_LOCAL
from pribble.mime.reading import ReadField
from pribble.regexes import regex

_LEXER = regex(
    r'(?P<space>[ \t\r\n]+)|(?P<quoted>"(?:[^"\\]|\\.)*")|(?P<unclosed>".*)|(?P<comment>\()|'
    r'(?P<literal>\[[^\[\]\\]*\])|(?P<atom>[^ \t\r\n"(),.:;<>@\[\]\\]+)|(?P<special>.)',
    re.DOTALL,
)
_COMMENT_END = regex(r"[()]|\\.", re.DOTALL)
_TAG = regex(r"[A-Za-z0-9-]*[A-Za-z0-9]")
_LABEL = regex(r"[A-Za-z0-9](?:[A-Za-z0-9-]*[A-Za-z0-9])?")


class AddressToken(NamedTuple):
    """A token of an address field; the kind of a special is the character itself."""

    kind: str
    text: str
    start: int
    end: int


Member = list[AddressToken]


class Mailboxes:
    """Checks one address field."""

    def __init__(self, field: ReadField, report: Report, *, smtputf8: bool) -> None:
        self.field, self.report, self.smtputf8 = field, report, smtputf8
        self.syntax = known_field(field.key).syntax
        self._addresses: list[str] = []

    def check(self) -> list[str]:
        """Check the whole field; returns the addresses in it."""
        members = list(self._members())
        for number, member in enumerate(members):
            self._check_member(member, is_last=number == len(members) - 1)
        return self._addresses

    def _report(self, rule: str, tokens: Sequence[AddressToken], detail: object = "") -> None:
        self.report.add(rule, tokens[0].start, tokens[-1].end, detail)

    # -- lists --

    def _members(self) -> Iterator[Member]:
        """Yields the members of the list, those of groups among them."""
        group: AddressToken | None = None
        after_comma = after_group = False
        for member, separator in self._between_separators():
            after_comma &= not member
            if separator is None:
                if member:
                    yield member
                elif after_comma:
                    self.report.add_at("addresses.empty-member", self.field)
            elif separator.kind == ":" and not any(token.kind == "@" for token in member):
                self._check_group(member, separator, group)
                group = separator
            else:
                closes = separator.kind == ";" and group is not None
                self._check_separator(member, separator, closes=closes, after_group=after_group)
                if member:
                    yield member
                after_comma, after_group = separator.kind == ",", closes
                group = None if closes else group
        if group is not None:
            self._report("addresses.unclosed-group", [group])

    def _between_separators(self) -> Iterator[tuple[Member, AddressToken | None]]:
        """Yields the tokens between commas, colons and semicolons, each with the separator behind it; None behind the
        last."""
        member: Member = []
        in_angle = False
        for token in self._tokens():
            if in_angle or token.kind not in (",", ":", ";"):
                in_angle = (in_angle or token.kind == "<") and token.kind != ">"
                member.append(token)
            else:
                yield member, token
                member = []
        yield member, None

    def _check_group(self, name: Member, colon: AddressToken, around: AddressToken | None) -> None:
        """Checks that a group stands in no other, nor in From and Sender (RFC 5322 3.4, 3.6.2)."""
        if around is not None:
            self._report("addresses.nested-group", [colon])
        elif self.syntax == "mailboxes":
            self._report("addresses.group-in-from", [*name, colon], self.field.name)

    def _check_separator(self, member: Member, separator: AddressToken, *, closes: bool, after_group: bool) -> None:
        if separator.kind == ";" and not closes:
            self._report("addresses.semicolon", [separator])
        if member:
            return
        if separator.kind == "," and not after_group:
            self._report("addresses.empty-member", [separator])
        elif separator.kind == ":":
            self._report("addresses.syntax", [separator])

    def _check_member(self, member: Member, *, is_last: bool) -> None:
        angle = next((n for n, token in enumerate(member) if token.kind == "<"), None)
        if angle is not None:
            self._check_name(member[:angle])
            inside = member[angle + 1 :]
            if not inside or inside[-1].kind != ">" or any(token.kind == ">" for token in inside[:-1]):
                self._report("addresses.syntax", member)
            elif self.syntax != "path" or len(inside) > 1:
                self._check_angle(inside[:-1] or member)
        elif any(token.kind == "@" for token in member):
            self._check_addr_spec(member)
        else:
            self._report("addresses.syntax" if is_last else "addresses.comma-in-name", member)

    def _check_name(self, name: Member) -> None:
        if any(token.kind == "@" for token in name):
            self._report("addresses.at-in-name", name)
        elif any(token.kind not in ("atom", "quoted", ".") for token in name):
            self._report("addresses.syntax", name)
        elif dots := [token for token in name if token.kind == "."]:
            self._report("addresses.dot-in-name", dots)

    def _check_angle(self, inside: Member) -> None:
        if inside[0].kind == "@" and (colon := next((n for n, t in enumerate(inside) if t.kind == ":"), None)):
            self._report("addresses.route", inside[: colon + 1])
            inside = inside[colon + 1 :] or inside
        self._check_addr_spec(inside)

    # -- addr-spec --

    def _check_addr_spec(self, tokens: Member) -> None:
        ats = [n for n, token in enumerate(tokens) if token.kind == "@"]
        if ENCODED_WORD_TEXT.search("".join([token.text if token.kind == "atom" else " " for token in tokens])):
            self._report("addresses.encoded-word", tokens)
            return
        if len(ats) != 1 or any(token.kind not in ("atom", "quoted", ".", "@", "literal") for token in tokens):
            self._report("addresses.syntax", tokens)
            return
        self._addresses.append("".join(token.text for token in tokens))
        self._check_local(tokens[: ats[0]], tokens)
        self._check_domain(tokens[ats[0] + 1 :], tokens)
        if not self.smtputf8 and not all(token.text.isascii() for token in tokens):
            self._report("addresses.not-ascii", tokens)

    def _check_local(self, local: Member, whole: Member) -> None:
        words, dots = local[::2], local[1::2]
        if not local:
            self._report("addresses.syntax", whole)
        elif len(local) % 2 == 0 or any(t.kind == "." for t in words) or any(t.kind != "." for t in dots):
            neighbours = any(a.kind != "." and b.kind != "." for a, b in pairwise(local))
            self._report("addresses.syntax" if neighbours else "addresses.dots", local)
        elif any(token.kind == "literal" for token in words):
            self._report("addresses.syntax", local)
        elif (size := sum(len(token.text) for token in local)) > LONGEST_LOCAL:
            self._report("addresses.long-local", local, size)

    def _check_domain(self, domain: Member, whole: Member) -> None:
        if not domain or any(token.kind == "quoted" for token in domain):
            self._report("addresses.syntax", whole)
            return
        if domain[0].kind == "literal":
            if len(domain) > 1:
                self._report("addresses.syntax", domain)
            elif not _is_literal(domain[0].text[1:-1]):
                self._report("addresses.literal", domain)
            return
        if any(a.kind == b.kind == "atom" for a, b in pairwise(domain)):
            self._report("addresses.syntax", domain)
            return
        name = "".join(token.text for token in domain)
        if name.isascii() and any(
            len(label) > LONGEST_LABEL or not _LABEL.fullmatch(label) for label in name.split(".")
        ):
            self._report("addresses.label", domain)
        elif len(name) > LONGEST_DOMAIN:
            self._report("addresses.long-domain", domain, len(name))
        elif any(label[:4].lower() == "xn--" and not _is_a_label(label) for label in name.split(".")):
            self._report("addresses.a-label", domain)

    # -- lexical --

    def _tokens(self) -> Iterator[AddressToken]:
        """Yields the tokens without white space and comments; reports what is not closed."""
        raw, base = self.field.raw, self.field.value_start
        position = 0
        while position < len(raw):
            found = _LEXER.match(raw, position)
            assert found is not None
            kind, text, end = str(found.lastgroup), found[0], found.end()
            if kind == "comment":
                end = self._comment(position)
            elif kind != "space":
                if kind == "unclosed":
                    self.report.add("addresses.unclosed-quote", base + position, base + end)
                    kind = "quoted"
                if kind == "quoted" and ENCODED_WORD_TEXT.search(text):
                    self.report.add("addresses.encoded-word-in-quotes", base + position, base + end)
                yield AddressToken(text if kind == "special" else kind, text, base + position, base + end)
            position = end

    def _comment(self, start: int) -> int:
        """Returns where the comment ends; comments may be nested (RFC 5322 3.2.2)."""
        depth = 0
        for found in _COMMENT_END.finditer(self.field.raw, start):
            depth += (found[0] == "(") - (found[0] == ")")
            if not depth:
                return found.end()
        base = self.field.value_start
        self.report.add("addresses.unclosed-comment", base + start, base + len(self.field.raw))
        return len(self.field.raw)


def _is_literal(inside: str) -> bool:
    """Returns whether what stands in the brackets of a domain literal is an address of the net (RFC 5321 4.1.3)."""
    tag, colon, address = inside.strip(" \t").partition(":")
    try:
        if not colon:
            IPv4Address(tag)
        elif tag.lower() == "ipv6":
            IPv6Address(address)
        else:  # a tag that was registered since
            return bool(_TAG.fullmatch(tag) and address)
    except ValueError:
        return False
    return True


def _is_a_label(label: str) -> bool:
    """Returns whether a label that says that it is one is an A-label (RFC 5890 2.3.2.1), or of those with pictographs,
    which are none and in use."""
    try:
        try:
            idna.ulabel(label.lower())
        except idna.IDNAError:
            return any(unicodedata.category(c) == "So" for c in label[4:].encode("ascii").decode("punycode"))
    except UnicodeError:
        return False
    return True
