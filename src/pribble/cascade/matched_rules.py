"""Which rules are for each element: one object for all elements that the same rules are for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property

from pribble.cascade.bounds import MATCHES, Bounds
from pribble.cascade.matching import Column
from pribble.cascade.rules import Rule
from pribble.cascade.selectors import Selector
from pribble.cascade.syntax import Declaration


@dataclass(frozen=True, eq=False)
class Applied:
    """Rules that are for an element, each with every selector that selects it."""

    pairs: tuple[tuple[Rule, Selector], ...]

    def __bool__(self) -> bool:
        return bool(self.pairs)

    @cached_property
    def best(self) -> dict[int, tuple[Rule, Selector]]:
        """The rules by their numbers, each with the weightiest of its selectors."""
        best: dict[int, tuple[Rule, Selector]] = {}
        for rule, selector in self.pairs:
            if rule.number not in best or best[rule.number][1].specificity < selector.specificity:
                best[rule.number] = rule, selector
        return best

    @cached_property
    def custom(self) -> list[tuple[Rule, Selector, int, Declaration]]:
        """Their custom properties, each with its place in its rule."""
        return [(r, s, i, d) for r, s in self.pairs for i, d in enumerate(r.declarations) if d.name.startswith("--")]

    @cached_property
    def moved(self) -> frozenset[str]:
        """The names of their custom properties."""
        return frozenset(declaration.name for *_, declaration in self.custom)


def applied(count: int, found: Iterable[tuple[Column, Rule, Selector]], bounds: Bounds) -> Iterator[Applied]:
    """What is for each of `count` elements, of rules and the columns that their selectors make."""
    by_object: dict[int, list[tuple[Rule, Selector]]] = {}
    by_column: dict[Column, list[tuple[Rule, Selector]]] = {}  # equal ones count once
    for column, rule, selector in found:
        pairs = by_object.get(id(column))
        if pairs is None:
            pairs = by_object[id(column)] = by_column.setdefault(tuple(column), [])
        pairs.append((rule, selector))
    of: list[list[int]] = [[] for _ in range(count)]
    for number, column in enumerate(by_column):
        for element in column:
            of[element].append(number)
    distinct = list(by_column.values())
    known: dict[tuple[int, ...], Applied] = {}
    for each in of:
        key = tuple(each)
        made = known.get(key)
        if made is None:
            made = known[key] = Applied(tuple(pair for number in key for pair in distinct[number]))
            bounds.count(MATCHES, len(made.pairs))
        yield made
