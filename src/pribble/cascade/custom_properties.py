"""Custom properties: their values by inheritance, and ``var()`` put in place (CSS Custom Properties 1)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping

import tinycss2

from pribble.cascade.bounds import CHARACTERS, CascadeCounter
from pribble.cascade.elements import Element
from pribble.cascade.syntax import Declaration, Node
from pribble.records import record

# Longer than this no value is made, however custom properties multiply one another.
_LONGEST = 100_000
_OF_PARENT = frozenset({"inherit", "unset", "revert", "revert-layer"})

Value = Callable[[str], str | None]


class Invalid(Exception):
    """A value names a custom property that has none, or goes round in a circle."""


@record(frozen=True, slots=True)
class CustomValue:
    """What a custom property holds: a text without ``var()``, None where that is not valid; `var_dependent` where a
    rule that stays can change it, on the element or above it."""

    text: str | None
    var_dependent: bool


_NONE = CustomValue(None, False)
# What an element's own rules make of its custom properties: those that change, and what they are from then on.
Changes = Mapping[str, CustomValue]


class Environment:
    """The custom properties of one element after another, in the order of the page.

    Each property has a stack of what it holds, for the elements that stand within each other; so an element costs what
    it changes, and not what it inherits.  `number` is the same for elements to which all properties are the same.
    """

    def __init__(self, bounds: CascadeCounter) -> None:
        self.number = 0
        self._bounds = bounds
        self._stacks: dict[str, list[CustomValue]] = {}
        self._open: list[tuple[Element, tuple[str, ...], int]] = []
        self._numbers: dict[tuple[int, tuple[tuple[str, CustomValue], ...]], int] = {}

    def reach(self, element: Element) -> None:
        """Go on to an element, the next in the order of the page."""
        while self._open and self._open[-1][0].last < element.number:
            _, names, self.number = self._open.pop()
            for name in names:
                self._stacks[name].pop()
        self._open.append((element, (), self.number))

    def change(self, changes: Changes) -> None:
        """Change properties, for the element that was reached and all within it."""
        if not changes:
            return
        element, _, number = self._open[-1]
        self._open[-1] = element, tuple(changes), number
        self.number = self._numbers.setdefault((number, tuple(changes.items())), len(self._numbers) + 1)
        for name, held in changes.items():
            self._stacks.setdefault(name, []).append(held)

    def held(self, name: str) -> CustomValue:
        """Returns what a custom property holds now."""
        stack = self._stacks.get(name)
        return stack[-1] if stack else _NONE

    def value(self, name: str) -> str | None:
        """Returns the value of a custom property now; None for none that is valid."""
        return self.held(name).text

    def changes(self, declarations: Iterable[Declaration], moved: frozenset[str]) -> Changes:
        """Returns what declarations of an element's own change, ascending; `moved` are what kept rules set on it."""
        own: dict[str, Declaration] = {}
        for declaration in declarations:
            own[declaration.name] = declaration
        made = {name: CustomValue(self.value(name), True) for name in moved - own.keys()}
        for circle in _circles(own):
            held = [self._made(own[name], made) for name in circle]
            var_dependent = any(each.var_dependent for each in held) or not moved.isdisjoint(circle)
            for name, each in zip(circle, held, strict=True):
                made[name] = CustomValue(each.text if len(circle) == 1 else None, var_dependent)
        return {name: held for name, held in made.items() if held != self.held(name)}

    def _made(self, declaration: Declaration, made: Mapping[str, CustomValue]) -> CustomValue:
        """Returns what a declaration makes of its property, where those it names are `made`."""

        def held(name: str) -> CustomValue:
            return made.get(name) or self.held(name)

        names = names_in_values(declaration.tokens)
        var_dependent = any(held(name).var_dependent for name in names)
        word = declaration.value.strip().lower()
        if word in _OF_PARENT:
            return self.held(declaration.name)
        if word == "initial" or declaration.name in names:
            return CustomValue(None, var_dependent)
        try:
            text = substituted(declaration.tokens, lambda name: held(name).text)
        except Invalid:
            return CustomValue(None, var_dependent)
        if names:
            self._bounds.count(CHARACTERS, len(text))
        return CustomValue(text, var_dependent)

    def resolved(self, declaration: Declaration) -> str:
        """Returns the value of a declaration with each ``var()`` in place; ``unset`` where it is invalid (3.1)."""
        return self._resolved(declaration, guarded=False) or "unset"

    def guarded(self, declaration: Declaration) -> str:
        """Returns the value with each ``var()`` left that names what can change, and its value now to fall back on."""
        return self._resolved(declaration, guarded=True)

    def _resolved(self, declaration: Declaration, *, guarded: bool) -> str:
        var_dependent = (
            {name for name in names_in_values(declaration.tokens) if self.held(name).var_dependent} if guarded else ()
        )
        try:
            text = substituted(declaration.tokens, self.value, frozenset(var_dependent)).strip()
        except Invalid:
            return "unset"
        self._bounds.count(CHARACTERS, len(text))
        return text

    def is_var_dependent(self, declaration: Declaration) -> bool:
        """Returns whether a rule that stays can change the value."""
        return any(self.held(name).var_dependent for name in names_in_values(declaration.tokens))


def _circles(own: Mapping[str, Declaration]) -> Iterator[list[str]]:
    """Yields the properties that name one another in a circle, together, each other one alone; what is named comes
    first.

    All of a circle are invalid, whatever they fall back on (2.3).  The algorithm is Tarjan's, without recursion.
    """
    places: dict[str, int] = {}  # in the order in which they are met
    lowest: dict[str, int] = {}
    waiting: list[str] = []
    settled: set[str] = set()
    for first in own:
        if first in places:
            continue
        path: list[tuple[str, Iterator[str]]] = []
        entering: str | None = first
        while entering is not None or path:
            if entering is not None:
                places[entering] = lowest[entering] = len(places)
                waiting.append(entering)
                path.append((entering, iter(names_in_values(own[entering].tokens) & own.keys())))
                entering = None
            name, named = path[-1]
            for other in named:
                if other not in places:
                    entering = other
                    break
                if other not in settled:
                    lowest[name] = min(lowest[name], places[other])
            if entering is not None:
                continue
            path.pop()
            if path:
                lowest[path[-1][0]] = min(lowest[path[-1][0]], lowest[name])
            if lowest[name] == places[name]:
                at = len(waiting) - 1
                while waiting[at] != name:
                    at -= 1
                circle, waiting[at:] = waiting[at:], []
                settled.update(circle)
                yield circle


def substituted(tokens: Iterable[Node], value: Value, guarded: frozenset[str] = frozenset()) -> str:
    """Returns component values as text, each ``var()`` replaced by what `value` says of its name, which the `guarded`
    get to fall back on.  Raises `Invalid`."""
    made = ""
    for token in tokens:
        if token.type == "function":
            made += _function(token, value, guarded)
        elif token.type in ("() block", "[] block", "{} block"):
            opening, closing = token.type[0], token.type[1]
            made += f"{opening}{substituted(token.content, value, guarded)}{closing}"
        elif token.type != "comment":
            made += tinycss2.serialize([token])
        if len(made) > _LONGEST:
            raise Invalid("a value grows without end")
    return made


def _function(token: Node, value: Value, guarded: frozenset[str]) -> str:
    if token.lower_name != "var":
        return f"{token.name}({substituted(token.arguments, value, guarded)})"
    parts = [argument for argument in token.arguments if argument.type not in ("whitespace", "comment")]
    if not parts or parts[0].type != "ident":
        raise Invalid("var() names no custom property")
    name = parts[0].value
    if name in guarded:
        try:
            return f"var({name}, {_function(token, value, frozenset())})"
        except Invalid:
            return f"var({name})"
    found = value(name)
    if found is not None:
        return found.strip()
    comma = next(
        (i for i, argument in enumerate(token.arguments) if argument.type == "literal" and argument.value == ","), None
    )
    if comma is None:
        raise Invalid(name)
    return substituted(token.arguments[comma + 1 :], value, guarded).strip()


def names_in_values(tokens: Iterable[Node]) -> set[str]:
    """Returns the custom properties that component values name."""
    found: set[str] = set()
    waiting = list(tokens)
    while waiting:
        token = waiting.pop()
        inner = token.arguments if token.type == "function" else getattr(token, "content", None)
        if token.type == "function" and token.lower_name == "var":
            found |= {
                argument.value
                for argument in token.arguments
                if argument.type == "ident" and argument.value.startswith("--")
            }
        waiting += inner or []
    return found


def uses_custom(declaration: Declaration) -> bool:
    """Returns whether the value of a declaration names a custom property."""
    return "var(" in declaration.value.lower() and bool(names_in_values(declaration.tokens))
