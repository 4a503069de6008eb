"""The tape: a linked template as one string in which every mark is one private-use character.

Layouts and parts are put in place, names are resolved, and what is left is a string with characters of
planes 15 and 16 that index a list of marks.  Whoever scans the string as HTML needs no word of the
template language, and every pass over it is a list of edits at offsets.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from pribble.errors import LimitReached, Place, Related, Source, TemplateError
from pribble.language import blocks
from pribble.language.expressions import Binding, Expression, Local, Name, rebuilt

FIRST_MARK, LAST_MARK = 0xF0000, 0x10FFFD
MOST_MARKS = 100_000
MOST_CHARACTERS = 10_000_000
DEEPEST_PARTS = 20
_PLANE_15_ENDS = 0xFFFFD  # U+FFFFE and U+FFFFF are no characters


def is_mark(character: str) -> bool:
    """Whether `character` stands for a mark on a tape."""
    return character >= "\U000f0000"


def mark_index(character: str) -> int:
    """The index in `Tape.marks` of the mark that `character` stands for."""
    code = ord(character)
    return code - FIRST_MARK if code <= _PLANE_15_ENDS else code - FIRST_MARK - 2


def _character(index: int) -> str:
    code = FIRST_MARK + index
    return chr(code if code <= _PLANE_15_ENDS else code + 2)


# The roles a mark can have; `markup/` sees nothing else of it.
SHOW, OPEN, BRANCH, CLOSE, SET, LIFTED, LITERAL = "show", "open", "branch", "close", "set", "lifted", "literal"


@dataclass(frozen=True, slots=True)
class Loop:
    """What an opened ``for`` binds."""

    items: Expression
    names: tuple[Binding, ...]
    at: Binding | None


@dataclass(frozen=True, slots=True)
class TapeMark:
    """One mark of the tape.

    show: `value`.  open: `value` is the test, or `loop` is set.  branch: `value` is the test, None for
    ``:else:``.  set: `binding`.  lifted: `lifted`.  literal: `literal`, a character of the author's own.
    """

    role: str
    place: Place = field(repr=False)
    value: Expression | None = None
    loop: Loop | None = None
    binding: Binding | None = None
    lifted: LiftedBlock | None = None
    literal: str = ""

    def expressions(self) -> Iterator[Expression]:
        """The expressions it holds, but for those of a lifted block."""
        if self.value is not None:
            yield self.value
        if self.loop is not None:
            yield self.loop.items
        if self.binding is not None and self.binding.value is not None:
            yield self.binding.value


@dataclass(frozen=True, slots=True)
class LiftedBlock:
    """A message block, as a tape of its own; `bindings` are the top-level ``let``s above it, in order."""

    kind: str
    tape: Tape
    bindings: tuple[Binding, ...]


@dataclass(frozen=True, slots=True)
class Tape:
    """`text` with its `marks`; `sources` are all files it was linked from, in the order they were met."""

    text: str
    marks: tuple[TapeMark, ...]
    sources: tuple[Source, ...]
    origins: _Origins = field(repr=False)

    def place(self, start: int, end: int) -> Place:
        """Where the author wrote the stretch of the tape from `start` to `end`."""
        first = self.origins.at(start)
        last = self.origins.at(max(start, end - 1))
        if first.source is last.source and last.end > first.start:
            return Place(first.source, first.start, last.end, first.via)
        return first

    def mark(self, offset: int) -> TapeMark:
        """The mark whose character stands at `offset`."""
        return self.marks[mark_index(self.text[offset])]


@dataclass(slots=True)
class _Origins:
    """For each stretch of a tape, the file and offset it came from."""

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


# Finds the file a mark names: (path as written, source of the file that names it, place) → the file.
Finder = Callable[[str, Source, Place], Source]


def link(source: Source, find: Finder, *, html: bool = True) -> Tape:
    """The tape of a template.

    `find` brings the text of a layout or part that a file names; it raises `TemplateError` where there is
    none.  Raises `TemplateError` for all that is wrong with the language of the files.
    """
    return _Linker(find, html).page(source)


@dataclass(slots=True)
class _Scope:
    """The names that stand for something here; a name in none of the scopes is a field of the data."""

    names: dict[str, Binding]
    outer: _Scope | None = None

    def find(self, name: str) -> Binding | None:
        scope: _Scope | None = self
        while scope is not None:
            if name in scope.names:
                return scope.names[name]
            scope = scope.outer
        return None


@dataclass(slots=True)
class _Filling:
    """What a page has for its layout's slots."""

    file: blocks.File
    lifted: dict[str, blocks.Lifted]
    scope: _Scope
    bindings: list[Binding]
    via: tuple[Related, ...]
    used: set[str] = field(default_factory=set)


class _Linker:
    def __init__(self, find: Finder, html: bool) -> None:
        self.find, self.html = find, html
        self.sources: list[Source] = []
        self._parsed: dict[tuple[Source, tuple[Related, ...]], blocks.File] = {}
        self.length = 0

    def page(self, source: Source) -> Tape:
        file = self._read(source, ())
        roll = _Roll(self)
        if file.layout is None:
            roll.file(file, _Scope({}), (), None)
        else:
            self._in_layout(roll, file, ())
        return roll.finished()

    def _in_layout(self, roll: _Roll, file: blocks.File, via: tuple[Related, ...]) -> None:
        assert file.layout is not None
        place, path = file.layout
        layout_source = self.find(path, file.source, place)
        chain = (Related("as the layout of", place), *via)
        layout = self._read(layout_source, chain)
        if layout.layout is not None:
            raise TemplateError("a layout has no layout of its own", place=layout.layout[0])
        lifted = {s.kind: s for s in file.body if isinstance(s, blocks.Lifted)}
        filling = _Filling(file, lifted, _Scope({}), [], via)
        roll.file(layout, _Scope({}), chain, filling)
        if "content" not in filling.used:
            raise TemplateError("the layout has no place for the page", place=place,
                                hint="write {{ slot content }} in it")

    def _read(self, source: Source, via: tuple[Related, ...]) -> blocks.File:
        if source not in self.sources:
            self.sources.append(source)
        if (source, via) not in self._parsed:
            self._parsed[source, via] = blocks.parse(source, html=self.html, via=via)
        return self._parsed[source, via]


class _Roll:
    """One tape being written."""

    def __init__(self, linker: _Linker) -> None:
        self.linker = linker
        self.pieces: list[str] = []
        self.marks: list[TapeMark] = []
        self.origins = _Origins()
        self.length = 0
        self.putting: list[tuple[Source, Place]] = []
        self.lifted: dict[str, Place] = {}

    def finished(self) -> Tape:
        return Tape("".join(self.pieces), tuple(self.marks), tuple(self.linker.sources), self.origins)

    # -- writing --

    def _write(self, text: str, place: Place, literal: bool) -> None:
        self.origins.add(self.length, place, literal)
        self.pieces.append(text)
        self.length += len(text)
        self.linker.length += len(text)
        if self.linker.length > MOST_CHARACTERS:
            raise LimitReached(f"a template of more than {MOST_CHARACTERS:,} characters", place=place)

    def _mark(self, mark: TapeMark) -> None:
        if len(self.marks) >= MOST_MARKS:
            raise LimitReached(f"a template of more than {MOST_MARKS:,} marks", place=mark.place)
        self.marks.append(mark)
        self._write(_character(len(self.marks) - 1), mark.place, False)

    def _text(self, source: Source, start: int, end: int, via: tuple[Related, ...]) -> None:
        text = source.text[start:end]
        if not text.isascii() and any(is_mark(c) for c in text):
            for offset, character in enumerate(text, start):
                if is_mark(character):
                    self._mark(TapeMark(LITERAL, source.place(offset, offset + 1, via), literal=character))
                else:
                    self._write(character, source.place(offset, offset + 1, via), True)
            return
        self._write(text, source.place(start, end, via), True)

    # -- statements --

    def file(self, file: blocks.File, scope: _Scope, via: tuple[Related, ...], filling: _Filling | None,
             bindings: list[Binding] | None = None) -> None:
        """Write a whole file; `bindings` collects the ``let``s of its top level."""
        tops: list[Binding] = [] if bindings is None else bindings
        for statement in file.body:
            self._statement(statement, file.source, scope, via, filling, tops)

    def _body(self, body: tuple[blocks.Statement, ...], source: Source, scope: _Scope, via: tuple[Related, ...],
              filling: _Filling | None) -> None:
        inner = _Scope({}, scope)
        for statement in body:
            self._statement(statement, source, inner, via, filling, None)

    def _statement(self, statement: blocks.Statement, source: Source, scope: _Scope, via: tuple[Related, ...],
                   filling: _Filling | None, tops: list[Binding] | None) -> None:
        match statement:
            case blocks.Text(start=start, end=end):
                self._text(source, start, end, via)
            case blocks.Show(place=place, value=value):
                self._mark(TapeMark(SHOW, place, resolved(value, scope)))
            case blocks.If():
                self._if(statement, source, scope, via, filling)
            case blocks.For():
                self._for(statement, source, scope, via, filling)
            case blocks.Let(place=place, name=name, value=value):
                if (earlier := scope.find(name.text)) is not None:
                    raise TemplateError(f'"{name.text}" stands for something already', place=name.place,
                                        related=[Related("it is first set at", earlier.place)])
                binding = Binding(name.text, "let", name.place, resolved(value, scope))
                scope.names[name.text] = binding
                if tops is not None:
                    tops.append(binding)
                self._mark(TapeMark(SET, place, binding=binding))
            case blocks.Put():
                self._put(statement, source, scope)
            case blocks.Slot(place=place, name=name_):
                self._slot(place, name_, filling)
            case blocks.Lifted():
                self._lift(statement, source, scope, via, tuple(tops or ()))

    def _if(self, block: blocks.If, source: Source, scope: _Scope, via: tuple[Related, ...],
            filling: _Filling | None) -> None:
        for number, branch in enumerate(block.branches):
            test = None if branch.test is None else resolved(branch.test, scope)
            self._mark(TapeMark(BRANCH if number else OPEN, branch.place, test))
            self._body(branch.body, source, scope, via, filling)
        self._mark(TapeMark(CLOSE, block.closing))

    def _for(self, block: blocks.For, source: Source, scope: _Scope, via: tuple[Related, ...],
             filling: _Filling | None) -> None:
        items = resolved(block.items, scope)
        kinds = ("item",) if len(block.names) == 1 else ("first", "second")
        names = tuple(Binding(n.text, k, n.place, items) for n, k in zip(block.names, kinds, strict=True))
        at = None if block.at is None else Binding(block.at.text, "place", block.at.place, items)
        inner = _Scope({b.name: b for b in (*names, *((at,) if at else ()))}, scope)
        if len(inner.names) < len(names) + (at is not None):
            raise TemplateError(f'"{at.name if at else ""}" is named twice', place=block.place)
        self._mark(TapeMark(OPEN, block.place, loop=Loop(items, names, at)))
        self._body(block.body, source, inner, via, filling)
        if block.otherwise is not None:
            self._mark(TapeMark(BRANCH, block.otherwise.place))
            self._body(block.otherwise.body, source, scope, via, filling)
        self._mark(TapeMark(CLOSE, block.closing))

    def _lift(self, block: blocks.Lifted, source: Source, scope: _Scope, via: tuple[Related, ...],
              bindings: tuple[Binding, ...]) -> None:
        if (earlier := self.lifted.get(block.kind)) is not None:
            raise TemplateError(f'"{block.kind}" stands twice', place=block.place,
                                related=[Related("it stands already at", earlier)])
        self.lifted[block.kind] = block.place
        roll = _Roll(self.linker)
        roll._body(block.body, source, scope, via, None)
        self._mark(TapeMark(LIFTED, block.place, lifted=LiftedBlock(block.kind, roll.finished(), bindings)))

    def _slot(self, place: Place, name: str, filling: _Filling | None) -> None:
        if filling is None:
            raise TemplateError("a slot stands in a layout only", place=place)
        if name == "content":
            if name in filling.used:
                raise TemplateError("the page goes into a layout once", place=place)
            filling.used.add(name)
            self.file(filling.file, filling.scope, filling.via, filling, filling.bindings)
        elif (block := filling.lifted.get(name)) is not None:
            self._spliced(block, filling)

    def _spliced(self, block: blocks.Lifted, filling: _Filling) -> None:
        """A message block shown where the layout says, as part of the page: it sets its own ``let``s."""
        scope = _Scope({})
        for statement in filling.file.body:
            if statement is block:
                break
            if isinstance(statement, blocks.Let):
                self._statement(statement, filling.file.source, scope, filling.via, filling, None)
        self._body(block.body, filling.file.source, scope, filling.via, None)

    def _put(self, put: blocks.Put, source: Source, scope: _Scope) -> None:
        part_source = self.linker.find(put.path.text, source, put.path.place)
        way = [at for at, _ in self.putting]
        if part_source == source or part_source in way:
            first = way.index(part_source) if part_source in way else len(way)
            related = [Related("which is put at", place) for _, place in self.putting[first:]]
            raise TemplateError("a part puts itself", place=put.path.place, related=related)
        if len(self.putting) >= DEEPEST_PARTS:
            raise LimitReached(f"parts within parts, more than {DEEPEST_PARTS} deep", place=put.path.place)
        via = (Related("put at", put.place), *put.place.via)
        inner = _Scope({})
        for name, value in put.arguments:
            binding = Binding(name.text, "let", name.place, resolved(value, scope))
            inner.names[name.text] = binding
            self._mark(TapeMark(SET, name.place, binding=binding))
        file = self.linker._read(part_source, via)
        if file.layout is not None:
            raise TemplateError("a part has no layout", place=file.layout[0])
        lifted = next((s for s in file.body if isinstance(s, blocks.Lifted)), None)
        if lifted is not None:
            raise TemplateError(f'"{lifted.kind}" stands in a page or layout, not in a part', place=lifted.place)
        self.putting.append((part_source, put.path.place))
        self.file(file, inner, via, None)
        self.putting.pop()


def resolved(expression: Expression, scope: _Scope) -> Expression:
    """`expression` with every first name that the template bound as a `Local`."""
    if isinstance(expression, Name):
        binding = scope.find(expression.name)
        return expression if binding is None else Local(expression.place, binding)
    return rebuilt(expression, lambda inner: resolved(inner, scope))
