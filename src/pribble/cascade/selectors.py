"""Selectors (Selectors 4): compiled by cssselect2, and asked what only the data or the reader decide.

A selector has a part that is decided when the page is known, and perhaps a dynamic one: ``a:hover``.  A dynamic
selector is compiled *relaxed*, as matching what it may match at some time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from cssselect2 import SelectorError, compiler, parser

from pribble.cascade.elements import Element

_LINKS = frozenset({"link", "any-link", "local-link"})
# What does not change while a message is read.
_STATIC = _LINKS | frozenset(
    "root scope first-child last-child first-of-type last-of-type only-child only-of-type "
    "empty enabled disabled nth-child nth-last-child nth-of-type nth-last-of-type "
    "lang".split()
)
_COUNTING = frozenset(
    "first-child last-child first-of-type last-of-type only-child only-of-type nth-child "
    "nth-last-child nth-of-type nth-last-of-type".split()
)
_KNOWN = frozenset(
    "hover focus focus-within focus-visible active visited target target-within checked indeterminate "
    "default valid invalid in-range out-of-range required optional read-only read-write "
    "placeholder-shown autofill defined fullscreen modal open closed popover-open current past future "
    "playing paused seeking buffering stalled muted volume-locked user-valid user-invalid dir".split()
)
# Attributes whose values HTML compares without regard to case (WHATWG HTML 4.16.2).
_CASELESS = frozenset(
    "accept accept-charset align alink axis bgcolor charset checked clear codetype color compact "
    "declare defer dir direction disabled enctype face frame hreflang http-equiv lang language link "
    "media method multiple nohref noresize noshade nowrap readonly rel rev rules scope scrolling "
    "selected shape target text type valign valuetype vlink".split()
)
# A selector longer than this is a mistake or an attack: nothing of it is read.
_LONGEST = 1000
Specificity = tuple[int, int, int]
Drops = Callable[[Any], bool]


@dataclass(frozen=True, slots=True, eq=False)
class Selector:
    """One complex selector; `text` as written.  `compiled` tests an element (relaxed, if `dynamic`).

    `attributes` are those it asks for the value of, `presences` those it asks for at all.  `counts` and `counts_above`
    say whether the number of brothers matters, of the subject or of what stands before it; `content` whether what
    the subject holds does.
    """

    text: str
    tree: Any
    compiled: compiler.CompiledSelector
    specificity: Specificity
    dynamic: bool
    links: bool
    pseudo_element: bool
    unknown: str | None
    attributes: frozenset[str]
    presences: frozenset[str]
    counts: bool
    counts_above: bool
    content: bool

    def doubt(self, element: Element) -> str | None:
        """Why it depends on the data whether it matches `element`, which it may; None where it does not."""
        if self.counts and element.parent is not None and element.parent.varying:
            return "counts brothers in a loop or branch"
        if self.counts_above and any(above.varying for above in element.ancestors):
            return "counts brothers in a loop or branch"
        if self.content and (
            element.filling
            or any(e.varying for e in element.iter_subtree())
            or (element.parent is not None and element.parent.varying)
        ):
            return "asks what an element holds"
        for above in (element, *element.ancestors):
            if (above.unsure & self.attributes) or (above.fleeting & self.presences):
                return "asks for an attribute that holds a mark"
        return None


def parsed(tokens: Sequence[Any]) -> list[Selector]:
    """The selectors of a rule's prelude.  Raises `SelectorError` for a list that no browser reads."""
    texts = list(_texts(tokens))
    if any(len(one) > _LONGEST for one in texts):
        raise SelectorError("it is too long")
    found = list(parser.parse(list(tokens)))
    return [_selector(one.strip(), selector) for one, selector in zip(texts, found, strict=True)]


def _texts(tokens: Sequence[Any]) -> Iterator[str]:
    """The texts between the commas of a prelude, without comments."""
    made = ""
    for token in tokens:
        if token.type == "literal" and token.value == ",":
            yield made
            made = ""
        elif token.type != "comment":
            made += token.serialize()
    yield made


def _selector(text: str, found: parser.Selector) -> Selector:
    asked = _Asked()
    asked.read(found.parsed_tree, subject=True)
    specificity = _specificity(found.parsed_tree)
    tree = _relaxed(found.parsed_tree, _is_dynamic)
    try:
        compiled = compiler.CompiledSelector(parser.Selector(tree, None))
    except (SyntaxError, NotImplementedError) as error:  # [*|x], :has() of nothing
        raise SelectorError(text, "unknown selector") from error
    return Selector(
        text,
        found.parsed_tree,
        compiled,
        specificity,
        asked.dynamic,
        asked.links,
        found.pseudo_element is not None,
        asked.unknown,
        frozenset(asked.attributes),
        frozenset(asked.presences),
        asked.counts,
        asked.counts_above,
        asked.content,
    )


class _Asked:
    """What a selector asks for."""

    def __init__(self) -> None:
        self.dynamic = self.links = self.counts = self.counts_above = self.content = False
        self.unknown: str | None = None
        self.attributes: set[str] = set()
        self.presences: set[str] = set()

    def read(self, node: Any, *, subject: bool) -> None:
        match node:
            case parser.CombinedSelector(left=left, combinator=combinator, right=right):
                self.read(right, subject=subject)
                self.read(left, subject=False)
                if combinator in "+~":
                    self._counted(subject)
            case parser.CompoundSelector(simple_selectors=simple):
                for one in simple:
                    self.read(one, subject=subject)
            case parser.ClassSelector():
                self.attributes.add("class")
            case parser.IDSelector():
                self.attributes.add("id")
            case parser.AttributeSelector(lower_name=name, operator=operator):
                (self.attributes if operator else self.presences).add(name)
                self.presences.add(name)
            case parser.RelationalSelector(selector_list=inner):
                self.content = True
                self.counts_above |= not subject
                for one in inner:
                    self.read(one.selector.parsed_tree, subject=False)
            case (
                parser.NegationSelector(selector_list=inner)
                | parser.MatchesAnySelector(selector_list=inner)
                | parser.SpecificityAdjustmentSelector(selector_list=inner)
            ):
                for one in inner:
                    self.read(one.parsed_tree, subject=subject)
            case parser.PseudoClassSelector(name=name) | parser.FunctionalPseudoClassSelector(name=name):
                self._pseudo_class(name, subject)
                for one in _counted_of(node):
                    self.read(one.parsed_tree, subject=subject)

    def _counted(self, subject: bool) -> None:
        self.counts |= subject
        self.counts_above |= not subject

    def _pseudo_class(self, name: str, subject: bool) -> None:
        if name in _COUNTING:
            self._counted(subject)
        elif name == "empty":
            self.content = True
        elif name in _LINKS:
            self.links = True
            self.presences.add("href")
        elif name == "lang":
            self.attributes.add("lang")
        elif name in ("enabled", "disabled"):
            self.presences.add("disabled")
        elif name not in _STATIC:
            self.dynamic = True
            if name not in _KNOWN:
                self.unknown = name


def _counted_of(node: Any) -> list[parser.Selector]:
    """The selectors of ``:nth-child(… of S)``."""
    if not isinstance(node, parser.FunctionalPseudoClassSelector) or not node.name.startswith("nth"):
        return []
    at = next(
        (i for i, token in enumerate(node.arguments) if token.type == "ident" and token.lower_value == "of"), None
    )
    return [] if at is None else list(parser.parse(node.arguments[at + 1 :]))


def _specificity(node: Any) -> Specificity:
    """The specificity of a selector (Selectors 4, 17); that of ``:nth-child(… of S)`` is put right."""
    match node:
        case parser.CombinedSelector(left=left, right=right):
            return added(_specificity(left), _specificity(right))
        case parser.CompoundSelector(simple_selectors=simple):
            total: Specificity = (0, 0, 0)
            for one in simple:
                total = added(total, _specificity(one))
            return total
        case parser.SpecificityAdjustmentSelector():
            return (0, 0, 0)
        case parser.NegationSelector(selector_list=inner) | parser.MatchesAnySelector(selector_list=inner):
            return max((_specificity(one.parsed_tree) for one in inner), default=(0, 0, 0))
        case parser.RelationalSelector(selector_list=inner):
            return max((_specificity(one.selector.parsed_tree) for one in inner), default=(0, 0, 0))
        case parser.FunctionalPseudoClassSelector():
            of = max((_specificity(one.parsed_tree) for one in _counted_of(node)), default=(0, 0, 0))
            return added((0, 1, 0), of)
    given: Specificity = node.specificity
    return given


def added(one: Specificity, other: Specificity) -> Specificity:
    """The specificity of two selectors together."""
    return one[0] + other[0], one[1] + other[1], one[2] + other[2]


def _relaxed(node: Any, drops: Drops) -> Any:
    """A selector tree that matches all that `node` may match, whatever comes of the simple selectors `drops` names.

    What stands before a ``+`` or ``~`` goes too, where ``drops("+")`` says so.
    """
    match node:
        case parser.CombinedSelector(left=left, combinator=combinator, right=right):
            if combinator in "+~" and drops(combinator):
                return _relaxed(right, drops)
            return parser.CombinedSelector(_relaxed(left, drops), combinator, _relaxed(right, drops))
        case parser.CompoundSelector(simple_selectors=simple):
            made = (_relaxed_simple(one, drops) for one in simple)
            return parser.CompoundSelector([one for one in made if one is not None])
    return node


def _relaxed_simple(node: Any, drops: Drops) -> Any:
    if drops(node):
        return None
    match node:
        case parser.AttributeSelector(lower_name=name, operator=operator) if operator and node.case_sensitive is None:
            return parser.AttributeSelector(
                node.namespace, (node.name, name), operator, node.value, False if name in _CASELESS else None
            )
        case parser.NegationSelector(selector_list=inner):
            sure = [one for one in inner if not _holds(one.parsed_tree, drops)]
            return parser.NegationSelector(sure) if sure else None
        case parser.MatchesAnySelector(selector_list=inner) | parser.SpecificityAdjustmentSelector(selector_list=inner):
            return type(node)([parser.Selector(_relaxed(one.parsed_tree, drops)) for one in inner])
        case parser.RelationalSelector(selector_list=inner):
            return parser.RelationalSelector(
                [
                    parser.RelativeSelector(one.combinator, parser.Selector(_relaxed(one.selector.parsed_tree, drops)))
                    for one in inner
                ]
            )
    return node


def _holds(node: Any, drops: Drops) -> bool:
    """Whether a selector tree holds anything that `drops` names."""
    match node:
        case parser.CombinedSelector(left=left, combinator=combinator, right=right):
            return (combinator in "+~" and drops(combinator)) or _holds(left, drops) or _holds(right, drops)
        case parser.CompoundSelector(simple_selectors=simple):
            return any(_holds(one, drops) for one in simple)
        case parser.RelationalSelector(selector_list=inner):
            return drops(node) or any(_holds(one.selector.parsed_tree, drops) for one in inner)
        case (
            parser.NegationSelector(selector_list=inner)
            | parser.MatchesAnySelector(selector_list=inner)
            | parser.SpecificityAdjustmentSelector(selector_list=inner)
        ):
            return any(_holds(one.parsed_tree, drops) for one in inner)
    return drops(node)


def _is_dynamic(node: Any) -> bool:
    return (
        isinstance(node, parser.PseudoClassSelector | parser.FunctionalPseudoClassSelector) and node.name not in _STATIC
    )


def loosened(selector: Selector, unsure: frozenset[str], fleeting: frozenset[str]) -> compiler.CompiledSelector:
    """`selector` compiled as though what depends on the data held: brothers, contents, the attributes named."""

    def drops(node: Any) -> bool:
        match node:
            case "+" | "~" | parser.RelationalSelector():
                return True
            case parser.ClassSelector():
                return "class" in unsure
            case parser.IDSelector():
                return "id" in unsure
            case parser.AttributeSelector(lower_name=name, operator=operator):
                return name in (unsure if operator else fleeting)
            case parser.PseudoClassSelector(name=name) | parser.FunctionalPseudoClassSelector(name=name):
                return name not in ("root", "scope", *(() if fleeting else ("enabled", "disabled", *_LINKS)))
        return False

    return compiler.CompiledSelector(parser.Selector(_relaxed(selector.tree, drops), None))


def raised(text: str, by: Specificity) -> str:
    """`text` with so much more specificity, matching the same elements."""
    ids, classes, types = by
    return text + ":not(#pribble)" * ids + ":not(.pribble)" * classes + ":not(pribble)" * types
