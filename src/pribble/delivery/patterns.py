"""Patterns of addresses and texts: marks of the template language within them, filled from a row.

A pattern of addresses is parsed before anything is put into it: what stands outside the marks says where a mailbox ends
and what is a name.  So no value moves a boundary or adds a recipient.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any

from pribble.errors import AddressError, DataError, Place, PribbleError, Source, TemplateError
from pribble.language.marks import Literal, cut_marks
from pribble.mime.address import Address
from pribble.records import record
from pribble.template import Template

# What stands around a mark's value, so that an empty one is a text like others.
_EDGE = "|"


@record(frozen=True, slots=True)
class FilledMark:
    """A mark of a pattern, at `place`, as a template of its own."""

    template: Template
    place: Place

    def value(self, row: Any) -> str:
        """Returns what the mark comes to for a row.  Raises `DataError` with the mark's place."""
        try:
            found = self.template.render(row).subject
        except PribbleError as error:
            raise DataError(error.problem, place=self.place, hint=error.hint) from None
        assert found is not None
        return found[len(_EDGE) : -len(_EDGE)].strip()


# A literal text, or a mark.
Piece = str | FilledMark


class TextPattern:
    """A text with marks: ``season {{ year }}``.  Raises `TemplateError` for a mark that is none."""

    def __init__(self, text: str, name: str) -> None:
        self.name = name
        self.source = Source(name, text)
        self._pieces = [piece for piece, _ in _pieces(self.source)]

    def text(self, row: Any) -> str:
        """Returns the text for a row.  Raises what rendering raises, with a place in the pattern."""
        return _filled(self._pieces, row)

    @property
    def has_marks(self) -> bool:
        """Whether the text depends on the row."""
        return any(not isinstance(piece, str) for piece in self._pieces)


_IF, _ELSE = '{{ "yes" if (', ') else "" }}'


class Condition:
    """A condition of the template language: ``berth.pier != 'C'``.  Raises `TemplateError` for what is none."""

    def __init__(self, text: str, name: str) -> None:
        self._source = Source(name, text)
        if "{{" in text or "}}" in text:
            raise TemplateError("a condition has no marks", place=self._source.place(0, len(text)))
        try:
            self._pattern = TextPattern(f"{_IF}{text}{_ELSE}", name)
        except TemplateError as error:
            problem = re.sub(r'^"\)" where', "it ends where", error.problem)  # the bracket is ours
            raise TemplateError(problem, place=self._place_of(error), hint=error.hint) from None

    def holds(self, row: Any) -> bool:
        """Returns whether it holds for a row.  Raises what rendering raises, with a place in the condition."""
        try:
            return bool(self._pattern.text(row))
        except PribbleError as error:
            raise DataError(error.problem, place=self._place_of(error), hint=error.hint) from None

    def _place_of(self, error: PribbleError) -> Place:
        return _brought_back(error, -len(_IF), self._source.place(0, len(self._source.text)))


@record(frozen=True, slots=True)
class _Mailbox:
    """One mailbox of a pattern: the pieces of its name, and of its address, which stands at `place`."""

    name: Sequence[Piece]
    address: Sequence[Piece]
    place: Place

    def check(self) -> None:
        """Raise `TemplateError` for an address that is none, whatever the row: it has no marks."""
        if all(isinstance(piece, str) for piece in self.address):
            try:
                Address("", _filled(self.address, None).strip())
            except AddressError as error:
                raise TemplateError(error.problem, place=self.place, hint=error.hint) from None


class AddressPattern:
    """Mailboxes with marks: ``{{ name? }} <{{ mail }}>, office@skerrow.example``.

    Raises `TemplateError` for what is no list of mailboxes.
    """

    def __init__(self, text: str, name: str) -> None:
        self.name = name
        self.source = Source(name, text)
        self._mailboxes = list(_mailbox_patterns(self.source))
        if not self._mailboxes:
            raise TemplateError("a mailbox is missing", place=self.source.place(0, len(text)))
        for mailbox in self._mailboxes:
            mailbox.check()

    def addresses(self, row: Any) -> list[Address]:
        """Returns the mailboxes for a row, without those whose address is empty; raises `AddressError` for one that is
        none, and what rendering raises."""
        found = []
        for mailbox in self._mailboxes:
            addr = _filled(mailbox.address, row).strip()
            if addr:
                try:
                    found.append(Address(_filled(mailbox.name, row).strip(), addr))
                except AddressError as error:
                    raise AddressError(f"{self.name}: {error.problem}", hint=error.hint) from None
        return found


class AddressColumn:
    """The column of a table that holds an address, one in each row."""

    def __init__(self, column: str, name: str) -> None:
        self.name, self._column = name, column

    def addresses(self, row: Any) -> list[Address]:
        """Returns the address of a row; none where its cell is empty.  Raises `AddressError` for what is none."""
        value = row[self._column]
        text = "" if value is None else str(value).strip()
        try:
            return [Address("", text)] if text else []
        except AddressError as error:
            hint = f"a name goes beside it: {self.name} '{{{{ name }}}} <{{{{ {self._column} }}}}>'"
            raise AddressError(f"{self.name}: {error.problem}", hint=error.hint or hint) from None


def _filled(pieces: Sequence[Piece], row: Any) -> str:
    return "".join([piece if isinstance(piece, str) else piece.value(row) for piece in pieces])


def _brought_back(error: PribbleError, by: int, within: Place) -> Place:
    """Returns where an error about a text that was put into another one stands: moved `by` so much, and `within` where
    the text is written."""
    if error.place is None:
        return within
    start = min(max(error.place.start + by, within.start), within.end)
    return within.source.place(start, min(max(error.place.end + by, start), within.end))


def _pieces(source: Source) -> Iterator[tuple[Piece, int]]:
    """Returns the pieces of a pattern, and where each begins."""
    for piece in cut_marks(source, html=False):
        written = source.text[piece.start : piece.end]
        if isinstance(piece, Literal):
            yield written, piece.start
        else:
            before = f"{{{{ subject: }}}}{_EDGE}"
            try:
                template = Template.from_text(f"{before}{written}{_EDGE}{{{{ :subject }}}}", name=f"{source.name}.txt")
            except PribbleError as error:
                place = _brought_back(error, piece.start - len(before), source.place(piece.start, piece.end))
                raise TemplateError(error.problem, place=place, hint=error.hint) from None
            yield FilledMark(template, source.place(piece.start, piece.end)), piece.start


def _mailbox_patterns(source: Source) -> Iterator[_Mailbox]:
    """Returns the mailboxes of a pattern: divided by commas outside quotes and marks."""
    reader = _Reader(source)
    for piece, start in _pieces(source):
        if isinstance(piece, str):
            for offset, character in enumerate(piece):
                if (made := reader.read(character, start + offset)) is not None:
                    yield made
        else:
            reader.current.append(piece)
    if (made := reader.end(len(source.text))) is not None:
        yield made


class _Reader:
    """Reads a list of mailboxes character by character; a mark is one piece, whatever it comes to."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self._begin(0)

    def _begin(self, start: int) -> None:
        self.current: list[Piece] = []
        self._name: list[Piece] | None = None  # what stood before the angle bracket
        self._start = start
        self._quoted = self._escaped = self._closed = False

    def read(self, character: str, at: int) -> _Mailbox | None:
        """Take one character of the author's; returns the mailbox that it ends."""
        if self._quoted:
            if self._escaped or character not in '"\\':
                self.current.append(character)
                self._escaped = False
            elif character == "\\":
                self._escaped = True
            else:
                self._quoted = False
                if self._name is not None or not self._is_name_ahead(at):
                    self.current.append(character)
            return None
        if character == ",":
            made = self.end(at)
            self._begin(at + 1)
            return made
        if self._closed and not character.isspace():
            raise self._wrong("something stands behind the mailbox", at)
        if character == '"':
            self._quoted = True
            if self._name is not None or not self._is_name_ahead(at):
                self.current.append(character)
        elif character == "<":
            if self._name is not None:
                raise self._wrong("a mailbox has one <", at)
            self._name, self.current = self.current, []
        elif character == ">":
            if self._name is None:
                raise self._wrong("this > has no <", at)
            self._closed = True
        elif character in ";:()":
            raise self._wrong(f'"{character}" is put in quotes', at)
        else:
            self.current.append(character)
        return None

    def _is_name_ahead(self, at: int) -> bool:
        """Returns whether a quoted text is a name: an address in angle brackets follows before the next comma."""
        rest = self._source.text[at:]
        bracket, comma = rest.find("<"), rest.find(",")
        return bracket >= 0 and (comma < 0 or bracket < comma or '"' in rest[comma:bracket])

    def end(self, at: int) -> _Mailbox | None:
        if self._quoted or (self._name is not None and not self._closed):
            raise self._wrong("a quote is not closed" if self._quoted else "this mailbox has no >", at)
        place = self._source.place(self._start, at)
        if (
            self._name is None
            and not "".join(piece if isinstance(piece, str) else "x" for piece in self.current).strip()
        ):
            return None
        return _Mailbox(_joined(self._name or []), _joined(self.current), place)

    def _wrong(self, words: str, at: int) -> TemplateError:
        return TemplateError(words, place=self._source.place(at, at + 1))


def _joined(pieces: Sequence[Piece]) -> list[Piece]:
    """Returns the pieces with the author's characters put together, and no space around."""
    joined: list[Piece] = []
    for piece in pieces:
        if joined and isinstance(piece, str) and isinstance(joined[-1], str):
            joined[-1] += piece
        else:
            joined.append(piece)
    return joined
