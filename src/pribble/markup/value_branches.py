"""Reading a value that branches: an address, a style or JSON with blocks in it.

A value's language is read with states that are immutable.  At the first branch of a block its state is kept;
each further branch resumes from there, and where the block ends all branches must have come to one state, since
what follows can be read in one way only.  Where nothing follows they may differ.  A loop's body ends in the
state it began in.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Generic, Protocol, TypeVar

from pribble.markup.contexts import MARK, MarkupError
from pribble.records import field, record

State = TypeVar("State")


class ValueReader(Protocol[State]):
    """A language, and what it has found out about the marks it was shown."""

    start: State

    def read(self, state: State, text: str, offset: int) -> State:
        """Read literal text; `offset` is where it stands.  Raises `MarkupError`."""

    def value(self, state: State, offset: int) -> State:
        """Take note of a mark that shows a value.  Raises `MarkupError`."""

    def merged(self, one: State, other: State) -> State | None:
        """Returns the one state that two branches have come to, or None where they differ."""

    def finish(self, state: State) -> None:
        """The value ends.  Raises `MarkupError`."""


@record(frozen=True, slots=True)
class ValuePiece:
    """A piece of a value: literal `text`, or a mark of some `role`."""

    offset: int
    role: str = ""
    text: str = ""


@record(slots=True)
class _ValueBlock(Generic[State]):
    opening: ValuePiece
    entered: State
    ends: list[State] = field(default_factory=list)
    divided: bool = False  # a branch has ended
    otherwise: bool = False  # there is one for when no test holds


# The roles of marks that matter here: loops, choices, stretches that only one form has; how branches begin and end.
REPEATING, CHOOSING, KEPT = "repeat", "open", "only"
ELSE, ELIF, CLOSE, SHOW = "else", "branch", "close", "show"
OPENING, ENDING = frozenset({REPEATING, CHOOSING, KEPT}), frozenset({ELSE, ELIF, CLOSE})


Role = Callable[[int], str]


def marks_in(text: str, start: int, end: int, role: Role) -> Iterator[int]:
    """Returns the offsets of the marks between `start` and `end`, without an author's own characters."""
    return (found.start() for found in MARK.finditer(text, start, end) if role(found.start()) != "literal")


def value_pieces(text: str, start: int, end: int, role: Role, read: Callable[[str], str] = str) -> Iterator[ValuePiece]:
    """Yields the pieces of a value; `read` says what its literal text stands for."""
    position = start
    for offset in marks_in(text, start, end, role):
        if position < offset:
            yield ValuePiece(position, text=read(text[position:offset]))
        yield ValuePiece(offset, role(offset))
        position = offset + 1
    if position < end:
        yield ValuePiece(position, text=read(text[position:end]))


def read_branches(pieces: Iterable[ValuePiece], reader: ValueReader[State]) -> None:
    """Read all of a value with `reader`.  Raises `MarkupError`."""
    _BranchWalk(reader).run(pieces)


class _BranchWalk(Generic[State]):
    def __init__(self, reader: ValueReader[State]) -> None:
        self.reader = reader
        self.states: list[State] = [reader.start]  # several where branches differ and nothing has followed yet
        self.differing: ValuePiece | None = None
        self.blocks: list[_ValueBlock[State]] = []

    def run(self, pieces: Iterable[ValuePiece]) -> None:
        for piece in pieces:
            match piece.role:
                case "" if len(self.states) > 1 and not piece.text.strip():
                    pass
                case "":
                    self.states = [self.reader.read(self._one(), piece.text, piece.offset)]
                case "show":
                    self.states = [self.reader.value(self._one(), piece.offset)]
                case "repeat" | "open" | "only":
                    self.blocks.append(_ValueBlock(piece, self._one()))
                case "branch" | "else" | "close" if self.blocks:
                    self._branch(self.blocks[-1], piece)
        for state in self.states:
            self.reader.finish(state)

    def _one(self) -> State:
        if len(self.states) > 1:
            assert self.differing is not None
            raise MarkupError(
                "the branches of this block end differently, and the value goes on",
                self.differing.offset,
                hint="let each branch hold the rest of the value too, or write a choice: {{ a if test else b }}",
            )
        return self.states[0]

    def _branch(self, block: _ValueBlock[State], piece: ValuePiece) -> None:
        if block.opening.role == REPEATING and not block.divided:
            for state in self.states:
                merged = self.reader.merged(block.entered, state)
                if merged is None:
                    raise MarkupError(
                        "the body of this loop ends otherwise than it began",
                        block.opening.offset,
                        other=("the loop's body ends at", piece.offset, piece.offset + 1),
                        hint="its end has to fit its own beginning; join texts with a formatter, or let "
                        "the loop write whole pieces",
                    )
                block.entered = merged
            self.states = [block.entered]
        block.ends += self.states
        block.divided = True
        block.otherwise |= piece.role == ELSE
        if piece.role != CLOSE:
            self.states = [block.entered]
            return
        self.blocks.pop()
        if block.opening.role == CHOOSING and not block.otherwise:
            block.ends.append(block.entered)
        self.states = self._joined(block.ends)
        if len(self.states) > 1:
            self.differing = block.opening

    def _joined(self, ends: list[State]) -> list[State]:
        """Returns `ends`, those that are one state as one."""
        joined: list[State] = []
        for state in ends:
            for index, known in enumerate(joined):
                if (merged := self.reader.merged(known, state)) is not None:
                    joined[index] = merged
                    break
            else:
                joined.append(state)
        return joined
