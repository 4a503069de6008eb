"""Statements: what the marks of one file say, as trees."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.errors import Place, Source
from pribble.language.expressions import Expression
from pribble.language.tokens import Token
from pribble.records import record


@record(frozen=True, slots=True)
class LiteralText:
    """A literal stretch of the file, by offsets."""

    start: int
    end: int


@record(frozen=True, slots=True)
class Show:
    place: Place
    value: Expression


@record(frozen=True, slots=True)
class Branch:
    """One way through an ``if``; the last may have no test."""

    place: Place
    test: Expression | None
    body: Body


@record(frozen=True, slots=True)
class If:
    place: Place
    branches: tuple[Branch, ...]
    closing: Place


@record(frozen=True, slots=True)
class For:
    """A loop; `names` are one (an item) or two (a key and its value, or the two of a pair)."""

    place: Place
    names: tuple[Token, ...]
    at: Token | None
    items: Expression
    body: Body
    otherwise: Branch | None
    closing: Place


@record(frozen=True, slots=True)
class Let:
    place: Place
    name: Token
    value: Expression


@record(frozen=True, slots=True)
class Only:
    """A stretch that only the HTML or only the text has; `alone` says that its mark has a line of its own."""

    place: Place
    kind: str
    body: Body
    alone: bool
    closing: Place


@record(frozen=True, slots=True)
class Stretch:
    """A stretch with a ``locale`` or ``timezone`` of its own."""

    place: Place
    kind: str
    value: str
    body: Body


@record(frozen=True, slots=True)
class Put:
    """A part, with the values it is given by name and what goes into its content slot, if anything."""

    place: Place
    path: Token
    arguments: tuple[tuple[Token, Expression], ...]
    content: Body | None


@record(frozen=True, slots=True)
class Slot:
    """Where a layout lets the page in, or a part its content; `default` is what stands there otherwise."""

    place: Place
    name: Token
    default: Body


@record(frozen=True, slots=True)
class Into:
    """What a page has for a slot of its layout."""

    place: Place
    name: Token
    body: Body


@record(frozen=True, slots=True)
class Extracted:
    """A block that is not part of the page: ``subject``, ``preheader`` or ``text``."""

    place: Place
    kind: str
    body: Body


Statement = LiteralText | Show | If | For | Let | Only | Stretch | Put | Slot | Into | Extracted
Body = tuple[Statement, ...]


@record(frozen=True, slots=True)
class Takes:
    """The names that a part takes, each with its default or None where it must be given."""

    place: Place
    names: tuple[tuple[Token, Expression | None], ...]


@record(frozen=True, slots=True)
class File:
    """One file, read: its statements in order, the layout it asks for, and what it takes."""

    source: Source
    body: Body
    layout: tuple[Place, str] | None
    takes: Takes | None


def nested_statements(body: Body) -> Iterator[Statement]:
    """Yields the statements of a body and of all bodies within it."""
    for statement in body:
        yield statement
        match statement:
            case If(branches=branches):
                for branch in branches:
                    yield from nested_statements(branch.body)
            case For(body=inner, otherwise=otherwise):
                yield from nested_statements(inner)
                yield from nested_statements(otherwise.body if otherwise else ())
            case Put(content=content):
                yield from nested_statements(content or ())
            case Slot(default=default):
                yield from nested_statements(default)
            case Only(body=inner) | Stretch(body=inner) | Into(body=inner) | Extracted(body=inner):
                yield from nested_statements(inner)
