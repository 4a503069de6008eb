"""A rendering that knows where it comes from: of each stretch the mark, the turn of a loop and the data."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterator, Mapping, Sequence

from pribble.cached_property import cached_property
from pribble.compiler.compiled_template import TracedTemplate
from pribble.compiler.program import ProgramWorld
from pribble.compiler.runtime import trim_lines
from pribble.compiler.tracing import Fork, Trace, TracedProgram, TracedSites
from pribble.errors import Place
from pribble.language.data_paths import data_paths
from pribble.language.expressions import Binding, Expression
from pribble.language.linked_source import LinkedSource
from pribble.mime.flowed import SIGNATURE
from pribble.passes.pieces import Piece, texts_of
from pribble.passes.traces import TRACE_END, Origin, ShownValue, TraceBegin, TracedRange, traced_ranges
from pribble.records import field, record
from pribble.rendering.rendering import Rendering, begins_preheader, final_pieces, with_pieces
from pribble.values.escaping import markup
from pribble.values.kinds import Data
from pribble.values.settings import Settings

# Makes a text of another, and says of each offset where it is then.
_Keeping = Callable[[str], tuple[str, list[int]]]


@record(frozen=True, slots=True)
class Shown:
    """A stretch of a text that shows a value: `start` and `end` are its offsets, `place` the mark's, and `paths` name
    the data (``lines[2].price``)."""

    start: int
    end: int
    place: Place
    paths: tuple[str, ...]
    value: Expression = field(repr=False)
    bindings: Mapping[Binding, int] = field(repr=False)

    @property
    def path(self) -> str:
        """The first of its paths; "" where it shows no data."""
        return self.paths[0] if self.paths else ""


@record(frozen=True, slots=True)
class Tested:
    """A test of a branch that was made: `bindings` are the turns of the loops around it."""

    test: Expression
    place: Place
    bindings: Mapping[Binding, int]


@record(frozen=True, eq=False)
class TracedText:
    """One form of a rendering, and where its stretches come from."""

    text: str
    linked: LinkedSource
    sites: TracedSites
    trace: Trace
    ranges: Sequence[TracedRange]

    @cached_property
    def shown(self) -> tuple[Shown, ...]:
        """The stretches that show values, in their order."""
        return tuple(self._shown(one, one.source) for one in self.ranges if isinstance(one.source, ShownValue))

    def _shown(self, one: TracedRange, source: ShownValue) -> Shown:
        value, place = self.sites.values[source.number]
        bindings = self.bindings(source)
        return Shown(one.start, one.end, place, tuple(dict.fromkeys(data_paths(value, bindings))), value, bindings)

    def bindings(self, source: ShownValue) -> dict[Binding, int]:
        """Returns the turns of loops by the names that they set."""
        made: dict[Binding, int] = {}
        for number, turn in source.turns:
            loop = self.sites.loops[number].loop
            made |= dict.fromkeys(loop.names, turn) if loop is not None else {}
        return made

    @property
    def tested(self) -> Iterator[Tested]:
        """The tests of branches that were made."""
        for one in self.trace.tested:
            test, place = self.sites.tests[one.number]
            yield Tested(test, place, self.bindings(one))

    @cached_property
    def _starts(self) -> list[int]:
        return [one.start for one in self.ranges]

    def place(self, start: int, end: int) -> Place | None:
        """Returns where the stretch from `start` to `end` was written, or the mark that shows it; of what nobody wrote,
        as an added style, where it was put."""
        index = bisect_right(self._starts, start) - 1
        if index < 0:
            return None
        one = self.ranges[index]
        if isinstance(one.source, ShownValue) and start < max(one.end, one.start + 1):
            return self.sites.values[one.source.number][1]
        first = self._written(index, start)
        if first is None:
            return None
        if start < one.end:
            last = self._written(bisect_right(self._starts, max(start, end - 1)) - 1, end - 1)
            return self.linked.place(first, first + 1 if last is None or last < first else last + 1)
        following = (self.ranges[each].source for each in range(index + 1, len(self.ranges)))
        behind = next((source.start for source in following if isinstance(source, Origin)), first)
        return self.linked.place(first, max(first + 1, behind))

    def _written(self, index: int, offset: int) -> int | None:
        """Returns where in the linked source what stands at an offset was written, in or behind a range; None where
        nothing around it was."""
        while index >= 0:
            source, start = self.ranges[index].source, self.ranges[index].start
            if isinstance(source, Origin):
                return min(source.start + offset - start, source.end)
            index -= 1
        return None

    def shown_within(self, start: int, end: int) -> Iterator[Shown]:
        """Yields the values that are shown from `start` to `end`."""
        for index in range(bisect_right(self._shown_ends, start), len(self.shown)):
            if self.shown[index].start >= end:
                return
            yield self.shown[index]

    @cached_property
    def _shown_ends(self) -> list[int]:
        return [one.end for one in self.shown]


@record(frozen=True, eq=False)
class TracedRendering:
    """A `Rendering` and its traces; `text` is traced where it is written by hand."""

    rendering: Rendering
    html: TracedText | None
    subject: TracedText | None
    preheader: TracedText | None
    text: TracedText | None

    @property
    def texts(self) -> tuple[TracedText, ...]:
        """All forms that are traced."""
        return tuple(one for one in (self.subject, self.preheader, self.html, self.text) if one is not None)

    @property
    def plain_texts(self) -> tuple[TracedText, ...]:
        """The forms that are traced and no page."""
        return tuple(one for one in self.texts if one is not self.html)

    def forks(self) -> Iterator[tuple[Fork, tuple[int, ...]]]:
        """Yields the places where the data decide, and how often each of their ways was taken."""
        for one in self.texts:
            for number, fork in enumerate(one.sites.forks):
                counts = [one.trace.taken[number, way] for way in range(len(fork.ways))]
                if fork.kind == "branch" and fork.ways[-1] == "no branch":
                    counts[-1] = one.trace.reached[number] - sum(counts)
                yield fork, tuple(counts)


@record(frozen=True, slots=True)
class TracedPieces:
    """What a traced program gave."""

    pieces: Sequence[Piece]
    trace: Trace
    sites: TracedSites
    linked: LinkedSource

    def as_page(self, rendering: Rendering, preheader: TracedText | None) -> TracedText:
        """Returns the trace of the page that a rendering made of these pieces."""
        pieces, texts = final_pieces(rendering)
        made = list(_with_traced_preheader(pieces, texts, preheader, self.sites))
        ranges = traced_ranges([piece for piece, _ in made], [text for _, text in made])
        sites = self.sites
        if preheader is not None:
            values, loops = [*sites.values, *preheader.sites.values], [*sites.loops, *preheader.sites.loops]
            sites = TracedSites(values, loops, sites.tests, sites.forks)
        return TracedText("".join(text for _, text in made), self.linked, sites, self.trace, ranges)

    def as_written(self) -> TracedText:
        """Returns the trace of a page that is made of texts alone, as they are."""
        texts = texts_of(self.pieces)
        return TracedText("".join(texts), self.linked, self.sites, self.trace, traced_ranges(self.pieces, texts))

    def as_line(self) -> TracedText:
        """Returns the trace of a line, each run of white space one space."""
        return self._kept(_kept_in_line)

    def as_text(self) -> TracedText:
        """Returns the trace of a plain text, its lines trimmed."""
        return self._kept(_kept_in_text)

    def _kept(self, keeping: _Keeping) -> TracedText:
        texts = texts_of(self.pieces)
        whole = "".join(texts)
        made, places = keeping(whole)
        ranges = [
            TracedRange(places[one.start], max(places[one.start], places[one.end]), one.source)
            for one in traced_ranges(self.pieces, texts)
        ]
        return TracedText(made, self.linked, self.sites, self.trace, ranges)


def _kept_in_line(text: str) -> tuple[str, list[int]]:
    """Returns a text with each run of white space as one space, none at its ends, and where each offset is then."""
    made: list[str] = []
    places: list[int] = []
    for character in text:
        places.append(len(made))
        if not character.isspace():
            made.append(character)
        elif made and made[-1] != " ":
            made.append(" ")
    if made and made[-1] == " ":
        made.pop()
    places.append(len(made))
    return "".join(made), [min(place, len(made)) for place in places]


def _kept_in_text(text: str) -> tuple[str, list[int]]:
    """Returns a text as `trim_lines` has it, and where each offset is then."""
    made = trim_lines([text])
    position, places = 0, []
    begun = False
    for line in text.split("\n"):
        kept = line if line == SIGNATURE else line.rstrip()
        begun = begun or bool(kept)
        places += [min(position + min(index, len(kept)), len(made)) for index in range(len(line) + 1)]
        position += len(kept) + 1 if begun else 0
    return made, places


def _with_traced_preheader(
    pieces: Sequence[Piece], texts: Sequence[str], preheader: TracedText | None, sites: TracedSites
) -> Iterator[tuple[Piece, str]]:
    """Yields pieces and their texts, the preheader in them with its traces, whose numbers go on behind those of the
    page."""
    is_next = False
    for piece, text in zip(pieces, texts, strict=True):
        if preheader is None or not is_next:
            is_next = begins_preheader(piece)
            yield piece, text
            continue
        is_next, position = False, 0
        for one in preheader.ranges:
            if isinstance(one.source, ShownValue):
                source = ShownValue(
                    one.source.number + len(sites.values),
                    tuple((loop + len(sites.loops), turn) for loop, turn in one.source.turns),
                )
                written = [
                    markup(preheader.text[start:end]) for start, end in ((position, one.start), (one.start, one.end))
                ]
                yield from ((written[0], written[0]), (TraceBegin(source), ""))
                yield from ((written[1], written[1]), (TRACE_END, ""))
                position = one.end
        rest = markup(preheader.text[position:])
        yield rest, rest


def run_traced(
    traced: TracedTemplate, rendering: Rendering, settings: Settings, world: ProgramWorld, data: Data
) -> TracedRendering:
    """Returns a rendering of `data` with its traces, where `rendering` is the same without."""

    def run(program: TracedProgram | None) -> TracedPieces | None:
        if program is None:
            return None
        pieces, trace = program.bound(settings, world)(data)
        return TracedPieces(pieces, trace, program.sites, traced.linked)

    html, subject, preheader, text = map(run, (traced.html, traced.subject, traced.preheader, traced.text))
    line = preheader.as_line() if preheader else None
    return TracedRendering(
        rendering,
        html.as_page(with_pieces(rendering, html.pieces), line) if html else None,
        subject.as_line() if subject else None,
        line,
        text.as_text() if text else None,
    )
