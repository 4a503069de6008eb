"""Selectors as trees (Selectors 4): parsed by cssselect2, and what their functions hold parsed further.

A complex selector is a `chain` of compound ones.  Some nodes are our own: ``:nth-child()``, ``:lang()``, and a
reference to what stands around a nested rule.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from typing import Any, TypeAlias

from cssselect2 import SelectorError, parser
from tinycss2.nth import parse_nth

from pribble.records import record

LINKS = frozenset({"link", "any-link", "local-link"})
_NTH = frozenset({"nth-child", "nth-last-child", "nth-of-type", "nth-last-of-type"})
COUNTING = _NTH | frozenset("first-child last-child first-of-type last-of-type only-child only-of-type".split())
# What does not change while a message is read.
STATIC = LINKS | COUNTING | frozenset("root scope empty enabled disabled lang".split())
Specificity = tuple[int, int, int]
# A selector, or a simple one within it, as cssselect2 parses it, which has no types.
Tree: TypeAlias = Any

Drops = Callable[[Tree], bool]
NOTHING: Specificity = (0, 0, 0)
# What stands for ``&`` while a nested selector is parsed.  No style sheet holds a NUL (CSS Syntax 3, 3.3).
AROUND = "\0around"


@record(frozen=True, slots=True, eq=False)
class Nth:
    """``:nth-child(2n+1 of .a)``: every `step`-th from the `first`, among those that `of` selects, None for all."""

    name: str
    step: int
    first: int
    of: tuple[parser.Selector, ...] | None


@record(frozen=True, slots=True, eq=False)
class Lang:
    """``:lang(de, en)``."""

    tags: tuple[str, ...]


class NestingReference(ABC):
    """What ``&`` refers to, as a node of a tree."""

    @property
    @abstractmethod
    def specificity(self) -> Specificity:
        """The greatest of what is referred to (CSS Nesting 1, 3.1)."""

    @abstractmethod
    def holds(self, drops: Drops) -> bool:
        """Returns whether anything that is referred to holds what `drops` names."""


def chain(tree: Tree) -> list[tuple[str, Tree]]:
    """Returns the compound selectors of a complex one, each with the combinator before it, "" for the first."""
    made = []
    while isinstance(tree, parser.CombinedSelector):
        made.append((tree.combinator, tree.right))
        tree = tree.left
    return [("", tree), *reversed(made)]


def chained(steps: Sequence[tuple[str, Tree]]) -> Tree:
    tree = steps[0][1]
    for combinator, compound in steps[1:]:
        tree = parser.CombinedSelector(tree, combinator, compound)
    return tree


# -- what is parsed further than cssselect2 does --


def parse_tree(tree: Tree, around: NestingReference | None, *, relative: bool = False) -> Tree:
    """Returns `tree` with all that its functions hold parsed, and with references to what stands around it.  Raises
    `SelectorError` for what Selectors 4 does not have."""
    return chained(
        [
            (combinator, parser.CompoundSelector([_simple(one, around, relative) for one in compound.simple_selectors]))
            for combinator, compound in chain(tree)
        ]
    )


def _simple(node: Tree, around: NestingReference | None, relative: bool) -> Tree:
    match node:
        case parser.PseudoClassSelector(name=name) if name == AROUND:
            return around
        case parser.AttributeSelector(namespace=None):
            raise SelectorError("an attribute of any namespace")
        case parser.RelationalSelector(selector_list=inner):
            if relative or not inner:  # Selectors 4, 4.5
                raise SelectorError(":has() of " + ("nothing" if not inner else "what holds :has()"))
            return parser.RelationalSelector(
                [
                    parser.RelativeSelector(
                        one.combinator, _bare(parse_tree(one.selector.parsed_tree, around, relative=True))
                    )
                    for one in inner
                ]
            )
        case (
            parser.NegationSelector(selector_list=inner)
            | parser.MatchesAnySelector(selector_list=inner)
            | parser.SpecificityAdjustmentSelector(selector_list=inner)
        ):
            return type(node)([_bare(parse_tree(one.parsed_tree, around, relative=relative)) for one in inner])
        case parser.FunctionalPseudoClassSelector(name=name) if name in _NTH:
            return _nth(node, around, relative)
        case parser.FunctionalPseudoClassSelector(name="lang"):
            return Lang(tuple(_languages(node.arguments)))
        case parser.FunctionalPseudoClassSelector(name=name) if name in STATIC:
            raise SelectorError(f":{name}() is no function")
        case parser.PseudoClassSelector(name=name) if name in _NTH or name == "lang":
            raise SelectorError(f":{name} is a function")
    return node


class _Bare(parser.Selector):  # type: ignore[misc]
    """A selector in a function, whose specificity is counted here: cssselect2 counts those in chains ever anew."""

    def __init__(self, tree: Tree) -> None:
        self.parsed_tree, self.pseudo_element = tree, None


def _bare(tree: Tree) -> parser.Selector:
    return _Bare(tree)


def _nth(node: Tree, around: NestingReference | None, relative: bool) -> Nth:
    at = next(
        (i for i, token in enumerate(node.arguments) if token.type == "ident" and token.lower_value == "of"), None
    )
    found = parse_nth(node.arguments[:at])
    if found is None or (at is not None and node.name.endswith("of-type")):
        raise SelectorError(f"Invalid arguments for :{node.name}()")
    of = None
    if at is not None:
        inner = parser.parse(node.arguments[at + 1 :])
        of = tuple(_bare(parse_tree(one.parsed_tree, around, relative=relative)) for one in inner)
    step, first = found
    return Nth(node.name, step, first, of)


def _languages(arguments: Sequence[Tree]) -> Iterator[str]:
    tokens = [token for token in arguments if token.type not in ("whitespace", "comment")]
    for index, token in enumerate(tokens):
        if index % 2 == 0 and token.type in ("ident", "string"):
            yield token.value.lower()
        elif index % 2 == 0 or token.type != "literal" or token.value != ",":
            raise SelectorError("Invalid arguments for :lang()")
    if len(tokens) % 2 == 0:
        raise SelectorError("Invalid arguments for :lang()")


# -- how much it weighs --


def specificity(tree: Tree) -> Specificity:
    """Returns the specificity of a selector (Selectors 4, 17)."""
    total = NOTHING
    for _, compound in chain(tree):
        for one in compound.simple_selectors:
            total = added(total, _own_specificity(one))
    return total


def _own_specificity(node: Tree) -> Specificity:
    match node:
        case parser.SpecificityAdjustmentSelector():
            return NOTHING
        case parser.NegationSelector(selector_list=inner) | parser.MatchesAnySelector(selector_list=inner):
            return max((specificity(one.parsed_tree) for one in inner), default=NOTHING)
        case parser.RelationalSelector(selector_list=inner):
            return max((specificity(one.selector.parsed_tree) for one in inner), default=NOTHING)
        case Nth(of=of):
            return added((0, 1, 0), max((specificity(one.parsed_tree) for one in of or ()), default=NOTHING))
        case Lang():
            return 0, 1, 0
    given: Specificity = node.specificity
    return given


def added(one: Specificity, other: Specificity) -> Specificity:
    """Returns the specificity of two selectors together."""
    return one[0] + other[0], one[1] + other[1], one[2] + other[2]


# -- selectors that match more --


def relaxed(tree: Tree, drops: Drops) -> Tree:
    """Returns a selector tree that matches all that `tree` may match, whatever comes of the simple selectors `drops`
    names.

    What stands before a ``+`` or ``~`` goes too, where ``drops("+")`` says so.
    """
    steps: list[tuple[str, Tree]] = []
    for combinator, compound in chain(tree):
        if combinator in ("+", "~") and drops(combinator):
            steps, combinator = [], ""
        made = (_relaxed_simple(one, drops) for one in compound.simple_selectors)
        steps.append((combinator, parser.CompoundSelector([one for one in made if one is not None])))
    return chained(steps)


def _relaxed_simple(node: Tree, drops: Drops) -> Tree:
    if drops(node):
        return None
    match node:
        case parser.NegationSelector(selector_list=inner):
            sure = [one for one in inner if not tree_holds(one.parsed_tree, drops)]
            return parser.NegationSelector(sure) if sure else None
        case parser.MatchesAnySelector(selector_list=inner) | parser.SpecificityAdjustmentSelector(selector_list=inner):
            return type(node)([_bare(relaxed(one.parsed_tree, drops)) for one in inner])
        case parser.RelationalSelector(selector_list=inner):
            return parser.RelationalSelector(
                [
                    parser.RelativeSelector(one.combinator, _bare(relaxed(one.selector.parsed_tree, drops)))
                    for one in inner
                ]
            )
    return node


def tree_holds(tree: Tree, drops: Drops) -> bool:
    """Returns whether a selector tree holds anything that `drops` names."""
    return any(
        (combinator in ("+", "~") and drops(combinator))
        or any(_holds_simple(one, drops) for one in compound.simple_selectors)
        for combinator, compound in chain(tree)
    )


def _holds_simple(node: Tree, drops: Drops) -> bool:
    if drops(node):
        return True
    match node:
        case parser.RelationalSelector(selector_list=inner):
            return any(tree_holds(one.selector.parsed_tree, drops) for one in inner)
        case (
            parser.NegationSelector(selector_list=inner)
            | parser.MatchesAnySelector(selector_list=inner)
            | parser.SpecificityAdjustmentSelector(selector_list=inner)
        ):
            return any(tree_holds(one.parsed_tree, drops) for one in inner)
        case NestingReference():
            return node.holds(drops)
    return False
