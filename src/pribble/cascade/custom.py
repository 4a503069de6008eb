"""Custom properties: their values by inheritance, and ``var()`` put in place (CSS Custom Properties 1)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import tinycss2

from pribble.cascade.syntax import Declaration

# Longer than this no value is made, however custom properties multiply one another.
_LONGEST = 100_000
_LONGEST_CHAIN = 100

Value = Callable[[str], str | None]


class Invalid(Exception):
    """A value names a custom property that has none, or goes round in a circle."""


@dataclass(frozen=True, eq=False)
class Environment:
    """The custom properties of an element: texts without ``var()``, None for one that has no valid value.

    `restless` are those that a rule which stays can change, on the element or above it.
    """

    values: Mapping[str, str | None] = field(default_factory=dict)
    restless: frozenset[str] = frozenset()

    def within(self, declarations: Iterable[Declaration], moved: frozenset[str]) -> Environment:
        """That of a child with these declarations of its own, ascending; `moved` are what kept rules set on it."""
        own: dict[str, Declaration] = {}
        for declaration in declarations:
            own[declaration.name] = declaration
        if not own and moved <= self.restless:
            return self
        made: dict[str, str | None] = dict(self.values)
        restless = set(self.restless)
        for name in own:
            restless.discard(name)
        restless |= moved
        resolving: list[str] = []

        def value(name: str) -> str | None:
            if name in resolving:
                circles.update(resolving[resolving.index(name) :])
                raise Invalid(name)
            if len(resolving) > _LONGEST_CHAIN:
                raise Invalid("too many custom properties name one another")
            if name not in own or name in done:
                return made.get(name)
            resolving.append(name)
            declaration = own[name]
            try:
                word = declaration.value.strip().lower()
                if word in ("inherit", "unset", "revert", "revert-layer"):
                    made[name] = self.values.get(name)
                    restless.update({name} & self.restless)
                elif word == "initial":
                    made[name] = None
                else:
                    for other in names_in(declaration.tokens) & own.keys() - set(resolving):
                        value(other)
                    made[name] = substituted(declaration.tokens, value)
            except Invalid:
                made[name] = None
            if names_in(declaration.tokens) & restless:
                restless.add(name)
            resolving.pop()
            done.add(name)
            if name in circles:
                made[name] = None
            return made[name]

        done: set[str] = set()
        circles: set[str] = set()  # all of a circle are invalid, whatever they fall back on (2.3)
        for name in own:
            value(name)
        return Environment(made, frozenset(restless))

    def resolved(self, declaration: Declaration) -> str:
        """The value of a declaration with each ``var()`` in place; ``unset`` where it is invalid (3.1)."""
        try:
            return substituted(declaration.tokens, self.values.get).strip() or "unset"
        except Invalid:
            return "unset"

    def guarded(self, declaration: Declaration) -> str:
        """The value with each ``var()`` left that names what can change, and its value now to fall back on."""
        try:
            return substituted(declaration.tokens, self.values.get, self.restless).strip()
        except Invalid:
            return "unset"

    def is_restless(self, declaration: Declaration) -> bool:
        """Whether a rule that stays can change the value."""
        return bool(names_in(declaration.tokens) & self.restless)


def substituted(tokens: Iterable[Any], value: Value, guarded: frozenset[str] = frozenset()) -> str:
    """Component values as text, each ``var()`` replaced by what `value` says of its name, which the `guarded` get to
    fall back on.  Raises `Invalid`."""
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


def _function(token: Any, value: Value, guarded: frozenset[str]) -> str:
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


def names_in(tokens: Iterable[Any]) -> set[str]:
    """The custom properties that component values name."""
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
    """Whether the value of a declaration names a custom property."""
    return "var(" in declaration.value.lower() and bool(names_in(declaration.tokens))
