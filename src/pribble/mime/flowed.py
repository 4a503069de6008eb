"""The lines of a plain text, and ``format=flowed`` (RFC 3676): paragraphs that a reader may wrap anew.

A line that flows goes on in the next one.  On the wire it ends in a space, and nothing else does but the mark before a
signature; quoted lines begin with as many ``>`` as they are deep; a line that would be taken for something else is
stuffed with a space.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from typing import NamedTuple

from pribble.regexes import regex

LONGEST = 78  # RFC 3676 4.2: SHOULD, quote marks, stuffing and trailing spaces included
SIGNATURE = "-- "  # RFC 3676 4.3
# RFC 3676 4.4: what would be taken for stuffing, for a quote, or by a mailbox format.
_STUFFED = (" ", ">", "From ")
_STUFFED_LINE = regex(f"\n(?:{'|'.join(_STUFFED)})")


class Line(NamedTuple):
    """A line: its text, how deep it is quoted, and whether it is `fixed`, which is to say that it ends here.

    A line that is not flows on in the next; where it was broken at a space, its text ends in that space.
    """

    text: str
    depth: int = 0
    fixed: bool = True


class FlowingText(str):
    """A text that knows its lines.  As a text it has quote marks, and neither trailing spaces nor stuffing."""

    __slots__ = ("_lines", "soft")

    _lines: Callable[[], Sequence[Line]]
    soft: str | None

    @classmethod
    def of(cls, lines: Sequence[Line]) -> FlowingText:
        """Returns the text of `lines`, ending in a line break; empty where they are."""
        return cls.later("".join([f"{_quote_prefix(line)}\n" for line in lines]), lambda: lines)

    @classmethod
    def later(cls, text: str, lines: Callable[[], Sequence[Line]], soft: str | None = None) -> FlowingText:
        """Returns a text whose lines are made when they are asked for.  `soft` is the text with a space at the end of
        each line that goes on, where no line is quoted, and none broken but at a space."""
        made = cls(text)
        made._lines, made.soft = lines, soft
        return made

    @property
    def lines(self) -> Sequence[Line]:
        """Its lines."""
        return self._lines()

    def unwrapped(self) -> str:
        """Returns the text with each paragraph that flows on one line (RFC 3676 4.1)."""
        made: list[list[str]] = []
        last = Line("")
        for line in self.lines:
            if last.fixed or last.depth != line.depth or line.text == SIGNATURE:
                made.append([f"{'>' * line.depth} " if line.depth else ""])
            made[-1].append(line.text)
            last = line
        texts = ("".join(pieces) for pieces in made)
        return "".join([f"{text if text == SIGNATURE else text.rstrip(' ')}\n" for text in texts])

    def __reduce__(self) -> tuple[Callable[..., FlowingText], tuple[str, tuple[Line, ...], str | None]]:
        return FlowingText._again, (str(self), tuple(self.lines), self.soft)

    @classmethod
    def _again(cls, text: str, lines: Sequence[Line], soft: str | None) -> FlowingText:
        """Returns the text that was copied, or went to another process."""
        return cls.later(text, partial(tuple, lines), soft)


def _quote_prefix(line: Line) -> str:
    text = line.text if line.text == SIGNATURE else line.text.rstrip(" ")
    return f"{'>' * line.depth} {text}".rstrip(" ") if line.depth else text


def lines_of(text: str) -> Iterable[Line]:
    """Returns the lines of a text: those that it knows, else fixed ones, of which those that are too long flow.

    Lines end in CRLF, CR or LF, and in nothing else.
    """
    if isinstance(text, FlowingText):
        return text.lines
    lines = text.replace("\r\n", "\n").replace("\r", "\n").removesuffix("\n").split("\n")
    return [piece for line in lines for piece in _fitting_lines(line)]


def read_line(line: str, *, delsp: bool = False) -> Line:
    """Returns a line of a flowed text as it travels (RFC 3676 4), without its end, its stuffing and its quote marks."""
    content = line.lstrip(">")
    depth = len(line) - len(content)
    content = content.removeprefix(" ")
    fixed = content == SIGNATURE or not content.endswith(" ")
    return Line(content[:-1] if delsp and not fixed else content, depth, fixed)


def read_flowed(text: str, *, delsp: bool = False) -> FlowingText:
    """Returns a text that travelled with ``format=flowed``; `delsp` says that the space a line flows by does not
    count."""
    lines = text.replace("\r\n", "\n").removesuffix("\n").split("\n")
    return FlowingText.of([read_line(line, delsp=delsp) for line in lines])


def flowed(text: str) -> tuple[str, bool]:
    """Returns `text` as it travels with ``format=flowed``, its lines ending in LF, and whether it needs ``delsp=yes``:
    where a line is broken at no space, the space that says so does not count (RFC 3676 4.1)."""
    soft = text.soft if isinstance(text, FlowingText) else None
    if soft is not None and "-- \n" not in soft:
        if _STUFFED_LINE.search(soft) is None and not soft.startswith(_STUFFED):
            return soft, False  # no line has to be stuffed
        return "\n\n".join([_aligned(stretch) for stretch in soft.split("\n\n")]), False
    lines = list(lines_of(text)) if text else []
    delsp = any(not line.fixed and line.text[-1:] != " " for line in lines)
    made: list[str] = []
    for begin, end in _stretches(lines):
        aligned = any(line.text[:1] == " " for line in lines[begin:end])
        made += [f"{_on_the_wire(line, delsp, stuffed=aligned)}\n" for line in lines[begin:end]]
    return "".join(made), delsp


_INDENTED = regex(r"^ ", re.MULTILINE)
_LINES = regex(r"^(?=.)", re.MULTILINE)
_TAKEN = regex(r"^(?=>|From )", re.MULTILINE)


def _aligned(stretch: str) -> str:
    """Returns lines without an empty one between, stuffed as they are below."""
    if _INDENTED.search(stretch):
        return _LINES.sub(" ", stretch)
    return _TAKEN.sub(" ", stretch) if ">" in stretch or "From " in stretch else stretch


def _stretches(lines: Sequence[Line]) -> Iterator[tuple[int, int]]:
    """Yields lines without an empty one between.  If one of them has to be stuffed, so are the others, as RFC 3676 4.4
    permits: a reader that knows no stuffing sees their columns in line."""
    begin = 0
    for index, line in enumerate(lines):
        if not line.text:
            yield begin, index + 1
            begin = index + 1
    yield begin, len(lines)


def _on_the_wire(line: Line, delsp: bool, *, stuffed: bool) -> str:
    text = line.text
    if line.fixed and text != SIGNATURE:
        text = text.rstrip(" ")
    elif not line.fixed and delsp:
        text += " "
    stuffed = stuffed or line.depth > 0 or text.startswith(_STUFFED)
    return f"{'>' * line.depth}{' ' if stuffed and text and text != SIGNATURE else ''}{text}"


def _fitting_lines(line: str) -> Iterator[Line]:
    """Yields a line as it is, or where it is too long as lines that flow, broken at its spaces."""
    room = LONGEST - line.startswith(_STUFFED)
    text = line if line == SIGNATURE else line.rstrip(" ")
    while len(text) > room:
        end = _break(text, room)
        if end is None:
            break
        yield Line(text[:end], fixed=False)
        text = text[end:]
        room = LONGEST - text.startswith(_STUFFED)
    yield Line(text)


def _break(text: str, room: int) -> int | None:
    """Returns where to go on in the next line: behind the last space that leaves at most `room` characters, else behind
    the first one.  No line is left that consists of spaces, or reads as the mark before a signature."""
    begin = len(text) - len(text.lstrip(" "))
    end = text.rfind(" ", begin, room) + 1
    if end <= begin or text[:end].strip(" ") == "--":
        end = text.find(" ", max(begin, room)) + 1
    return end if end > begin else None
