"""A linked source: a template with its layouts and parts as one string in which every mark is one private-use
character.

Layouts and parts are put in place, names are resolved, and what is left is a string with characters of
planes 15 and 16 that index a list of marks.  Whoever scans the string as HTML needs no word of the
template language, and every pass over it is a list of edits at offsets.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator

from pribble.errors import LimitReached, Place, Related, Source
from pribble.language.expressions import Binding, Expression
from pribble.limits import Limits
from pribble.records import field, record

FIRST_MARK = 0xF0000
MOST_MARKS = 20_000
_PLANE_15_ENDS = 0xFFFFD  # U+FFFFE and U+FFFFF are no characters


def is_mark(character: str) -> bool:
    """Returns whether `character` stands for a mark in a linked source."""
    return character >= "\U000f0000"


def mark_index(character: str) -> int:
    """Returns the index in `LinkedSource.marks` of the mark that `character` stands for."""
    code = ord(character)
    return code - FIRST_MARK if code <= _PLANE_15_ENDS else code - FIRST_MARK - 2


def _character(index: int) -> str:
    code = FIRST_MARK + index
    return chr(code if code <= _PLANE_15_ENDS else code + 2)


# The roles a mark can have; `markup/` sees nothing else of it.
SHOW, OPEN, BRANCH, CLOSE, SET, EXTRACTED, LITERAL = "show", "open", "branch", "close", "set", "extracted", "literal"


@record(frozen=True, slots=True)
class Loop:
    """What an opened ``for`` binds."""

    items: Expression
    names: tuple[Binding, ...]
    at: Binding | None


@record(frozen=True, slots=True)
class Marker:
    """One mark of a linked source.

    show: `value`, and the `locale` of the file or stretch.
    open: `value` is the test, or `loop` is set, or neither (``only html``).  branch: `value`
    is the test, None for ``:else:``.  set: `binding`.  extracted: `extracted`.  literal: `literal`, a character of
    the author's own.
    """

    role: str
    place: Place = field(repr=False)
    value: Expression | None = None
    loop: Loop | None = None
    binding: Binding | None = None
    extracted: ExtractedBlock | None = None
    literal: str = ""
    locale: str | None = None

    def expressions(self) -> Iterator[Expression]:
        """Yields the expressions it holds, but for those of an extracted block."""
        if self.value is not None:
            yield self.value
        if self.loop is not None:
            yield self.loop.items
        if self.binding is not None and self.binding.value is not None:
            yield self.binding.value


@record(frozen=True, slots=True)
class ExtractedBlock:
    """What is no part of the page, as a linked source of its own.

    `kind` is ``subject``, ``preheader``, ``text``, or ``only`` for a stretch of the plain text; `alone` says
    of the last that it is a paragraph of its own.
    """

    kind: str
    linked: LinkedSource
    alone: bool = False


@record(frozen=True, slots=True)
class LinkedSource:
    """`text` with its `marks`; `sources` are all files it was linked from, in the order they were met."""

    text: str
    marks: tuple[Marker, ...]
    sources: tuple[Source, ...]
    origins: _Origins = field(repr=False)

    def place(self, start: int, end: int) -> Place:
        """Returns where the author wrote the stretch from `start` to `end`."""
        first = self.origins.at(start)
        last = self.origins.at(max(start, end - 1))
        if first.source is last.source and last.end > first.start:
            return Place(first.source, first.start, last.end, first.via)
        return first

    @property
    def with_extracted(self) -> tuple[LinkedSource, ...]:
        """Itself, and the sources of what is no part of the page."""
        return self, *(mark.extracted.linked for mark in self.marks if mark.extracted is not None)

    def mark(self, offset: int) -> Marker:
        """Returns the mark whose character stands at `offset`."""
        return self.marks[mark_index(self.text[offset])]


@record(slots=True)
class _Origins:
    """For each stretch of a linked source, the file and offset it came from."""

    offsets: list[int] = field(default_factory=list)
    places: list[Place] = field(default_factory=list)
    literal: list[bool] = field(default_factory=list)

    def add(self, offset: int, place: Place, literal: bool) -> None:
        self.offsets.append(offset)
        self.places.append(place)
        self.literal.append(literal)

    def at(self, offset: int) -> Place:
        index = bisect_right(self.offsets, offset) - 1
        if index < 0:
            return Place(Source("template", ""), 0, 0)
        place = self.places[index]
        if not self.literal[index]:
            return place
        start = min(place.start + offset - self.offsets[index], place.end)
        return Place(place.source, start, min(start + 1, place.end), place.via)


class LinkedSourceWriter:
    """A linked source being written.  `length` is how much was written for the whole template, by all its writers."""

    def __init__(self, limits: Limits, length: list[int] | None = None) -> None:
        self.limits = limits
        self.length = [0] if length is None else length
        self._pieces: list[str] = []
        self._marks: list[Marker] = []
        self._origins = _Origins()
        self._offset = 0

    def inner(self) -> LinkedSourceWriter:
        """Returns a writer for what is taken out of this one."""
        return LinkedSourceWriter(self.limits, self.length)

    def finished(self, sources: tuple[Source, ...]) -> LinkedSource:
        """Returns what was written."""
        return LinkedSource("".join(self._pieces), tuple(self._marks), sources, self._origins)

    def mark(self, mark: Marker) -> None:
        """Write a mark."""
        if len(self._marks) >= MOST_MARKS:
            raise LimitReached(f"a template of more than {MOST_MARKS:,} marks", place=mark.place)
        self._marks.append(mark)
        self._write(_character(len(self._marks) - 1), mark.place, False)

    def text(self, source: Source, start: int, end: int, via: tuple[Related, ...]) -> None:
        """Write a literal stretch of a file; what in it looks like a mark becomes one of role literal."""
        text = source.text[start:end]
        if text.isascii() or not any(is_mark(c) for c in text):
            self._write(text, source.place(start, end, via), True)
            return
        for offset, character in enumerate(text, start):
            place = source.place(offset, offset + 1, via)
            if is_mark(character):
                self.mark(Marker(LITERAL, place, literal=character))
            else:
                self._write(character, place, True)

    def _write(self, text: str, place: Place, literal: bool) -> None:
        self._origins.add(self._offset, place, literal)
        self._pieces.append(text)
        self._offset += len(text)
        self.length[0] += len(text)
        if self.length[0] > self.limits.characters:
            raise LimitReached(
                f"a template of more than {self.limits.characters:,} characters, once linked", place=place
            )
