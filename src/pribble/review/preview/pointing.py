"""What can be pointed at: of each word of a page and of its text, the mark that shows it, its data, the same elsewhere.

Elements are numbered as in `PageView.elements`.  Offsets within an element count its own text alone, without that of
the elements in it, and in UTF-16 units, as scripts do.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence

from pribble.errors import Place
from pribble.records import field, record
from pribble.rendering.traced import Shown, TracedText
from pribble.rendering.traced_words import WordKey, traced_words
from pribble.review.json_data import Json
from pribble.review.page_view import PageView, decoded
from pribble.review.preview.store import Store, Units

# So much of what is shown stands beside the data.
_LONGEST_SAID = 120
# An element drops the line break that its text begins with (HTML 13.2.6.4.7).
_DROPPING = frozenset({"pre", "textarea", "listing"})


@record(slots=True)
class ShownValues:
    """The values that a message shows: each mark with each path of the data once, by number."""

    store: Store
    numbers: dict[tuple[str, int, tuple[str, ...]], int] = field(default_factory=dict)
    entries: list[dict[str, Json]] = field(default_factory=list)

    def number(self, shown: Shown, said: str | None = None) -> int:
        """Returns the number of a value; `said` is what is shown of it, if that is text."""
        key = shown.place.source.name, shown.place.start, shown.paths
        if key not in self.numbers:
            self.numbers[key] = len(self.entries)
            self.entries.append({"paths": list(shown.paths), "place": self.store.place(shown.place), "said": None})
        entry = self.entries[self.numbers[key]]
        if said and entry["said"] is None:
            entry["said"] = said[:_LONGEST_SAID]
        return self.numbers[key]

    def in_text(self, traced: TracedText | None) -> Json:
        """Returns a text of one form with the stretches of it that show values: start, end, number."""
        if traced is None:
            return None
        units = Units(traced.text)
        return {
            "text": traced.text,
            "shown": [
                [units(one.start), units(one.end), self.number(one, traced.text[one.start : one.end])]
                for one in traced.shown
                if one.start < one.end
            ],
        }


@record(frozen=True, slots=True)
class _OwnText:
    """A text of a page as part of its element's own text, where it begins at `before`."""

    start: int
    end: int
    element: int
    before: int
    offsets: Sequence[int]
    units: Units

    def unit(self, offset: int) -> int:
        """Returns where an offset of the page is, in the element's own text."""
        return self.before + self.units(bisect_right(self.offsets, offset - 1))


def own_texts(view: PageView) -> Iterator[_OwnText]:
    """Yields the texts of a page, in order."""
    before: dict[int, int] = {}
    for text in view.texts:
        said, offsets = decoded(view.html, text.start, text.end)
        units = Units(said)
        position = before.get(text.element)
        if position is None:
            drops = view.elements[text.element].local_name in _DROPPING and said.startswith("\n")
            position = -1 if drops else 0
        yield _OwnText(text.start, text.end, text.element, position, offsets, units)
        before[text.element] = position + units(len(said))


@record(slots=True)
class Pointing:
    """What can be pointed at in one page, and in the plain text beside it.

    - `spans`: stretches that show a value: element, start, end, number of the value.
    - `words`: element, start, end, where it stands in the plain text (start, end; -1 for nowhere), and the place where
      an author wrote it (file, start; -1 for a word that a mark shows).
    - `attributes`: elements of which an attribute shows a value, and its number.
    - `text`: stretches of the plain text that show a value.
    """

    spans: list[Json] = field(default_factory=list)
    words: list[Json] = field(default_factory=list)
    attributes: list[Json] = field(default_factory=list)
    text: list[Json] = field(default_factory=list)
    elements: set[int] = field(default_factory=set)


def pointing_at(
    view: PageView,
    traced: TracedText,
    text: str,
    in_text: Mapping[WordKey, tuple[int, int]],
    values: ShownValues,
) -> Pointing:
    """Returns what can be pointed at in a page; `in_text` is where its words stand in the plain text."""
    return _PointingReader(view, traced, text, in_text, values).read()


class _PointingReader:
    """Reads one page and the plain text beside it."""

    def __init__(
        self,
        view: PageView,
        traced: TracedText,
        text: str,
        in_text: Mapping[WordKey, tuple[int, int]],
        values: ShownValues,
    ) -> None:
        self.view, self.traced, self.text, self.in_text, self.values = view, traced, text, in_text, values
        self.units = Units(text)
        self.texts = list(own_texts(view))
        self.words = list(traced_words(traced, ((one.start, one.end) for one in self.texts)))
        self.made = Pointing()

    def read(self) -> Pointing:
        """Returns what can be pointed at."""
        self._words()
        self._spans()
        self._attributes()
        self.made.text = list(self._spans_of_text())
        return self.made

    def _words(self) -> None:
        index = 0
        for word in self.words:
            while self.texts[index].end <= word.start:
                index += 1
            own = self.texts[index]
            found = self.in_text.get(word.key)
            start, end = (self.units(found[0]), self.units(found[1])) if found else (-1, -1)
            file, offset = -1, -1
            if not word.key.file:  # what the author wrote
                place = self.traced.linked.place(word.key.offset, word.key.offset + 1)
                file, offset, _ = self.values.store.position(place)
            self.made.words.append([own.element, own.unit(word.start), own.unit(word.end), start, end, file, offset])
            self.made.elements.add(own.element)

    def _spans(self) -> None:
        for own in self.texts:
            for shown in self.traced.shown_within(own.start, own.end):
                start, end = max(shown.start, own.start), min(shown.end, own.end)
                if start < end:
                    number = self.values.number(shown, decoded(self.traced.text, start, end)[0])
                    self.made.spans.append([own.element, own.unit(start), own.unit(end), number])
                    self.made.elements.add(own.element)

    def _attributes(self) -> None:
        for element in self.view.elements:
            tag = element.opening
            for shown in self.traced.shown_within(tag.start, tag.end):
                self.made.attributes.append([element.number, self.values.number(shown)])
                self.made.elements.add(element.number)

    def _spans_of_text(self) -> Iterator[Json]:
        """Yields the stretches of the derived text that show a value: from its first word to its last, and with what
        stands around them in the value."""
        shown = self.traced.shown
        starts = [one.start for one in shown]
        # By the number of the stretch of the page: where its first word stands, and from where to where the text does.
        stretches: dict[int, tuple[int, int, int]] = {}
        for word in self.words:
            found = self.in_text.get(word.key)
            if word.key.file and found is not None:
                number = bisect_right(starts, word.start) - 1
                first, start, end = stretches.get(number, (word.start, *found))
                stretches[number] = first, min(start, found[0]), max(end, found[1])
        for number, (first, start, end) in stretches.items():
            said, offsets = decoded(self.traced.text, shown[number].start, shown[number].end)
            before = bisect_right(offsets, first - 1)
            whole = start - before
            if before <= start and self.text[whole : whole + len(said)] == said:
                start, end = whole, whole + len(said)
            yield [self.units(start), self.units(end), self.values.number(shown[number])]


def elements_at(view: PageView, traced: TracedText, places: Sequence[Place]) -> dict[Place, list[int]]:
    """Returns for each place of a file the elements of the page that were written there, or whose text was; the first
    one of each turn of a loop."""
    starts: dict[str, list[tuple[int, int, int]]] = {}
    if places:
        for element in view.elements:
            tag = view.tag_place(element)
            if tag is not None and not element.implied:
                starts.setdefault(tag.source.name, []).append((tag.start, tag.end, element.number))
        for text in view.texts:
            place = view.place(text.start, text.end)
            if place is not None:
                starts.setdefault(place.source.name, []).append((place.start, place.end, text.element))
    for one in starts.values():
        one.sort()
    by_mark: dict[tuple[str, int], list[int]] = {}
    tags = [element.opening.start for element in view.elements]
    for shown in traced.shown if places else ():
        at = view.element_at(shown.start) or view.elements[max(0, bisect_right(tags, shown.start) - 1)]
        if shown.start >= max(at.opening.end, view.ends[at.number]):  # in a comment, which is shown to one engine alone
            continue
        by_mark.setdefault((shown.place.source.name, shown.place.start), []).append(at.number)
    return {place: _elements_at(place, starts, by_mark) for place in places}


# So many elements of one place are pointed at.
_MOST_OF_A_PLACE = 3


def _elements_at(
    place: Place, starts: Mapping[str, Sequence[tuple[int, int, int]]], by_mark: Mapping[tuple[str, int], list[int]]
) -> list[int]:
    shown = by_mark.get((place.source.name, place.start))
    if shown:
        return list(dict.fromkeys(shown))[:_MOST_OF_A_PLACE]
    known = starts.get(place.source.name, ())
    index = bisect_right(known, (place.start, 1 << 60, 0)) - 1
    if index < 0 or place.start >= max(known[index][1], known[index][0] + 1):
        return []
    begun = known[index][0]
    found = []
    while index >= 0 and known[index][0] == begun:
        found.append(known[index][2])
        index -= 1
    return list(dict.fromkeys(reversed(found)))[:_MOST_OF_A_PLACE]
