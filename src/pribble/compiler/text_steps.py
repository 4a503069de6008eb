"""What text programs are made of beside texts, events and values: tags with values in them, patterns, parts."""

from __future__ import annotations

from pribble.compiler.steps import BeginCapture, ShowValue
from pribble.language.linked_source import Marker
from pribble.plaintext.events import Close, Open
from pribble.plaintext.patterns import Pattern
from pribble.plaintext.style import NO_STYLE, Style
from pribble.records import record


@record(frozen=True, slots=True)
class OpenWithValues:
    """A start tag of which some attributes depend on the data."""

    name: str
    void: bool
    attributes: tuple[tuple[str, tuple[str | ShowValue, ...]], ...]
    style: Style = NO_STYLE


@record(frozen=True, slots=True)
class OpenCaptured:
    """Here a start tag ends that has blocks in it."""

    name: str
    void: bool
    style: Style = NO_STYLE


@record(frozen=True, slots=True)
class TextCall:
    """What a function makes of a text that holds values, and of another one, where it takes two."""

    function: str
    arguments: tuple[TextParts | str, ...]


@record(frozen=True, slots=True)
class TextParts:
    """A text that holds values; with `maybe`, None where its only value is nothing."""

    parts: tuple[str | ShowValue | TextCall, ...]
    maybe: bool = False


@record(frozen=True, slots=True)
class BeginPart:
    """From here on events are those of a part."""

    number: int


@record(frozen=True, slots=True)
class EndPart:
    """Here the part of that number ends, and that one goes on that it stands in, or, with None, the page.  One that
    consists of rows alone has so many `cells` in each of them."""

    outer: int | None
    number: int
    cells: int = 0


@record(frozen=True, slots=True)
class TakeRows:
    """The rows of a loop as a whole, as the part of that number: all their texts are values of one run of the HTML's
    program, at these places; each with whether lines are broken at its spaces."""

    number: int
    run: int
    cells: tuple[tuple[int, bool], ...]


@record(frozen=True, slots=True)
class FillPattern:
    """A part of the page: its pattern, and for its slots texts and the numbers of parts."""

    pattern: Pattern
    texts: tuple[TextParts | int, ...]


@record(frozen=True, slots=True)
class FillRow:
    """A row of a run, all of which have one form: a text for each cell."""

    texts: tuple[TextParts | int, ...]


@record(frozen=True, slots=True)
class BeginAttributes:
    """Here begins a start tag with blocks in it."""


@record(frozen=True, slots=True)
class CapturedAttribute:
    """One of its attributes; with `parts` None, what was held for it."""

    name: str
    parts: tuple[str | ShowValue, ...] | None


# What a straight run of a text's program is made of: events of the page, values, patterns, and parts of start tags.
EventStep = (
    str
    | ShowValue
    | Open
    | Close
    | OpenWithValues
    | OpenCaptured
    | BeginAttributes
    | BeginCapture
    | CapturedAttribute
    | FillPattern
    | FillRow
    | TakeRows
    | BeginPart
    | EndPart
)
# All that the text's program is made of: marks open, branch and close blocks and set names.
TextFormStep = Marker | EventStep


def is_white_space(step: TextFormStep) -> bool:
    """Returns whether a step is a text of white space alone, which collapses (CSS Text 3, 4.1)."""
    return isinstance(step, str) and not step.strip(" \t\n\f\r")
