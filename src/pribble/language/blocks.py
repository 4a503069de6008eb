"""Blocks: what each mark of a file says, and how the marks nest.

A colon after the word opens a block, a colon before it closes it, a colon on both sides does both:

    {{ if order.discount: }} … {{ :elif order.voucher: }} … {{ :else: }} … {{ :if }}

`parse` reads one file and knows nothing of any other; `linking.py` links what it returns.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from pribble.errors import LimitReached, Place, Related, Source, TemplateError
from pribble.language.expressions import Expression
from pribble.language.marks import Literal, Mark, cut_marks
from pribble.language.notation_hints import OPENING, refuse_other_closing, refuse_other_notation
from pribble.language.parsing import RESERVED, read_expression
from pribble.language.statement_lines import LinePiece, without_statement_lines
from pribble.language.statements import (
    Body,
    Branch,
    Extracted,
    File,
    For,
    If,
    Into,
    Let,
    LiteralText,
    Only,
    Put,
    Show,
    Slot,
    Statement,
    Stretch,
    Takes,
)
from pribble.language.tokens import Token, TokenReader
from pribble.records import field, record
from pribble.values.settings import settings_text

DEEPEST_BLOCKS = 40
MOST_BRANCHES = 200
_SETTINGS = frozenset({"let", "layout", "put", "slot", "takes"})


def parse(source: Source, *, html: bool = True, via: tuple[Related, ...] = ()) -> File:
    """Read one file.  `via` are the marks of other files that led to it, for the errors' sake."""
    return _BlockParser(source, html, via).file()


@record(slots=True)
class _Open:
    """A block that waits for its closing word; `finish` makes a statement of it, given the place of that word."""

    word: str
    place: Place
    finish: Callable[[_Open, Place], Statement] | None = None
    test: Expression | None = None
    branches: list[Branch] = field(default_factory=list)
    body: list[Statement] = field(default_factory=list)
    branch_place: Place | None = None
    last: bool = False  # its :else: has come

    @property
    def whole(self) -> Body:
        """The body of a block without branches."""
        return self.branches[0].body


class _BlockParser:
    def __init__(self, source: Source, html: bool, via: tuple[Related, ...]) -> None:
        self.source, self.html, self.via = source, html, via
        self.layout: tuple[Place, str] | None = None
        self.takes: Takes | None = None
        self.stack: list[_Open] = [_Open("", source.place(0, 0))]

    def file(self) -> File:
        for piece in without_statement_lines(self.source.text, list(self._pieces())):
            if piece.reader is not None:
                self._mark(piece, piece.reader)
            elif piece.literal and piece.start < piece.end:
                self._add(LiteralText(piece.start, piece.end))
        if len(self.stack) > 1:
            block = self.stack[-1]
            raise TemplateError(
                f'the block "{block.word}" is not closed',
                place=block.place,
                hint=f"write {{{{ :{block.word} }}}} where it ends",
            )
        return File(self.source, tuple(self.stack[0].body), self.layout, self.takes)

    def _pieces(self) -> Iterator[LinePiece]:
        for piece in cut_marks(self.source, html=self.html, via=self.via):
            if isinstance(piece, Literal):
                yield LinePiece(piece.start, piece.end)
            elif piece.remark:
                yield LinePiece(piece.start, piece.end, None, "#", sets=True)
            else:
                yield self._classified(piece)

    def _classified(self, mark: Mark) -> LinePiece:
        """Returns what a mark does: its first word and its colons alone say so."""
        reader = TokenReader(self.source, mark.inner_start, mark.inner_end, self.via, references=self.html)
        first, second = reader.next, reader.peek(1)
        piece = LinePiece(mark.start, mark.end, reader)
        if first.kind == ":":
            piece.word, piece.sets = ":", True
        elif first.text in OPENING and first.kind == "name" and reader.last.kind == ":":
            piece.word, piece.sets = f"{first.text}:", True
        elif first.kind == "name" and first.text in _SETTINGS and second.kind in ("name", "text"):
            piece.word, piece.sets = first.text, first.text not in ("put", "slot")
        elif first.kind == "end":
            raise TemplateError(
                "an empty mark",
                place=self.source.place(mark.start, mark.end, self.via),
                hint='name the field to show, or write {{ "{{" }} for a literal pair of braces',
            )
        return piece

    def _add(self, statement: Statement) -> None:
        self.stack[-1].body.append(statement)

    def _mark(self, piece: LinePiece, reader: TokenReader) -> None:
        place = self.source.place(piece.start, piece.end, self.via)
        if piece.word == "":
            self._show(place, reader)
        elif piece.word == ":":
            reader.take()
            self._close(place, reader)
        else:
            word = reader.take().text
            getattr(self, f"_{word}")(place, reader)  # one method a statement

    # -- marks that stand alone --

    def _show(self, place: Place, reader: TokenReader) -> None:
        first, second = reader.next, reader.peek(1)
        try:
            value = read_expression(reader)
            reader.finish()
        except TemplateError:
            refuse_other_notation(reader)
            raise
        if first.text in ("endif", "endfor") and second.kind == "end":
            refuse_other_notation(reader)
        self._add(Show(place, value))

    def _let(self, place: Place, reader: TokenReader) -> None:
        name = self._name(reader)
        if not reader.takes("="):
            reader.unexpected('"="')
        value = read_expression(reader)
        reader.finish()
        self._add(Let(place, name, value))

    def _layout(self, place: Place, reader: TokenReader) -> None:
        path = reader.expect("text", "the layout's file name")
        reader.finish()
        self._outside_blocks("layout", place)
        if self.layout:
            raise TemplateError(
                "a file has one layout", place=place, related=[Related("the first is at", self.layout[0])]
            )
        self.layout = (path.place, path.text)

    def _takes(self, place: Place, reader: TokenReader) -> None:
        self._outside_blocks("takes", place)
        if self.takes or any(not isinstance(s, LiteralText) for s in self.stack[0].body):
            raise TemplateError('"takes" is the first thing in a part, and stands there once', place=place)
        names: list[tuple[Token, Expression | None]] = []
        known: set[str] = set()
        while True:
            name = self._name(reader)
            if name.text in known:
                raise TemplateError(f'"{name.text}" is named twice', place=name.place)
            known.add(name.text)
            names.append((name, read_expression(reader) if reader.takes("=") else None))
            if not reader.takes(","):
                break
        reader.finish()
        self.takes = Takes(place, tuple(names))

    def _put(self, place: Place, reader: TokenReader) -> None:
        path = reader.expect("text", "the part's file name")
        arguments: list[tuple[Token, Expression]] = []
        given: set[str] = set()
        while reader.takes(","):
            name = self._name(reader)
            if name.text in given:
                raise TemplateError(f'"{name.text}" is given twice', place=name.place)
            given.add(name.text)
            if not reader.takes("="):
                reader.unexpected('"="')
            arguments.append((name, read_expression(reader)))
        if reader.takes(":"):
            self._opened("put", place, reader, lambda b, _: Put(b.place, path, tuple(arguments), b.whole))
            return
        reader.finish()
        self._add(Put(place, path, tuple(arguments), None))

    def _slot(self, place: Place, reader: TokenReader) -> None:
        name = reader.expect("name", "the slot's name")
        if reader.takes(":"):
            self._opened("slot", place, reader, lambda b, _: Slot(b.place, name, b.whole))
            return
        reader.finish()
        self._add(Slot(place, name, ()))

    def _name(self, reader: TokenReader) -> Token:
        name = reader.expect("name", "a name")
        if name.text in RESERVED:
            raise TemplateError(
                f'"{name.text}" cannot be a name', place=name.place, hint="it is a word of the language"
            )
        return name

    # -- blocks --

    def _check_depth(self, place: Place) -> None:
        if len(self.stack) > DEEPEST_BLOCKS:
            raise LimitReached(
                f"blocks within blocks, more than {DEEPEST_BLOCKS} deep",
                place=place,
                hint="put parts of it into files of their own",
            )

    def _opened(
        self, word: str, place: Place, reader: TokenReader, finish: Callable[[_Open, Place], Statement]
    ) -> _Open:
        """Begin a block, whose mark must end here."""
        reader.finish()
        self._check_depth(place)
        block = _Open(word, place, finish)
        self.stack.append(block)
        return block

    def _colon(self, reader: TokenReader) -> None:
        if not reader.takes(":"):
            reader.unexpected('":"')

    def _if(self, place: Place, reader: TokenReader) -> None:
        test = read_expression(reader)
        self._colon(reader)
        block = self._opened("if", place, reader, lambda b, closing: If(b.place, tuple(b.branches), closing))
        block.test = test

    def _for(self, place: Place, reader: TokenReader) -> None:
        if reader.next.kind == "(" and reader.peek(2).text == "in":
            inner = reader.whole_text.partition("(")[2].rpartition(")")[0].strip()
            reader.unexpected("a name", f"write {{{{ for {inner}: }}}}")
        names = [self._name(reader)]
        if reader.takes(","):
            names.append(self._name(reader))
            if names[0].text == names[1].text:
                raise TemplateError(f'"{names[1].text}" is named twice', place=names[1].place)
        at = self._name(reader) if reader.takes("at") else None
        if not reader.takes("in"):
            hint = None
            if reader.next.kind == ":" and at is None and len(names) == 1:
                hint = f"write {{{{ for item in {names[0].text}: }}}}"
            elif reader.next.text in ("of", "from"):
                hint = "write {{ for item in items: }}"
            reader.unexpected('"in"', hint)
        items = read_expression(reader)
        self._colon(reader)

        def finished(block: _Open, closing: Place) -> Statement:
            otherwise = block.branches[1] if len(block.branches) > 1 else None
            return For(block.place, tuple(names), at, items, block.whole, otherwise, closing)

        self._opened("for", place, reader, finished)

    def _extracted(self, kind: str, place: Place, reader: TokenReader) -> None:
        self._outside_blocks(kind, place)
        self._colon(reader)
        self._opened(kind, place, reader, lambda b, _: Extracted(b.place, kind, b.whole))

    def _subject(self, place: Place, reader: TokenReader) -> None:
        self._extracted("subject", place, reader)

    def _preheader(self, place: Place, reader: TokenReader) -> None:
        self._extracted("preheader", place, reader)

    def _text(self, place: Place, reader: TokenReader) -> None:
        self._extracted("text", place, reader)

    def _into(self, place: Place, reader: TokenReader) -> None:
        self._outside_blocks("into", place)
        name = reader.expect("name", "the slot's name")
        self._colon(reader)
        self._opened("into", place, reader, lambda b, _: Into(b.place, name, b.whole))

    def _only(self, place: Place, reader: TokenReader) -> None:
        kind = reader.expect("name", '"html" or "text"')
        if kind.text not in ("html", "text"):
            raise TemplateError(f'only "{kind.text}" means nothing', place=kind.place, hint="it is html or text")
        self._colon(reader)
        text = self.source.text
        before = text[text.rfind("\n", 0, place.start) + 1 : place.start]
        after = text[place.end :].partition("\n")[0]
        alone = not before.strip() and not after.strip()
        self._opened("only", place, reader, lambda b, closing: Only(b.place, kind.text, b.whole, alone, closing))

    def _locale(self, place: Place, reader: TokenReader) -> None:
        self._stretch("locale", place, reader)

    def _timezone(self, place: Place, reader: TokenReader) -> None:
        self._stretch("timezone", place, reader)

    def _stretch(self, kind: str, place: Place, reader: TokenReader) -> None:
        value = reader.expect("text", f'a {kind}, written out: "{"de" if kind == "locale" else "Europe/Berlin"}"')
        self._colon(reader)
        try:
            value_known = settings_text(kind, value.text)
        except ValueError as error:
            raise TemplateError(str(error), place=value.place) from None
        self._opened(kind, place, reader, lambda b, _: Stretch(b.place, kind, value_known, b.whole))

    def _outside_blocks(self, word: str, place: Place) -> None:
        if len(self.stack) > 1:
            raise TemplateError(
                f'"{word}" stands in no block',
                place=place,
                related=[Related("the block begins at", self.stack[-1].place)],
            )

    def _close(self, place: Place, reader: TokenReader) -> None:
        word = reader.expect("name", "the word of the block to close")
        block = self.stack[-1]
        refuse_other_closing(word, reader)
        if word.text in ("elif", "else"):
            return self._branch(place, word, reader, block)
        if reader.next.kind == ":":
            raise TemplateError(
                f'"{word.text}" has no branches of its own',
                place=place,
                hint=f"one opens with {{{{ {word.text} …: }}}} and closes with {{{{ :{word.text} }}}}",
            )
        reader.finish()
        if len(self.stack) == 1:
            raise TemplateError(f'"{word.text}" is closed but was not opened', place=place)
        if word.text != block.word:
            raise TemplateError(
                f'"{word.text}" is closed where "{block.word}" is open',
                place=place,
                hint=f"write {{{{ :{block.word} }}}} first",
                related=[Related("the open block begins at", block.place)],
            )
        self.stack.pop()
        self._end_branch(block)
        assert block.finish is not None
        self._add(block.finish(block, place))
        return None

    def _branch(self, place: Place, word: Token, reader: TokenReader, block: _Open) -> None:
        if word.text == "else" and reader.next.text == "if":
            raise TemplateError('"else if" is one word', place=word.place, hint="write {{ :elif …: }}")
        test = None if word.text == "else" else read_expression(reader)
        if not reader.takes(":"):
            raise TemplateError(
                f'"{word.text}" needs a colon on both sides',
                place=place,
                hint=f"write {{{{ :{'else' if test is None else 'elif …'}: }}}}",
            )
        reader.finish()
        if block.word not in ("if", "for") or (block.word == "for" and test is not None):
            open_at = [Related("the open block begins at", block.place)] if len(self.stack) > 1 else []
            raise TemplateError(f'"{word.text}" stands in no "if"', place=place, related=open_at)
        if block.last:
            raise TemplateError(
                f'"{word.text}" after "else"',
                place=place,
                related=[Related('the "else" is at', block.branch_place or block.place)],
            )
        if len(block.branches) >= MOST_BRANCHES:
            raise LimitReached(
                f"more than {MOST_BRANCHES} branches", place=place, hint="look the value up in a record of the data"
            )
        self._end_branch(block)
        block.test, block.branch_place, block.last = test, place, test is None

    def _end_branch(self, block: _Open) -> None:
        block.branches.append(Branch(block.branch_place or block.place, block.test, tuple(block.body)))
        block.body = []
