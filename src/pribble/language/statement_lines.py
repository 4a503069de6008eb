"""Lines that hold statements only are taken whole.

Otherwise each ``{{ if …: }}`` on a line of its own would leave an empty line in the message.
"""

from __future__ import annotations

from pribble.language.tokens import TokenReader
from pribble.records import field, record

_EXTRACTED = frozenset({"subject:", "preheader:", "text:", "into:"})


@record(slots=True)
class LinePiece:
    """A literal or a mark; a mark that is a statement of its own takes its line with it."""

    start: int
    end: int
    reader: TokenReader | None = None
    word: str = ""  # "" for a shown value, ":" for what closes or branches, "if:" for what opens, else a setting
    sets: bool = False

    @property
    def literal(self) -> bool:
        return self.reader is None and not self.sets

    def closes(self, word: str) -> bool:
        return self.word == ":" and self.reader is not None and self.reader.peek(1).text == word


@record(slots=True)
class _Line:
    """The line that is being gone through: its literals, and whether statements and nothing else stand in it."""

    first: tuple[LinePiece, int] | None = None  # the literal it begins in, and where
    between: list[LinePiece] = field(default_factory=list)  # literals that lie within it
    holds: bool = False
    clean: bool = True

    def add(self, piece: LinePiece) -> None:
        """Take in a mark."""
        self.holds, self.clean = True, self.clean and piece.sets

    def take(self) -> None:
        """End the line; cut its white space out of the literals where only statements stand in it."""
        if self.holds and self.clean:
            if self.first is not None:
                self.first[0].end = min(self.first[0].end, self.first[1])
            for piece in self.between:
                piece.end = piece.start


def without_statement_lines(text: str, pieces: list[LinePiece]) -> list[LinePiece]:
    """Returns `pieces` without the white space of lines that hold statements and white space only.

    What is taken out of a page has lines of its own, and is no part of the line that it stands in.
    """
    line = _Line()
    around: list[tuple[str, _Line]] = []  # the extracted blocks that are open, and the lines they stand in
    for piece in pieces:
        if piece.literal:
            line = _line_after_literal(piece, line, text)
        elif around and piece.closes(around[-1][0]):
            line.take()
            line = around.pop()[1]
        else:
            line.add(piece)
            if piece.word in _EXTRACTED:
                around.append((piece.word[:-1], line))
                line = _Line()
    line.take()
    return pieces


def _line_after_literal(piece: LinePiece, line: _Line, text: str) -> _Line:
    """Returns the line that goes on after a literal: the same, or a new one that begins in it."""
    newline = text.find("\n", piece.start, piece.end)
    if newline < 0:
        line.between.append(piece)
        line.clean = line.clean and not text[piece.start : piece.end].strip()
        return line
    if line.holds and line.clean and not text[piece.start : newline].strip():
        line.take()
        piece.start = newline + 1
    start = max(piece.start, text.rfind("\n", piece.start, piece.end) + 1)
    return _Line((piece, start), clean=not text[start : piece.end].strip())
