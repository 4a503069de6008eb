"""The events of a page, as `flow` takes them: texts, start tags with what counts of them, ends."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping

from pribble.plaintext.style import NO_STYLE, Style
from pribble.records import record

# The attributes that matter to what a page says.
READ_ATTRIBUTES = frozenset("href alt title start reversed value role hidden colspan rowspan type nowrap".split())


@record(frozen=True, slots=True)
class Open:
    """A start tag; an attribute whose value is None is as good as absent."""

    name: str
    attributes: Mapping[str, str | None]
    void: bool = False
    style: Style = NO_STYLE


@record(frozen=True, slots=True)
class Close:
    """The end of an element, whether or not an end tag was written."""

    name: str


@record(frozen=True, slots=True)
class Brought:
    """What a value brings: events that are asked for when the page is read."""

    events: Callable[[], Iterable[TextEvent]]


TextEvent = str | Open | Close | Brought
