"""Which rules are for each element: one object for all elements that the same rules are for."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from pribble.cached_property import cached_property
from pribble.cascade.bounds import MATCHES, CascadeCounter
from pribble.cascade.matching import ElementNumbers
from pribble.cascade.rules import StyleRule
from pribble.cascade.selectors import Selector
from pribble.cascade.syntax import Declaration
from pribble.records import record


@record(frozen=True, eq=False)
class MatchedRules:
    """Rules that are for an element, each with every selector that selects it."""

    pairs: tuple[tuple[StyleRule, Selector], ...]

    def __bool__(self) -> bool:
        return bool(self.pairs)

    @cached_property
    def best(self) -> dict[int, tuple[StyleRule, Selector]]:
        """The rules by their numbers, each with the weightiest of its selectors."""
        best: dict[int, tuple[StyleRule, Selector]] = {}
        for rule, selector in self.pairs:
            if rule.number not in best or best[rule.number][1].specificity < selector.specificity:
                best[rule.number] = rule, selector
        return best

    @cached_property
    def custom(self) -> list[tuple[StyleRule, Selector, int, Declaration]]:
        """Their custom properties, each with its place in its rule."""
        return [(r, s, i, d) for r, s in self.pairs for i, d in enumerate(r.declarations) if d.name.startswith("--")]

    @cached_property
    def moved(self) -> frozenset[str]:
        """The names of their custom properties."""
        return frozenset(declaration.name for *_, declaration in self.custom)


def rules_by_element(
    count: int, found: Iterable[tuple[ElementNumbers, StyleRule, Selector]], bounds: CascadeCounter
) -> Iterator[MatchedRules]:
    """Yields what is for each of `count` elements, of rules and the columns that their selectors make."""
    by_object: dict[int, list[tuple[StyleRule, Selector]]] = {}
    by_column: dict[ElementNumbers, list[tuple[StyleRule, Selector]]] = {}  # equal ones count once
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
    known: dict[tuple[int, ...], MatchedRules] = {}
    for each in of:
        key = tuple(each)
        made = known.get(key)
        if made is None:
            made = known[key] = MatchedRules(tuple(pair for number in key for pair in distinct[number]))
            bounds.count(MATCHES, len(made.pairs))
        yield made
