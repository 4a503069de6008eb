"""Selectors of which it depends on the data what they match.

Each is loosened, as though all held that the data decide, and matched so: where it could be for an element of which
something that it asks for is not known, the page has to be styled when it is rendered.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

from cssselect2 import parser

from pribble.cached_property import cached_property
from pribble.cascade.bounds import CascadeCounter
from pribble.cascade.elements import Element
from pribble.cascade.matching import ElementIndex, Matcher
from pribble.cascade.rules import StyleRule
from pribble.cascade.selector_trees import LINKS, Lang, Nth, Tree, chain, relaxed
from pribble.cascade.selectors import NestingParent, Selector, SelectorNeeds
from pribble.records import record


@record(frozen=True, slots=True)
class UncertainMatch:
    """A rule that may be for an element or not, the selector that decides it, and why."""

    rule: StyleRule
    selector: Selector
    element: Element
    why: str


class UncertainMatches:
    """Finds the selectors of a page's rules whose matches depend on the data."""

    def __init__(self, page: ElementIndex, rules: Sequence[StyleRule], bounds: CascadeCounter) -> None:
        self.page, self.elements, self.rules, self.bounds = page, page.elements, rules, bounds
        elements = page.elements
        self.dynamic = frozenset().union(*(e.dynamic_attributes for e in elements))
        self.conditional = frozenset().union(*(e.conditional_attributes for e in elements))
        self.varying = any(e.varying for e in elements)
        self._touched: dict[tuple[frozenset[str], frozenset[str]], list[bool]] = {}
        self._asks: dict[NestingParent, bool] = {}

    def find(self) -> Iterator[UncertainMatch]:
        """Yields the uncertain matches, at most one for a selector."""
        matcher = Matcher(self.page, self._loosened, self.bounds)
        for rule in self.rules:
            for selector in rule.selectors:
                if selector.pseudo_element or not self._depends(selector.needs):
                    continue
                for number in matcher.of(selector):
                    element = self.elements[number]
                    if not element.unrendered and (why := self._why(selector.needs, element)):
                        yield UncertainMatch(rule, selector, element, why)
                        break

    def _depends(self, asked: SelectorNeeds) -> bool:
        """Returns whether a selector asks for anything that depends on the data anywhere in the page."""
        return (
            asked.content
            or (self.varying and (asked.counts or asked.counts_above))
            or self._asks_for_unsure(asked)
            or (asked.around is not None and self._around_depends(asked.around))
        )

    def _asks_for_unsure(self, asked: SelectorNeeds) -> bool:
        return not (asked.attributes.isdisjoint(self.dynamic) and asked.presences.isdisjoint(self.conditional))

    def _around_depends(self, around: NestingParent) -> bool:
        if around not in self._asks:
            self._asks[around] = self._depends(around.asked)
        return self._asks[around]

    def _why(self, asked: SelectorNeeds, element: Element) -> str | None:
        """Returns why it depends on the data whether a selector matches an element, which it may; None where it does
        not."""
        parent = element.parent
        if asked.counts and parent is not None and parent.varying:
            return "counts siblings in a loop or branch"
        if asked.counts_above and parent is not None and self._varying_above[element.number]:
            return "counts siblings in a loop or branch"
        if asked.content and (
            element.filling or self._varying_within[element.number] or (parent is not None and parent.varying)
        ):
            return "asks what an element holds"
        if self._asks_of(asked, element.number):
            return "asks for an attribute that holds a mark"
        return None

    def _asks_of(self, asked: SelectorNeeds, number: int) -> bool:
        """Returns whether an attribute that is asked for depends on the data, of an element or above it."""
        return any(self._touching(attributes, presences)[number] for attributes, presences in asked.levels())

    def _touching(self, attributes: frozenset[str], presences: frozenset[str]) -> list[bool]:
        """Of each element, whether one of some attributes depends on the data, there or above."""
        key = attributes, presences
        if key not in self._touched:
            dynamic, conditional = attributes & self.dynamic, presences & self.conditional
            self._touched[key] = self._downward(
                lambda e: (
                    not (e.dynamic_attributes.isdisjoint(dynamic) and e.conditional_attributes.isdisjoint(conditional))
                )
            )
        return self._touched[key]

    @cached_property
    def _varying_above(self) -> list[bool]:
        return self._downward(lambda e: e.parent is not None and e.parent.varying)

    @cached_property
    def _varying_within(self) -> list[bool]:
        made = [e.varying for e in self.elements]
        for element in reversed(self.elements):
            if made[element.number] and element.parent is not None:
                made[element.parent.number] = True
        return made

    def _downward(self, holds: Callable[[Element], bool]) -> list[bool]:
        """Of each element, whether something holds of it or of one that it stands in."""
        made: list[bool] = []
        for element in self.elements:
            made.append(holds(element) or (element.parent is not None and made[element.parent.number]))
        return made

    # -- selectors that match more --

    def _loosened(self, selector: Selector) -> Tree:
        """Returns a selector's tree as if all that depends on the data held: siblings, contents, dynamic attributes."""
        return relaxed(selector.tree, self._drops)

    def _drops(self, node: Tree) -> bool:
        match node:
            case "+" | "~" | parser.RelationalSelector() | Nth():
                return True
            case parser.ClassSelector():
                return "class" in self.dynamic
            case parser.IDSelector():
                return "id" in self.dynamic
            case Lang():
                return "lang" in self.dynamic
            case parser.AttributeSelector(lower_name=name, operator=operator):
                return name in (self.dynamic if operator else self.conditional)
            case parser.PseudoClassSelector(name=name) | parser.FunctionalPseudoClassSelector(name=name):
                return name not in ("root", "scope", *(() if self.conditional else ("enabled", "disabled", *LINKS)))
        return False


def rules_for_brought_element(rules: Sequence[StyleRule], name: str) -> Iterator[tuple[StyleRule, Selector, str]]:
    """Yields the rules that may be for an element called `name` ("*" for any) which a value brings, each with the name
    of those elements that what it declares is unsettled for."""
    for rule in rules:
        for selector in rule.selectors:
            if _is_of_root(selector.tree) and not selector.needs.content:
                continue
            local, marked = _subject(selector.relaxed)
            # What a formatter makes has neither class nor id.
            named = local in (None, name) and not marked
            if named or name == "*" or selector.needs.counts_above or selector.needs.content:
                yield rule, selector, name if local == name else "*"


def _is_of_root(tree: Tree) -> bool:
    """Returns whether a selector is for the root element alone, which no value brings."""
    return any(
        isinstance(one, parser.PseudoClassSelector) and one.name in ("root", "scope")
        for one in chain(tree)[-1][1].simple_selectors
    )


def _subject(tree: Tree) -> tuple[str | None, bool]:
    """Returns the name that a selector's subject has to have, None for any, and whether it has to have a class or an
    id."""
    simple = chain(tree)[-1][1].simple_selectors
    names = [one.lower_local_name for one in simple if isinstance(one, parser.LocalNameSelector)]
    return names[-1] if names else None, any(
        isinstance(one, parser.ClassSelector | parser.IDSelector) for one in simple
    )
