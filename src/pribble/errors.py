"""One family of errors; each knows where it happened and shows the line with a caret.

A `Source` is a text with a name; a `Place` is a stretch of one.  An error that has a place reads

    templates/berth-confirmed.html:14:14: no field "skiper" in the data (did you mean "skipper"?)
        <p>Dear {{ skiper.name }},</p>
                   ^^^^^^

and lists below it, in the same form, the places that led there: the mark that put a part, the
opening of a block that was never closed.
"""

from __future__ import annotations

import difflib
import re
import unicodedata
from bisect import bisect_left
from collections.abc import Iterable
from functools import lru_cache
from importlib import import_module
from itertools import islice
from typing import Any

from pribble.graphemes import column_count
from pribble.records import field, record

# An excerpt shows at most this many characters of a long line, around the place.
EXCERPT_WIDTH = 100
# A hint that would make the first line longer than this goes on a line of its own.
FIRST_LINE_WIDTH = 110
# Names are compared up to this length, and so many of them, with one that is not known.
_LONGEST_NAME, _MOST_NAMES = 100, 100


@record(frozen=True, slots=True)
class Source:
    """A text and the name under which errors speak of it (a path, ``--data``, a template's name)."""

    name: str
    text: str = field(repr=False)

    def place(self, start: int, end: int, via: tuple[Related, ...] = ()) -> Place:
        """Returns the stretch from `start` to `end`, both offsets in characters."""
        return Place(self, start, end, via)

    def shown(self, start: int, end: int) -> str:
        """Returns a stretch as errors show it."""
        return visible(self.text[start:end])


@record(frozen=True, slots=True)
class Place:
    """A stretch of a source; `via` are the marks of other files that led here, nearest first."""

    source: Source
    start: int
    end: int
    via: tuple[Related, ...] = field(default=(), compare=False, repr=False)

    @property
    def line(self) -> int:
        """Line number, from 1."""
        return bisect_left(_line_ends(self.source.text), self.start) + 1

    @property
    def column(self) -> int:
        """Column in characters, from 1."""
        return self.start - self._line_start() + 1

    def _line_start(self) -> int:
        return self.source.text.rfind("\n", 0, self.start) + 1

    def __str__(self) -> str:
        return f"{visible(self.source.name)}:{self.line}:{self.column}"

    def as_data(self) -> dict[str, Any]:
        """Returns it for programs: file, line and column from 1, and the stretch in characters, from 0."""
        return {
            "file": self.source.name,
            "line": self.line,
            "column": self.column,
            "start": self.start,
            "end": self.end,
        }

    def excerpt(self) -> str:
        """Returns the line, set in by four, and below it carets under the stretch."""
        text, first = self.source.text, self._line_start()
        last = text.find("\n", self.start)
        last = len(text) if last < 0 else last
        first += len(text[first : self.start]) - len(text[first : self.start].lstrip(" \t"))
        before, after = "", ""
        if last - first > EXCERPT_WIDTH:
            window = max(first, self.start - EXCERPT_WIDTH // 2)
            before = "…" if window > first else ""
            after = "…" if window + EXCERPT_WIDTH < last else ""
            first, last = window, min(last, window + EXCERPT_WIDTH)
        line = before + self.source.shown(first, first + len(text[first:last].rstrip())) + after
        lead = before + self.source.shown(first, self.start)
        marked = self.source.shown(self.start, max(self.start, min(self.end, last)))
        return f"    {line}\n    {' ' * _width(lead)}{'^' * max(1, _width(marked))}"


@record(frozen=True, slots=True)
class Related:
    """Another place that belongs to an error: `what` says how ("opened here", "put here")."""

    what: str
    place: Place


@lru_cache(maxsize=4)
def _line_ends(text: str) -> list[int]:
    """Returns where the lines of a text end: many errors of one text ask for it."""
    return [found.start() for found in re.finditer("\n", text)]


def visible(text: str) -> str:
    """Returns `text` fit for one line of a terminal: tabs as single spaces; other controls, halves of surrogate pairs,
    and what turns the direction of the text around it (UAX 9), as U+FFFD."""
    if text.isprintable():
        return text
    return "".join(" " if c == "\t" else "\ufffd" if _is_unfit(c) else c for c in text)


def visible_lines(text: str) -> str:
    """Returns a text of several lines, each fit for a terminal."""
    return "\n".join([visible(line) for line in text.split("\n")])


def _is_unfit(character: str) -> bool:
    return unicodedata.category(character) in ("Cc", "Cs", "Zl", "Zp") or (
        unicodedata.category(character) == "Cf" and unicodedata.bidirectional(character) != "BN"
    )


def _width(text: str) -> int:
    return column_count(text) or 0


def nearest(name: str, known: Iterable[str]) -> str | None:
    """Returns the one of `known` that `name` was most likely meant to be, or None; of very many, the first are looked
    at."""
    name = name[:_LONGEST_NAME]
    candidates = [c for c in sorted(set(islice(known, _MOST_NAMES))) if len(c) <= _LONGEST_NAME]
    close = difflib.get_close_matches(name, candidates, n=1, cutoff=0.6)
    if close:
        return close[0]
    folded = [c for c in candidates if c.casefold() == name.casefold()]
    return folded[0] if folded else None


def did_you_mean(name: str, known: Iterable[str]) -> str | None:
    """Returns a hint that names the nearest of `known`, or, where none is near, lists the first few."""
    every = sorted(set(islice(known, _MOST_NAMES + 1)))
    match = nearest(name, every)
    if match is not None:
        return f'did you mean "{match}"?'
    if not every:
        return None
    shown = ", ".join(f'"{c[:_LONGEST_NAME]}"' for c in every[:8])
    more = str(len(every) - 8) if len(every) <= _MOST_NAMES else "many"
    return f"there is {shown}" + (f" and {more} more" if len(every) > 8 else "")


class PribbleError(Exception):
    """What went wrong, where, and what would be right.

    `problem` is one sentence without a full stop, `place` the stretch of the source at fault, `hint` what
    to write instead, `related` further places.
    """

    def __init__(
        self,
        problem: str,
        *,
        place: Place | None = None,
        hint: str | None = None,
        related: Iterable[Related] = (),
    ) -> None:
        self.problem = visible(problem)  # it may quote what somebody else wrote
        super().__init__(self.problem)
        self.place = place
        self.hint = hint and visible(hint)
        self.related = (*related, *(place.via if place else ()))

    def __str__(self) -> str:
        first = f"{self.place}: {self.problem}" if self.place else self.problem
        lines = []
        if self.hint and len(first) + len(self.hint) + 3 <= FIRST_LINE_WIDTH:
            lines.append(f"{first} ({self.hint})")
        else:
            lines.append(first)
        if self.place:
            lines.append(self.place.excerpt())
        if self.hint and len(lines[0]) == len(first):
            lines.append(f"  {self.hint}")
        for other in self.related:
            lines.append(f"  {other.what} {other.place}\n{other.place.excerpt()}")
        return "\n".join(lines)

    def as_data(self) -> dict[str, Any]:
        """Returns it for programs: what is wrong, what would be right, and where."""
        return {"message": self.problem, "hint": self.hint, "where": self.place and self.place.as_data()}


class TemplateError(PribbleError):
    """The template is wrong, whatever the data are."""


class FieldError(PribbleError):
    """The data are wrong: a field is missing, or of a kind its use does not take.

    `path` is the field's path with positions (``lines[3].price``), where one can be named.
    """

    def __init__(
        self,
        problem: str,
        *,
        path: str | None = None,
        place: Place | None = None,
        hint: str | None = None,
        related: Iterable[Related] = (),
    ) -> None:
        super().__init__(problem, place=place, hint=hint, related=related)
        self.path = path


class UnsafeValue(FieldError):
    """A value does not fit the place where it is shown, and no escaping could make it."""


class LimitReached(PribbleError):
    """A template or its data would multiply beyond what `Limits` permits."""


class DataError(PribbleError):
    """A file that should hold data cannot be read as such."""


class PictureError(PribbleError):
    """A picture is missing, unreadable, damaged or enormous."""


class PictureOnDisk(PictureError):
    """A picture is named that lies on the disk of the sender alone."""


class AddressError(PribbleError):
    """A mailbox or list of mailboxes that RFC 5322 or the rules for domains do not permit."""


class HeaderError(PribbleError):
    """A header field's name or value that cannot be written as RFC 5322 asks."""


class DeliveryError(PribbleError):
    """A transport could not take a message, and nothing became of it for anybody.

    `code` is the server's reply code, where it gave one; `is_lasting` whether another try would end alike, as with a
    wrong password, and not with a server that is down.
    """

    def __init__(
        self, problem: str, *, hint: str | None = None, code: int | None = None, is_lasting: bool = False
    ) -> None:
        super().__init__(problem, hint=hint)
        self.code = code
        self.is_lasting = is_lasting


class MissingExtra(PribbleError):
    """A part of Pribble needs a package that is not installed; the hint says which."""


def loaded(module: str, *, extra: str, message: str) -> Any:
    """Returns a module of a package that an extra brings; raises `MissingExtra` with `message` where it is not
    installed."""
    try:
        return import_module(module)
    except ImportError:
        raise MissingExtra(message, hint=f"pip install 'pribble[{extra}]'") from None
