"""Lines that hold statements only are taken whole.

Otherwise each ``{{ if …: }}`` on a line of its own would leave an empty line in the message.
"""

from __future__ import annotations

from dataclasses import dataclass

from pribble.language.tokens import Reader

_LIFTED = frozenset({"subject:", "preheader:", "text:"})


@dataclass(slots=True)
class Piece:
    """A literal or a mark; a mark that is a statement of its own takes its line with it."""

    start: int
    end: int
    reader: Reader | None = None
    word: str = ""  # "" for a shown value, ":" for what closes or branches, "if:" for what opens, else a setting
    sets: bool = False

    @property
    def literal(self) -> bool:
        return self.reader is None and not self.sets

    def closes(self, word: str) -> bool:
        return self.word == ":" and self.reader is not None and self.reader.peek(1).text == word


def without_statement_lines(text: str, pieces: list[Piece]) -> list[Piece]:
    """`pieces` without the white space of lines that hold statements and white space only."""
    first: tuple[Piece, int] | None = None  # the literal the line begins in, and where
    between: list[Piece] = []  # literals that lie within the line
    holds, clean = False, True
    lifted = ""  # the word of the message block we are in: what it holds is not part of the line
    for piece in pieces:
        if lifted:
            lifted = "" if piece.closes(lifted) else lifted
            continue
        if piece.word in _LIFTED:
            lifted = piece.word[:-1]
        if not piece.literal:
            holds, clean = True, clean and piece.sets
            continue
        newline = text.find("\n", piece.start, piece.end)
        if newline < 0:
            between.append(piece)
            clean = clean and not text[piece.start:piece.end].strip()
            continue
        if holds and clean and not text[piece.start:newline].strip():
            _drop(first, between)
            piece.start = newline + 1
        line_start = max(piece.start, text.rfind("\n", piece.start, piece.end) + 1)
        first, between, holds = (piece, line_start), [], False
        clean = not text[line_start:piece.end].strip()
    if holds and clean:
        _drop(first, between)
    return pieces


def _drop(first: tuple[Piece, int] | None, between: list[Piece]) -> None:
    if first is not None:
        first[0].end = min(first[0].end, first[1])
    for piece in between:
        piece.end = piece.start
