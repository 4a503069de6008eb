"""Blocks: what each mark of a file says, and how the marks nest.

A colon after the word opens a block, a colon before it closes it, a colon on both sides does both:

    {{ if order.discount: }} … {{ :elif order.voucher: }} … {{ :else: }} … {{ :if }}

`parse` reads one file and knows nothing of any other; `tape.py` links what it returns.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from pribble.errors import Place, Related, Source, TemplateError
from pribble.language.expressions import Expression
from pribble.language.marks import Literal, Mark, cut
from pribble.language.parsing import RESERVED, read_expression
from pribble.language.tokens import Reader, Token


@dataclass(frozen=True, slots=True)
class Text:
    """A literal stretch of the file, by offsets."""

    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Show:
    place: Place
    value: Expression


@dataclass(frozen=True, slots=True)
class Branch:
    """One way through an ``if``; the last may have no test."""

    place: Place
    test: Expression | None
    body: tuple[Statement, ...]


@dataclass(frozen=True, slots=True)
class If:
    place: Place
    branches: tuple[Branch, ...]
    closing: Place


@dataclass(frozen=True, slots=True)
class For:
    """A loop; `names` are one (an item) or two (a key and its value, or the two of a pair)."""

    place: Place
    names: tuple[Token, ...]
    at: Token | None
    items: Expression
    body: tuple[Statement, ...]
    otherwise: Branch | None
    closing: Place


@dataclass(frozen=True, slots=True)
class Let:
    place: Place
    name: Token
    value: Expression


@dataclass(frozen=True, slots=True)
class Put:
    """A part, with the values it is given by name."""

    place: Place
    path: Token
    arguments: tuple[tuple[Token, Expression], ...]


@dataclass(frozen=True, slots=True)
class Slot:
    """Where a layout lets the page in."""

    place: Place
    name: str


@dataclass(frozen=True, slots=True)
class Lifted:
    """A block that is not part of the page: ``subject`` or ``preheader``."""

    place: Place
    kind: str
    body: tuple[Statement, ...]


Statement = Text | Show | If | For | Let | Put | Slot | Lifted


@dataclass(frozen=True, slots=True)
class File:
    """One file, read: its statements in order, and the layout it asks for."""

    source: Source
    body: tuple[Statement, ...]
    layout: tuple[Place, str] | None


# What can open a block, and what a mark with that word but without its colon most likely meant.
_OPENING = {"if": "if …:", "for": "for … in …:", "subject": "subject:", "preheader": "preheader:"}
_LIFTED = ("subject", "preheader")
_SETTINGS = frozenset({"let", "layout", "put", "slot"})
# How other notations say that a block ends or branches.
_FOREIGN = {"endif": ":if", "endfor": ":for", "end": ":if", "elseif": ":elif …:", "elsif": ":elif …:",
            "elif": ":elif …:", "else": ":else:", "foreach": "for … in …:", "each": "for … in …:",
            "unless": "if not …:", "set": "let … = …", "include": 'put "…"', "extends": 'layout "…"'}


def parse(source: Source, *, html: bool = True, via: tuple[Related, ...] = ()) -> File:
    """Read one file.  `via` are the marks of other files that led to it, for the errors' sake."""
    return _Parser(source, html, via).file()


@dataclass(slots=True)
class _Piece:
    """A literal or a mark; a mark that is a statement of its own takes its line with it."""

    start: int
    end: int
    reader: Reader | None = None
    word: str = ""  # "" for a shown value, else what the mark does
    sets: bool = False

    @property
    def literal(self) -> bool:
        return self.reader is None and not self.sets

    def closes(self, word: str) -> bool:
        return self.word == ":" and self.reader is not None and self.reader.peek(1).text == word


@dataclass(slots=True)
class _Open:
    """A block that waits for its closing word."""

    word: str
    place: Place
    test: Expression | None = None
    branches: list[Branch] = field(default_factory=list)
    body: list[Statement] = field(default_factory=list)
    branch_place: Place | None = None
    loop: tuple[tuple[Token, ...], Token | None, Expression] | None = None
    last: bool = False  # its :else: has come


class _Parser:
    def __init__(self, source: Source, html: bool, via: tuple[Related, ...]) -> None:
        self.source, self.html, self.via = source, html, via
        self.layout: tuple[Place, str] | None = None
        self.stack: list[_Open] = [_Open("", source.place(0, 0))]

    def file(self) -> File:
        for piece in _without_statement_lines(self.source.text, list(self._pieces())):
            if piece.reader is not None:
                self._mark(piece, piece.reader)
            elif piece.literal and piece.start < piece.end:
                self._add(Text(piece.start, piece.end))
        if len(self.stack) > 1:
            block = self.stack[-1]
            raise TemplateError(f'the block "{block.word}" is not closed', place=block.place,
                                hint=f"write {{{{ :{block.word} }}}} where it ends")
        return File(self.source, tuple(self.stack[0].body), self.layout)

    def _pieces(self) -> Iterator[_Piece]:
        for piece in cut(self.source, html=self.html, via=self.via):
            if isinstance(piece, Literal):
                yield _Piece(piece.start, piece.end)
            elif piece.remark:
                yield _Piece(piece.start, piece.end, None, "#", sets=True)
            else:
                yield self._classified(piece)

    def _classified(self, mark: Mark) -> _Piece:
        """What a mark does is told by its first word and its colons alone."""
        reader = Reader(self.source, mark.inner_start, mark.inner_end, self.via, references=self.html)
        first, second = reader.next, reader.peek(1)
        piece = _Piece(mark.start, mark.end, reader)
        if first.kind == ":":
            piece.word, piece.sets = ":", True
        elif first.text in _OPENING and first.kind == "name" and reader.last.kind == ":":
            piece.word, piece.sets = first.text, True
        elif first.kind == "name" and first.text in _SETTINGS and second.kind in ("name", "text"):
            piece.word, piece.sets = first.text, first.text in ("let", "layout")
        elif first.kind == "end":
            raise TemplateError("an empty mark", place=self.source.place(mark.start, mark.end, self.via),
                                hint='name the field to show, or write {{ "{{" }} for a literal pair of braces')
        return piece

    def _add(self, statement: Statement) -> None:
        self.stack[-1].body.append(statement)

    def _mark(self, piece: _Piece, reader: Reader) -> None:
        place = self.source.place(piece.start, piece.end, self.via)
        match piece.word:
            case "":
                self._show(place, reader)
            case ":":
                reader.take()
                self._close(place, reader)
            case "let" | "layout" | "put" | "slot":
                getattr(self, f"_{reader.take().text}")(place, reader)
            case _:
                self._open(place, reader)

    # -- marks that stand alone --

    def _show(self, place: Place, reader: Reader) -> None:
        first, second = reader.next, reader.peek(1)
        if first.kind == "name":
            if first.text in _OPENING and (first.text in RESERVED or second.kind in ("name", "text", "number")):
                raise TemplateError(f'"{first.text}" opens no block without a colon', place=reader.whole,
                                    hint=f"write {{{{ {reader.whole_text}: }}}}")
            if first.text in _FOREIGN and (first.text in RESERVED or second.kind in ("end", "name", "text")):
                wanted = _FOREIGN[first.text]
                if first.text in ("else", "elif") or second.kind != "end" or first.text.startswith("end"):
                    raise TemplateError(f'"{first.text}" is no word of this language', place=first.place,
                                        hint=f"write {{{{ {wanted} }}}}")
        if first.kind == "/":
            raise TemplateError("a slash closes nothing", place=first.place,
                                hint=f"write {{{{ :{second.text or 'if'} }}}}")
        if first.kind in ("#", "%", "!", ">", "^", "@") and second.kind != "end":
            raise TemplateError(f'"{first.text}" opens nothing', place=first.place,
                                hint="a block opens with a word and a colon, {{ if paid: }}; a remark is {{ # … }}")
        value = read_expression(reader)
        reader.finish()
        self._add(Show(place, value))

    def _let(self, place: Place, reader: Reader) -> None:
        name = self._name(reader)
        if not reader.takes("="):
            reader.unexpected('"="')
        value = read_expression(reader)
        reader.finish()
        self._add(Let(place, name, value))

    def _layout(self, place: Place, reader: Reader) -> None:
        path = reader.expect("text", "the layout's file name")
        reader.finish()
        self._outside_blocks("layout", place)
        if self.layout:
            raise TemplateError("a file has one layout", place=place,
                                related=[Related("the first is at", self.layout[0])])
        self.layout = (path.place, path.text)

    def _put(self, place: Place, reader: Reader) -> None:
        path = reader.expect("text", "the part's file name")
        arguments: list[tuple[Token, Expression]] = []
        while reader.takes(","):
            name = self._name(reader)
            if any(name.text == given.text for given, _ in arguments):
                raise TemplateError(f'"{name.text}" is given twice', place=name.place)
            if not reader.takes("="):
                reader.unexpected('"="')
            arguments.append((name, read_expression(reader)))
        reader.finish()
        self._add(Put(place, path, tuple(arguments)))

    def _slot(self, place: Place, reader: Reader) -> None:
        name = reader.expect("name", "the slot's name")
        reader.finish()
        if name.text not in ("content", "subject", "preheader"):
            raise TemplateError(f'there is no slot "{name.text}"', place=name.place,
                                hint="a layout has the slots content, subject and preheader")
        self._add(Slot(place, name.text))

    def _name(self, reader: Reader) -> Token:
        name = reader.expect("name", "a name")
        if name.text in RESERVED:
            raise TemplateError(f'"{name.text}" cannot be a name', place=name.place,
                                hint="it is a word of the language")
        return name

    # -- blocks --

    def _open(self, place: Place, reader: Reader) -> None:
        word = reader.take()
        block = _Open(word.text, place)
        if word.text == "if":
            block.test = read_expression(reader)
        elif word.text == "for":
            names = [self._name(reader)]
            if reader.takes(","):
                names.append(self._name(reader))
                if names[0].text == names[1].text:
                    raise TemplateError(f'"{names[1].text}" is named twice', place=names[1].place)
            at = self._name(reader) if reader.takes("at") else None
            if not reader.takes("in"):
                reader.unexpected('"in"')
            block.loop = (tuple(names), at, read_expression(reader))
        else:
            self._outside_blocks(word.text, place)
        if not reader.takes(":"):
            reader.unexpected('":"')
        reader.finish()
        self.stack.append(block)

    def _outside_blocks(self, word: str, place: Place) -> None:
        if len(self.stack) > 1:
            raise TemplateError(f'"{word}" stands in no block', place=place,
                                related=[Related("the block begins at", self.stack[-1].place)])

    def _close(self, place: Place, reader: Reader) -> None:
        word = reader.expect("name", "the word of the block to close")
        block = self.stack[-1]
        if word.text in ("elif", "else"):
            return self._branch(place, word, reader, block)
        if reader.next.kind == ":":
            raise TemplateError(f'"{word.text}" has no branches of its own', place=place,
                                hint=f"one opens with {{{{ {word.text} …: }}}} and closes with {{{{ :{word.text} }}}}")
        reader.finish()
        if len(self.stack) == 1:
            raise TemplateError(f'"{word.text}" is closed but was not opened', place=place)
        if word.text != block.word:
            raise TemplateError(
                f'"{word.text}" is closed where "{block.word}" is open', place=place,
                hint=f"write {{{{ :{block.word} }}}} first", related=[Related("the open block begins at", block.place)])
        self.stack.pop()
        self._add(self._finished(block, place))
        return None

    def _branch(self, place: Place, word: Token, reader: Reader, block: _Open) -> None:
        if word.text == "else" and reader.next.text == "if":
            raise TemplateError('"else if" is one word', place=word.place, hint="write {{ :elif …: }}")
        test = None if word.text == "else" else read_expression(reader)
        if not reader.takes(":"):
            raise TemplateError(f'"{word.text}" needs a colon on both sides', place=place,
                                hint=f"write {{{{ :{'else' if test is None else 'elif …'}: }}}}")
        reader.finish()
        if block.word not in ("if", "for") or (block.word == "for" and test is not None):
            open_at = [Related("the open block begins at", block.place)] if len(self.stack) > 1 else []
            raise TemplateError(f'"{word.text}" stands in no "if"', place=place, related=open_at)
        if block.last:
            raise TemplateError(f'"{word.text}" after "else"', place=place,
                                related=[Related('the "else" is at', block.branch_place or block.place)])
        self._end_branch(block)
        block.test, block.branch_place, block.last = test, place, test is None

    def _end_branch(self, block: _Open) -> None:
        block.branches.append(Branch(block.branch_place or block.place, block.test, tuple(block.body)))
        block.body = []

    def _finished(self, block: _Open, closing: Place) -> Statement:
        self._end_branch(block)
        if block.word == "if":
            return If(block.place, tuple(block.branches), closing)
        if block.loop is not None:
            names, at, items = block.loop
            otherwise = block.branches[1] if len(block.branches) > 1 else None
            return For(block.place, names, at, items, block.branches[0].body, otherwise, closing)
        return Lifted(block.place, block.word, block.branches[0].body)


def _without_statement_lines(text: str, pieces: list[_Piece]) -> list[_Piece]:
    """Take whole the lines that hold statements and white space only.

    Otherwise each ``{{ if …: }}`` on a line of its own would leave an empty line in the message.
    """
    first: tuple[_Piece, int] | None = None  # the literal the line begins in, and where
    between: list[_Piece] = []  # literals that lie within the line
    holds, clean = False, True
    lifted = ""  # the word of the message block we are in: what it holds is not part of the line
    for piece in pieces:
        if lifted:
            lifted = "" if piece.closes(lifted) else lifted
            continue
        if piece.word in _LIFTED:
            lifted = piece.word
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


def _drop(first: tuple[_Piece, int] | None, between: list[_Piece]) -> None:
    if first is not None:
        first[0].end = min(first[0].end, first[1])
    for piece in between:
        piece.end = piece.start
