"""The events of a page: tags, texts and marks in order, with what an author left out put in."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence

from pribble.markup.contexts import Context
from pribble.markup.scanner import Cdata, EndTag, StartTag, TextToken, announce_start_tag, tokens
from pribble.markup.tree import OpenElement, OpenElements, TreeChange
from pribble.records import field, record, replace


@record(frozen=True, slots=True)
class Opened:
    """A start tag; `implied` where none is written.  `marks` are the contexts of the values in its attributes, `blocks`
    the offsets of block marks between its attributes or in them.  `foreign` is svg or math where it belongs to one."""

    tag: StartTag
    marks: dict[int, Context] = field(default_factory=dict)
    void: bool = False
    blocks: tuple[int, ...] = ()
    implied: bool = False
    foreign: str = ""


@record(frozen=True, slots=True)
class Closed:
    """The end of an element, at `start`; `implied` where its author left the end tag out."""

    name: str
    start: int
    end: int
    implied: bool = False


@record(frozen=True, slots=True)
class Characters:
    """Text between tags, or the text of the element whose content is not parsed (`raw`)."""

    start: int
    end: int
    raw: str = ""


@record(frozen=True, slots=True)
class Marked:
    """A mark between tags or in the text of an element; `context` is None of one that shows no value."""

    offset: int
    context: Context | None = None


PageEvent = Opened | Closed | Characters | Marked


def between(offsets: Sequence[int], start: int, end: int) -> Sequence[int]:
    """Returns those of `offsets`, which ascend, from `start` on and before `end`."""
    return offsets[bisect_left(offsets, start) : bisect_left(offsets, end)]


class Events:
    """The events met so far."""

    def __init__(self) -> None:
        self.all: list[PageEvent] = []
        self.blocks: list[int] = []  # at which event each open block begins

    def add(self, event: PageEvent) -> None:
        self.all.append(event)

    def changed(self, change: TreeChange, offset: int) -> None:
        """What a tag closed and implied, perhaps before some of the open blocks."""
        made: list[PageEvent] = _ends(change.closed, offset)
        for element in change.implied:
            made.append(Opened(StartTag(element.name, element.start, element.start, (), False), implied=True))
            if element.name == "head" and change.empty_head:
                made.append(Closed("head", element.start, element.start, implied=True))
        if not change.before:
            self.all += made
            return
        first = len(self.blocks) - change.before
        at = self.blocks[first]
        opening = self.all[at]
        assert isinstance(opening, Marked)
        self.all[at:at] = [_at_offset(event, opening.offset) for event in made]
        self.blocks[first:] = [index + len(made) for index in self.blocks[first:]]

    def started(
        self, tag: StartTag, change: TreeChange, marks: dict[int, Context] | None = None, blocks: tuple[int, ...] = ()
    ) -> None:
        self.changed(change, tag.start)
        self.add(Opened(tag, marks or {}, not change.opened, blocks, foreign=change.foreign))

    def ended(self, tag: EndTag, change: TreeChange | None) -> None:
        if change is not None and change.closed:
            self.closed(change.closed[:-1], tag.start)
            self.add(Closed(change.closed[-1].name, tag.start, tag.end))

    def closed(self, elements: tuple[OpenElement, ...], offset: int) -> None:
        self.all += _ends(elements, offset)


def _ends(elements: tuple[OpenElement, ...], offset: int) -> list[PageEvent]:
    return [Closed(element.name, offset, offset, implied=True) for element in elements]


def _at_offset(event: PageEvent, offset: int) -> PageEvent:
    if isinstance(event, Opened):
        return replace(event, tag=replace(event.tag, start=offset, end=offset))
    return replace(event, start=offset, end=offset) if isinstance(event, Closed) else event


def events_of(text: str) -> Iterator[PageEvent]:
    """Returns the events of a page or a piece of one that holds no marks."""
    elements, events = OpenElements(page=False), Events()
    for token in tokens(text, elements):
        match token:
            case TextToken(start=start, end=end, element=element):
                events.add(Characters(start, end, element))
            case Cdata(start=start, end=end):
                events.add(Characters(start + 9, end, "cdata"))
            case StartTag():
                events.started(token, announce_start_tag(elements, token))
            case EndTag():
                events.ended(token, elements.end(token.name))
    events.closed(elements.finish(), len(text))
    return iter(events.all)
