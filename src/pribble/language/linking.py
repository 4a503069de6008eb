"""Linking: layouts and parts are put in place, names are resolved, and all becomes one linked source."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from itertools import pairwise

from pribble.errors import LimitReached, Place, Related, Source, TemplateError, did_you_mean
from pribble.language import blocks
from pribble.language.expressions import Binding, Expression
from pribble.language.linked_source import (
    BRANCH,
    CLOSE,
    EXTRACTED,
    OPEN,
    SET,
    SHOW,
    ExtractedBlock,
    LinkedSource,
    LinkedSourceWriter,
    Loop,
    Marker,
)
from pribble.language.name_resolution import Scope, resolve_names
from pribble.language.page_bodies import HEAD_END, split_document
from pribble.language.statements import (
    Body,
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
    nested_statements,
)
from pribble.limits import Limits
from pribble.records import field, record
from pribble.values.formatters import Formatter

# Python nests loops 20 deep and no deeper, and so do programs; bodies are bounded by the stack they are written on.
DEEPEST_LOOPS = 15
DEEPEST_BODIES = 60
# Slots that hold what a page has for the message, and not what it has for a place of the layout.
_MESSAGE = ("subject", "preheader", "text")


@record(frozen=True, slots=True)
class FoundFile:
    """A file that a mark names, and the locale it is for (None for a plain file)."""

    source: Source
    locale: str | None


# (path as written, source of the file that names it, place of the path) → the file
FileFinder = Callable[[str, Source, Place], FoundFile]


def link_template(
    found: FoundFile,
    find: FileFinder,
    *,
    html: bool = True,
    formatters: Mapping[str, Formatter],
    common: Collection[str] = (),
    limits: Limits | None = None,
) -> LinkedSource:
    """Returns the linked source of a template.

    `find` brings the layouts and parts that files name; it raises `TemplateError` where there is none.
    `formatters` are those that there are, `common` names that stand for values every template sees.  Raises
    `TemplateError` for all that is wrong with the language of the files, `LimitReached` for what grows beyond `limits`.
    """
    return _Linker(find, html, formatters, frozenset(common), limits or Limits()).page(found)


@record(slots=True)
class _Here:
    """Where the linker is: a file, the marks that led to it, and what fills its slots."""

    source: Source
    via: tuple[Related, ...]
    slots: dict[str, Callable[[LinkedSourceWriter], None]]
    used: set[str] = field(default_factory=set)
    head: list[tuple[_Here, LiteralText]] = field(default_factory=list)  # what is to join the head of this layout
    is_part: bool = False


@record(slots=True)
class _Layer:
    """A page or layout, the scope of its top level, and where it is."""

    file: File
    scope: Scope
    here: _Here

    def message(self, kind: str) -> Extracted | None:
        """Returns its ``subject:``, ``preheader:`` or ``text:``; raises `TemplateError` where it has two."""
        found = [s for s in self.file.body if isinstance(s, Extracted) and s.kind == kind]
        if len(found) > 1:
            raise TemplateError(
                f'"{kind}" stands twice',
                place=found[1].place,
                related=[Related("it stands already at", found[0].place)],
            )
        return found[0] if found else None


class _Linker:
    def __init__(
        self,
        find: FileFinder,
        html: bool,
        formatters: Mapping[str, Formatter],
        common: frozenset[str],
        limits: Limits,
    ) -> None:
        self.find, self.html, self.limits = find, html, limits
        self.formatters, self.common = formatters, common
        self.sources: dict[Source, None] = {}
        self._parsed: dict[tuple[Source, tuple[Related, ...]], File] = {}
        self._putting: list[tuple[Source, Place]] = []
        self._pages: list[Source] = []
        self._hoisted: dict[int, Binding] = {}  # by the identity of the statement
        self._parts = 0
        self._depth = self._loops = 0  # how many bodies, and loops, are being written within each other

    def _scope(self, locale: str | None, timezone: str | None = None) -> Scope:
        """Returns the outermost scope of a file."""
        return Scope(locale=locale, timezone=timezone, common=self.common, formatters=self.formatters)

    # -- pages and layouts --

    def page(self, found: FoundFile) -> LinkedSource:
        """Returns a page in its layout, that in its own, and so on: the outermost is written, and asks for the inner
        ones."""
        layers = self._layers(found)
        for number, layer in enumerate(layers[:-1]):
            self._fill(layers[number + 1 :], layer)
        outermost = layers[-1]
        if stray := next((s for s in outermost.file.body if isinstance(s, Into)), None):
            raise TemplateError('"into" fills a slot of a layout, and there is none', place=stray.place)
        writer = LinkedSourceWriter(self.limits)
        for layer in layers[:-1]:
            self._hoist(writer, layer)
        self._body(writer, outermost.file.body, outermost.scope, outermost.here)
        for inner, outer in pairwise(layers):
            if "content" not in outer.here.used and inner.file.layout:
                raise TemplateError(
                    "the layout has no place for the page",
                    place=inner.file.layout[0],
                    hint="write {{ slot content }} in it",
                )
        if outermost.here.head:
            other, stretch = outermost.here.head[0]
            raise TemplateError(
                "the layout has no </head> that this could join",
                place=other.source.place(stretch.start, stretch.end, other.via),
            )
        self._lift_messages(writer, layers)
        return writer.finished(tuple(self.sources))

    def _layers(self, found: FoundFile) -> list[_Layer]:
        """Returns the page, its layout, the layout's layout …"""
        layers: list[_Layer] = []
        via: tuple[Related, ...] = ()
        while True:
            if found.source in self._pages:
                places = [layer.file.layout[0] for layer in layers if layer.file.layout]
                raise TemplateError(
                    "a layout is its own layout",
                    place=places[-1],
                    related=[Related("which is the layout of", place) for place in places[-2::-1]],
                )
            self._pages.append(found.source)
            file = self._read(found.source, via)
            if file.takes is not None:
                raise TemplateError("a part takes names; a page or layout does not", place=file.takes.place)
            scope = self._scope(found.locale)
            layers.append(_Layer(file, scope, _Here(found.source, via, {})))
            if file.layout is None:
                return layers
            place, path = file.layout
            via = (Related("as the layout of", place), *via)
            found = self.find(path, file.source, place)

    def _hoist(self, writer: LinkedSourceWriter, layer: _Layer) -> None:
        """Set the ``let``s at the top level of a page first of all, once for the page and all its message blocks,
        which a layout may show anywhere.  They depend on nothing but the data and each other."""
        top = self._scope(layer.scope.locale)
        for statement in layer.file.body:
            if isinstance(statement, Let):
                self._let(writer, statement, top)
                self._hoisted[id(statement)] = top.names[statement.name.text]

    def _fill(self, above: list[_Layer], layer: _Layer) -> None:
        """Hand over to the layouts above a file what it has for their slots."""
        nearest = above[0].here
        page = split_document(layer.file)
        nearest.slots["content"] = lambda writer: self._body(writer, page.content, layer.scope, layer.here)
        for stretch in page.head:
            above[-1].here.head.append((layer.here, stretch))
        known = [_slots(outer.file) - {"content", *_MESSAGE} for outer in above]
        for block in layer.file.body:
            if not isinstance(block, Into):
                continue
            name = block.name.text
            slots = next((outer.here.slots for outer, names in zip(above, known, strict=True) if name in names), None)
            if slots is None:
                raise TemplateError(
                    f'no layout has a slot "{name}"',
                    place=block.name.place,
                    hint=did_you_mean(name, set().union(*known)),
                )
            if name in slots:
                raise TemplateError(f'the slot "{name}" is filled already', place=block.name.place)
            slots[name] = self._spliced(layer, block)
        for kind in _MESSAGE:
            if (message := layer.message(kind)) is not None:
                nearest.slots[kind] = self._spliced(layer, message)
            elif kind in layer.here.slots:
                nearest.slots[kind] = layer.here.slots[kind]

    def _spliced(self, layer: _Layer, block: Into | Extracted) -> Callable[[LinkedSourceWriter], None]:
        """Writes a block of a page elsewhere; there it sets the ``let``s above it anew."""

        def write(writer: LinkedSourceWriter) -> None:
            top = self._scope(layer.scope.locale)
            for statement in layer.file.body:
                if statement is block:
                    break
                if isinstance(statement, Let):
                    self._let(writer, statement, top)
            self._body(writer, block.body, top.inner(), layer.here)

        return write

    def _lift_messages(self, writer: LinkedSourceWriter, layers: list[_Layer]) -> None:
        """The subject, preheader and text, each of the outermost file that has one."""
        for kind in _MESSAGE:
            found = [(layer, message) for layer in layers if (message := layer.message(kind)) is not None]
            if found:
                layer, message = found[-1]
                inner = writer.inner()
                for binding in self._hoisted.values():  # those it does not need are left out when it is compiled
                    inner.mark(Marker(SET, binding.place, binding=binding))
                self._spliced(layer, message)(inner)
                extracted = ExtractedBlock(kind, inner.finished(tuple(self.sources)))
                writer.mark(Marker(EXTRACTED, message.place, extracted=extracted))

    def _read(self, source: Source, via: tuple[Related, ...]) -> File:
        self.sources.setdefault(source)
        if (source, via) not in self._parsed:
            self._parsed[source, via] = blocks.parse(source, html=self.html, via=via)
        return self._parsed[source, via]

    # -- statements --

    def _body(self, writer: LinkedSourceWriter, body: Body, scope: Scope, here: _Here) -> None:
        self._depth += 1
        for statement in body:
            if self._depth > DEEPEST_BODIES and not isinstance(statement, LiteralText | Show):
                raise LimitReached(
                    f"blocks and parts within each other, more than {DEEPEST_BODIES} deep", place=statement.place
                )
            self._statement(writer, statement, scope, here)
        self._depth -= 1

    def _statement(self, writer: LinkedSourceWriter, statement: Statement, scope: Scope, here: _Here) -> None:
        match statement:
            case LiteralText(start=start, end=end):
                self._text(writer, start, end, here)
            case Show(place=place, value=value):
                writer.mark(Marker(SHOW, place, resolve_names(value, scope), locale=scope.locale))
            case If():
                for number, branch in enumerate(statement.branches):
                    test = None if branch.test is None else resolve_names(branch.test, scope)
                    writer.mark(Marker(BRANCH if number else OPEN, branch.place, test))
                    self._body(writer, branch.body, scope.inner(), here)
                writer.mark(Marker(CLOSE, statement.closing))
            case For():
                self._for(writer, statement, scope, here)
            case Let():
                self._let(writer, statement, scope)
            case Only():
                self._only(writer, statement, scope, here)
            case Stretch(kind=kind, value=value_, body=body):
                self._body(writer, body, scope.inner(**{kind: value_}), here)
            case Put():
                self._put(writer, statement, scope, here)
            case Slot():
                self._slot(writer, statement, scope, here)
            case Extracted() | Into():
                if here.is_part:
                    word = statement.kind if isinstance(statement, Extracted) else "into"
                    raise TemplateError(f'"{word}" stands in a page or layout, not in a part', place=statement.place)
                # otherwise it is written where it belongs

    def _text(self, writer: LinkedSourceWriter, start: int, end: int, here: _Here) -> None:
        """Write a literal; what joins the head of a layout comes before the head's end."""
        if here.head and (found := HEAD_END.search(here.source.text, start, end)):
            writer.text(here.source, start, found.start(), here.via)
            for other, stretch in here.head:
                writer.text(other.source, stretch.start, stretch.end, other.via)
            here.head.clear()
            start = found.start()
        writer.text(here.source, start, end, here.via)

    def _for(self, writer: LinkedSourceWriter, block: For, scope: Scope, here: _Here) -> None:
        items = resolve_names(block.items, scope)
        kinds = ("item",) if len(block.names) == 1 else ("first", "second")
        names = tuple(Binding(n.text, k, n.place, items) for n, k in zip(block.names, kinds, strict=True))
        at = None if block.at is None else Binding(block.at.text, "place", block.at.place, items)
        inner = scope.inner()
        for binding in (*names, *((at,) if at else ())):
            if binding.name in inner.names:
                raise TemplateError(f'"{binding.name}" is named twice', place=binding.place)
            inner.names[binding.name] = binding
        self._loops += 1
        if self._loops > DEEPEST_LOOPS:
            raise LimitReached(f"loops within loops, more than {DEEPEST_LOOPS} deep", place=block.place)
        writer.mark(Marker(OPEN, block.place, loop=Loop(items, names, at)))
        self._body(writer, block.body, inner.inner(), here)
        self._loops -= 1
        if block.otherwise is not None:
            writer.mark(Marker(BRANCH, block.otherwise.place))
            self._body(writer, block.otherwise.body, scope.inner(), here)
        writer.mark(Marker(CLOSE, block.closing))

    def _let(self, writer: LinkedSourceWriter, let: Let, scope: Scope) -> None:
        if (earlier := scope.find(let.name.text)) is not None:
            raise TemplateError(
                f'"{let.name.text}" stands for something already',
                place=let.name.place,
                related=[Related("it is first set at", earlier.place)],
            )
        if (binding := self._hoisted.get(id(let))) is None:
            binding = Binding(let.name.text, "let", let.name.place, resolve_names(let.value, scope))
            writer.mark(Marker(SET, let.place, binding=binding))
        scope.names[let.name.text] = binding

    def _only(self, writer: LinkedSourceWriter, block: Only, scope: Scope, here: _Here) -> None:
        if block.kind == "text":
            inner = writer.inner()
            self._body(inner, block.body, scope.inner(), here)
            extracted = ExtractedBlock("only", inner.finished(tuple(self.sources)), alone=block.alone)
            writer.mark(Marker(EXTRACTED, block.place, extracted=extracted))
            return
        writer.mark(Marker(OPEN, block.place))
        self._body(writer, block.body, scope.inner(), here)
        writer.mark(Marker(CLOSE, block.closing))

    def _slot(self, writer: LinkedSourceWriter, slot: Slot, scope: Scope, here: _Here) -> None:
        name = slot.name.text
        if not here.is_part and not here.slots:
            raise TemplateError("a slot stands in a layout or part only", place=slot.place)
        if here.is_part and name != "content":
            raise TemplateError(f'a part has one slot, "content", not "{name}"', place=slot.name.place)
        if name == "content" and name in here.used:
            raise TemplateError(
                "the page goes into a layout once" if not here.is_part else "the content goes into a part once",
                place=slot.place,
            )
        here.used.add(name)
        if name in here.slots:
            here.slots[name](writer)
        else:
            self._body(writer, slot.default, scope.inner(), here)

    # -- parts --

    def _put(self, writer: LinkedSourceWriter, put: Put, scope: Scope, here: _Here) -> None:
        found = self.find(put.path.text, here.source, put.path.place)
        self._check_way(found.source, put)
        via = (Related("put at", put.place), *put.place.via)
        file = self._read(found.source, via)
        if file.layout is not None:
            raise TemplateError("a part has no layout", place=file.layout[0])
        inner = self._scope(found.locale, scope.timezone)
        if file.takes is not None:
            inner.takes = tuple(name.text for name, _ in file.takes.names)
        given = {name.text: (name.place, resolve_names(value, scope)) for name, value in put.arguments}
        for name, place, value in self._given(file, put, given, inner):
            binding = Binding(name, "let", place, value)
            inner.names[name] = binding
            writer.mark(Marker(SET, place, binding=binding))
        part = _Here(found.source, via, {}, is_part=True)
        if put.content is not None:
            part.slots["content"] = self._content(put.content, scope, here)
        self._putting.append((found.source, put.path.place))
        self._body(writer, file.body, inner, part)
        self._putting.pop()
        if put.content is not None and "content" not in part.used:
            raise TemplateError(
                "the part has no place for this content", place=put.place, hint="write {{ slot content }} in it"
            )

    def _content(self, content: Body, scope: Scope, here: _Here) -> Callable[[LinkedSourceWriter], None]:
        """Writes what a page puts into a part: it stands in the page, and may put that part again."""
        way = list(self._putting)

        def write(writer: LinkedSourceWriter) -> None:
            inside, self._putting = self._putting, way
            self._body(writer, content, scope.inner(), here)
            self._putting = inside

        return write

    def _given(
        self, file: File, put: Put, given: dict[str, tuple[Place, Expression]], inner: Scope
    ) -> Iterator[tuple[str, Place, Expression]]:
        """Yields what the names of a part stand for, checked against what it takes; a default may use names before
        it."""
        if file.takes is None:
            yield from ((name, place, value) for name, (place, value) in given.items())
            return
        known = frozenset(inner.takes or ())
        for other, (place, _) in given.items():
            if other not in known:
                raise TemplateError(f'the part takes no "{other}"', place=place, hint=did_you_mean(other, known))
        for name, default in file.takes.names:
            if name.text in given:
                yield (name.text, *given[name.text])
            elif default is not None:
                yield name.text, name.place, resolve_names(default, inner)
            else:
                raise TemplateError(
                    f'the part takes "{name.text}", which is not given',
                    place=put.place,
                    related=[Related("it takes it at", name.place)],
                )

    def _check_way(self, source: Source, put: Put) -> None:
        way = [at for at, _ in self._putting]
        if source in way or source in self._pages:
            places = [place for _, place in self._putting[way.index(source) if source in way else 0 :]]
            raise TemplateError(
                "a part puts itself",
                place=put.path.place,
                related=[Related("which is put at", place) for place in reversed(places)],
            )
        self._parts += 1
        if len(way) >= self.limits.depth:
            raise LimitReached(f"parts within parts, more than {self.limits.depth} deep", place=put.path.place)
        if self._parts > self.limits.parts:
            raise LimitReached(f"more than {self.limits.parts:,} parts are put", place=put.path.place)


def _slots(file: File) -> set[str]:
    return {s.name.text for s in nested_statements(file.body) if isinstance(s, Slot)}
