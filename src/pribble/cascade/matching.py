"""Which elements of a page a selector is for.

The elements are numbered in the order of the page, so that an element and all within it are a stretch of numbers.  A
selector is not asked of one element after another: each of its compounds makes a *column*, the ascending numbers of the
elements that it is for, and each combinator makes a column of two.  So a compound looks at each element once, whatever
stands before it and however deep the page nests; ``:is()``, ``:not()``, ``:has()`` and ``&`` are columns of their own.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence

from cssselect2 import parser

from pribble.cached_property import cached_property
from pribble.cascade.bounds import MATCHES, CascadeCounter
from pribble.cascade.elements import Element, words
from pribble.cascade.selector_trees import Lang, Nth, Tree, chain
from pribble.cascade.selectors import NestingParent, Selector
from pribble.regexes import regex

ElementNumbers = Sequence[int]
_Test = Callable[[int], bool]

# Attributes whose values HTML compares without regard to case (WHATWG HTML 4.16.2).
_CASELESS = frozenset(
    "accept accept-charset align alink axis bgcolor charset checked clear codetype color compact "
    "declare defer dir direction disabled enctype face frame hreflang http-equiv lang language link "
    "media method multiple nohref noresize noshade nowrap readonly rel rev rules scope scrolling "
    "selected shape target text type valign valuetype vlink".split()
)
_LINKING = frozenset({"a", "area", "link"})
# What a fieldset around it disables (WHATWG HTML 4.10.18.5).
_FIELDS = frozenset("button input select textarea fieldset".split())
_SCHEME = regex("[a-zA-Z][a-zA-Z0-9+.-]*:")


class Matcher:
    """Matches selectors with the elements of one page, within bounds; `tree` says which tree of a selector is meant."""

    def __init__(self, page: ElementIndex, tree: Callable[[Selector], Tree], bounds: CascadeCounter) -> None:
        self.page, self.tree, self.bounds = page, tree, bounds
        self._known: dict[object, ElementNumbers] = {}

    def of(self, selector: Selector) -> ElementNumbers:
        """Returns the elements that a selector is for; the same column, where it is written twice."""
        key: object = selector if selector.needs.around else selector.pieces
        found = self._known.get(key)
        if found is None:
            found = self._known[key] = self._complex(self.tree(selector))
            self.bounds.count(MATCHES, len(found))
        return found

    def _around(self, around: NestingParent) -> ElementNumbers:
        found = self._known.get(around)
        if found is None:
            found = self._known[around] = _union(self.of(one) for one in around.sound)
        return found

    def _complex(self, tree: Tree) -> ElementNumbers:
        column: ElementNumbers = ()
        for combinator, compound in chain(tree):
            among, tests = self._compound(compound)
            if combinator:
                among = self.page.related(combinator, column, among)
            column = _passing(among, tests)
        return column

    def _any(self, selectors: Iterable[parser.Selector]) -> ElementNumbers:
        return _union(self._complex(one.parsed_tree) for one in selectors)

    def _compound(self, compound: Tree) -> tuple[ElementNumbers, list[_Test]]:
        """Returns the shortest column that one of its simple selectors makes, and what the others ask."""
        shortest: ElementNumbers | None = None
        tests: list[_Test] = []
        own: _Test | None = None  # what the one asks that made the shortest column
        for one in compound.simple_selectors:
            column, test = self._simple(one)
            if column is not None and (shortest is None or len(column) < len(shortest)):
                shortest, own, test = column, test, own
            if test is not None:
                tests.append(test)
        return self.page.all if shortest is None else shortest, tests

    def _simple(self, node: Tree) -> tuple[ElementNumbers | None, _Test | None]:
        """Returns the column of a simple selector, where there is one at hand, and what it asks of an element."""
        page, elements = self.page, self.page.elements
        match node:
            case parser.LocalNameSelector(lower_local_name=name):
                return page.by_name.get(name, ()), lambda n: elements[n].local_name == name
            case parser.ClassSelector(class_name=name):
                return page.by_class.get(name, ()), lambda n: name in elements[n].classes
            case parser.IDSelector(ident=name):
                return page.by_id.get(name, ()), lambda n: elements[n].values.get("id") == name
            case parser.NamespaceSelector(namespace=namespace):
                return None if namespace == "" else (), None
            case parser.AttributeSelector():
                return None, self._attribute(node)
            case (
                parser.MatchesAnySelector(selector_list=inner)
                | parser.SpecificityAdjustmentSelector(selector_list=inner)
            ):
                return _held(self._any(inner))
            case NestingParent():
                return _held(self._around(node))
            case parser.NegationSelector(selector_list=inner):
                out = frozenset(self._any(inner))
                return None, lambda n: n not in out
            case parser.RelationalSelector(selector_list=inner):
                having = [self._having(one) for one in inner]
                return None, having[0] if len(having) == 1 else lambda n: any(test(n) for test in having)
            case Nth(of=None):
                ranks, places = page.ranks(node.name), page.by_rank(node.name)
                return places.every(node.step, node.first), _counting(ranks, node)
            case Nth():
                return None, self._nth(node)
            case Lang(tags=tags):
                languages = page.languages
                return None, lambda n: any(languages[n] == tag or languages[n].startswith(f"{tag}-") for tag in tags)
        return None, self._pseudo_class(node.name)

    # -- attributes --

    def _attribute(self, node: Tree) -> _Test:
        elements, name, value, operator = self.page.elements, node.lower_name, node.value, node.operator
        if operator is None:
            return lambda n: name in elements[n].values
        lower = self.page.lower
        if node.case_sensitive is None and name in _CASELESS:  # the rule is for elements of HTML
            exact, caseless = (
                self._compared(value, operator, name),
                self._compared(value.lower(), operator, name, lower),
            )
            return lambda n: (exact if elements[n].foreign else caseless)(n)
        if node.case_sensitive is False:
            return self._compared(value.lower(), operator, name, lower)
        return self._compared(value, operator, name)

    def _compared(
        self, value: str, operator: str, name: str, said: Callable[[int, str], str | None] | None = None
    ) -> _Test:
        """Returns whether what is `said` by the attribute `name` of an element, its value, compares so with `value`."""
        given = said or self.page.value
        if operator == "=":
            return lambda n: given(n, name) == value
        if operator == "|=":
            begun = f"{value}-"
            return lambda n: (found := given(n, name)) is not None and (found == value or found.startswith(begun))
        if operator == "~=":
            words = self.page.words
            return lambda n: value in words(n, name, given)
        if not value:
            return lambda n: False
        if operator == "^=":
            return lambda n: (given(n, name) or "").startswith(value)
        if operator == "$=":
            return lambda n: (given(n, name) or "").endswith(value)
        return lambda n: value in (given(n, name) or "")

    # -- relations --

    def _having(self, relative: Tree) -> _Test:
        """Returns what ``:has()`` asks: followed backwards, from what is looked for to where it is looked from."""
        steps = chain(relative.selector.parsed_tree)
        steps[0] = (relative.combinator, steps[0][1])
        leads: _Test | None = None
        for combinator, compound in reversed(steps):
            column, tests = self._compound(compound)
            column = _passing(column, tests if leads is None else [*tests, leads])
            leads = self.page.leading(combinator, column)
        assert leads is not None
        return leads

    def _nth(self, node: Nth) -> _Test:
        assert node.of is not None
        return _counting(self.page.ranks_among(self._any(node.of), last=node.name == "nth-last-child"), node)

    def _pseudo_class(self, name: str) -> _Test:
        page, elements = self.page, self.page.elements
        if name in ("root", "scope"):
            return lambda n: elements[n].parent is None
        if name == "empty":
            return lambda n: not (elements[n].children or elements[n].text)
        if name in ("link", "any-link"):
            return lambda n: _is_link(elements[n])
        if name == "local-link":
            return lambda n: _is_link(elements[n]) and not _SCHEME.match(elements[n].values["href"])
        if name in ("enabled", "disabled"):
            return lambda n: page.ability(n) == name
        ranks = [page.ranks(nth) for nth in _RANKS[name]]
        return lambda n: all(rank[n] == 1 for rank in ranks)


_RANKS = {
    "first-child": ("nth-child",),
    "last-child": ("nth-last-child",),
    "only-child": ("nth-child", "nth-last-child"),
    "first-of-type": ("nth-of-type",),
    "last-of-type": ("nth-last-of-type",),
    "only-of-type": ("nth-of-type", "nth-last-of-type"),
}


class ElementIndex:
    """The elements of a page, by what selectors ask for; each is found out once, when it is asked for."""

    def __init__(self, elements: Sequence[Element]) -> None:
        self.elements = elements
        self.all = range(len(elements))
        self.parents = [element.parent.number if element.parent else -1 for element in elements]
        self.by_name: dict[str, list[int]] = defaultdict(list)
        self.by_class: dict[str, list[int]] = defaultdict(list)
        self.by_id: dict[str, list[int]] = defaultdict(list)
        for number, element in enumerate(elements):
            self.by_name[element.local_name].append(number)
            for name in element.classes:
                self.by_class[name].append(number)
            if "id" in element.values:
                self.by_id[element.values["id"]].append(number)
        self._ranks: dict[str, dict[int, int]] = {}
        self._by_rank: dict[str, SiblingRanks] = {}
        self._words: dict[tuple[int, str, bool], frozenset[str]] = {}
        self._lower: dict[tuple[int, str], str | None] = {}

    def related(self, combinator: str, left: ElementNumbers, among: ElementNumbers) -> ElementNumbers:
        """Returns those among some that a combinator leads to from `left`."""
        if not left or not among:
            return ()
        if combinator == " ":
            return self._within(left, among)
        parents = self.parents
        if combinator == ">":
            above = frozenset(left)
            return [number for number in among if parents[number] in above]
        if combinator == "+":
            next_ = {following for number in left if (following := self._neighbour(number, 1)) is not None}
            return [number for number in among if number in next_]
        first: dict[int, int] = {}
        for number in left:
            first.setdefault(parents[number], number)
        first.pop(-1, None)
        return [number for number in among if first.get(parents[number], number) < number]

    def _within(self, left: ElementNumbers, among: ElementNumbers) -> ElementNumbers:
        made: list[int] = []
        end = -1
        for number in left:
            if number > end:  # otherwise it is within one that was looked into
                end = self.elements[number].last
                made += among[bisect_right(among, number) : bisect_right(among, end)]
        return made

    def leading(self, combinator: str, column: ElementNumbers) -> _Test:
        """Returns whether a combinator leads from an element to one of a column."""
        elements, parents = self.elements, self.parents
        if combinator == " ":
            return lambda n: (i := bisect_right(column, n)) < len(column) and column[i] <= elements[n].last
        if combinator == ">":
            holding = {parents[number] for number in column}
            return lambda n: n in holding
        if combinator == "+":
            before = {self._neighbour(number, -1) for number in column}
            return lambda n: n in before
        latest = {parents[number]: number for number in column}
        latest.pop(-1, None)
        return lambda n: latest.get(parents[n], n) > n

    def _neighbour(self, number: int, step: int) -> int | None:
        element = self.elements[number]
        index = element.index + step
        if element.parent is None or not 0 <= index < len(element.parent.children):
            return None
        return element.parent.children[index].number

    # -- ranks among siblings, from 1 --

    def ranks(self, name: str) -> dict[int, int]:
        """Returns the rank of each element, as ``:nth-child()`` or another of its kind counts."""
        if name not in self._ranks:
            counted: Counter[object] = Counter()
            made = self._ranks[name] = {}
            for number in reversed(self.all) if "last" in name else self.all:
                parent = self.parents[number] if self.parents[number] >= 0 else ~number
                key = (parent, self.elements[number].local_name) if name.endswith("type") else parent
                counted[key] += 1
                made[number] = counted[key]
        return self._ranks[name]

    def by_rank(self, name: str) -> SiblingRanks:
        """Returns the elements by their ranks, as `ranks` has them."""
        if name not in self._by_rank:
            self._by_rank[name] = SiblingRanks(self.ranks(name))
        return self._by_rank[name]

    def ranks_among(self, column: ElementNumbers, *, last: bool) -> dict[int, int]:
        """Returns the rank of each element of a column among its siblings there."""
        counted: Counter[int] = Counter()
        made = {}
        for number in reversed(column) if last else column:
            counted[self.parents[number]] += 1
            made[number] = counted[self.parents[number]]
        return made

    # -- attributes --

    def value(self, number: int, name: str) -> str | None:
        """Returns the value of an attribute; None where there is none."""
        return self.elements[number].values.get(name)

    def lower(self, number: int, name: str) -> str | None:
        """Returns the value of an attribute in small letters."""
        key = number, name
        if key not in self._lower:
            value = self.value(number, name)
            self._lower[key] = None if value is None else value.lower()
        return self._lower[key]

    def words(self, number: int, name: str, given: Callable[[int, str], str | None]) -> frozenset[str]:
        """Returns the words of an attribute, as `given`, its value or that in small letters, has it."""
        key = number, name, given == self.lower
        if key not in self._words:
            self._words[key] = words(given(number, name) or "")
        return self._words[key]

    @cached_property
    def languages(self) -> list[str]:
        """The language of each element (WHATWG HTML 3.2.6.1)."""
        made: list[str] = []
        for element, parent in zip(self.elements, self.parents, strict=True):
            own = element.values.get("lang")
            made.append(own.lower() if own is not None else made[parent] if parent >= 0 else "")
        return made

    @cached_property
    def _disabled_within(self) -> list[bool]:
        """Whether an element stands in a disabled fieldset, and not in its first legend (WHATWG HTML 4.10.15)."""
        made: list[bool] = []
        legends: dict[int, Element] = {}  # the first of each parent
        for element in self.elements:
            above = element.parent
            if above is None:
                made.append(False)
                continue
            disabling = above.local_name == "fieldset" and "disabled" in above.values
            if disabling and element.local_name == "legend":
                disabling = legends.setdefault(above.number, element) is not element
            made.append(made[above.number] or disabling)
        return made

    def ability(self, number: int) -> str:
        """Returns ``enabled`` or ``disabled``; "" for what can be neither (Selectors 4, 12.1.1)."""
        element = self.elements[number]
        disabled = "disabled" in element.values
        if element.local_name in _FIELDS:
            disabled |= self._disabled_within[number]
        elif element.local_name == "option":
            above = element.parent
            disabled |= above is not None and above.local_name == "optgroup" and "disabled" in above.values
        elif element.local_name != "optgroup":
            return ""
        return "disabled" if disabled else "enabled"


class SiblingRanks:
    """Elements by their ranks."""

    def __init__(self, ranks: Mapping[int, int]) -> None:
        self._of: dict[int, list[int]] = defaultdict(list)
        for number, rank in ranks.items():
            self._of[rank].append(number)
        self._last = max(self._of, default=0)

    def every(self, step: int, first: int) -> ElementNumbers:
        """Returns those of every `step`-th rank from the `first`, as ``:nth-child()`` counts."""
        if step == 0:
            ranks = range(first, first + 1)
        elif step > 0:  # from the first that is above 0
            ranks = range(first if first > 0 else first % step or step, self._last + 1, step)
        else:  # from the first that is no rank beyond the last
            over = max(0, first - self._last)
            ranks = range(first + -(-over // -step) * step, 0, step)
        return sorted(number for rank in ranks for number in self._of.get(rank, ()))


def _counting(ranks: Mapping[int, int], node: Nth) -> _Test:
    """Returns what ``:nth-child()`` asks of the rank of an element."""
    step, first = node.step, node.first
    if step == 0:
        return lambda n: ranks.get(n) == first
    return lambda n: (rank := ranks.get(n)) is not None and (rank - first) % step == 0 and (rank - first) // step >= 0


def _is_link(element: Element) -> bool:
    return element.local_name in _LINKING and "href" in element.values


def _passing(column: ElementNumbers, tests: Iterable[_Test]) -> ElementNumbers:
    """Returns those of a column that pass all tests; the column itself, where all do."""
    for test in tests:
        passing = [number for number in column if test(number)]
        if len(passing) < len(column):
            column = passing
    return column


def _union(columns: Iterable[ElementNumbers]) -> ElementNumbers:
    found = list(columns)
    return found[0] if len(found) == 1 else sorted(set().union(*found))


def _held(column: ElementNumbers) -> tuple[ElementNumbers, _Test]:
    held = frozenset(column)
    return column, held.__contains__
