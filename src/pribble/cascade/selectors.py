"""Selectors (Selectors 4), asked what only the data or the reader decide.

A selector has a part that is decided when the page is known, and perhaps a dynamic one: ``a:hover``.  A dynamic
selector is *relaxed* before it is matched, so that it matches what it may match at some time.

A nested rule's selector refers to those of the rule around it (CSS Nesting 1): ``&`` is a reference in its tree, and
not a copy, so that rules in rules do not multiply.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from cssselect2 import SelectorError, parser
from tinycss2 import ast
from tinycss2.serializer import serialize_identifier

from pribble.cached_property import cached_property
from pribble.cascade.selector_trees import (
    AROUND,
    COUNTING,
    LINKS,
    NOTHING,
    STATIC,
    Drops,
    Lang,
    NestingReference,
    Nth,
    Specificity,
    Tree,
    chain,
    parse_tree,
    relaxed,
    specificity,
    tree_holds,
)
from pribble.cascade.syntax import Node
from pribble.records import field, record

_KNOWN = frozenset(
    "hover focus focus-within focus-visible active visited target target-within checked indeterminate "
    "default valid invalid in-range out-of-range required optional read-only read-write "
    "placeholder-shown autofill defined fullscreen modal open closed popover-open current past future "
    "playing paused seeking buffering stalled muted volume-locked user-valid user-invalid dir".split()
)
# A selector longer than this is a mistake or an attack: nothing of it is read, and none is written.
_LONGEST = 1000


@record(frozen=True, eq=False)
class NestingParent(NestingReference):
    """The selectors of the rule that a nested one stands in, which its ``&`` means."""

    selectors: tuple[Selector, ...]
    _held: dict[Drops, bool] = field(default_factory=dict)

    @cached_property
    def sound(self) -> tuple[Selector, ...]:
        """Those that an element can match."""
        return tuple(one for one in self.selectors if not one.pseudo_element)

    @cached_property
    def specificity(self) -> Specificity:
        return max((one.specificity for one in self.sound), default=NOTHING)

    def holds(self, drops: Drops) -> bool:
        """Returns whether any of them holds what `drops` names; it is found out once."""
        if drops not in self._held:
            self._held[drops] = any(tree_holds(one.tree, drops) for one in self.sound)
        return self._held[drops]

    @cached_property
    def asked(self) -> SelectorNeeds:
        """What any of them asks for."""
        every = [one.needs for one in self.sound]
        return SelectorNeeds(
            dynamic=any(each.dynamic for each in every),
            links=any(each.links for each in every),
            counts=any(each.counts for each in every),
            counts_above=any(each.counts_above for each in every),
            content=any(each.content for each in every),
            unknown=next((each.unknown for each in every if each.unknown), None),
            attributes=frozenset().union(*(each.attributes for each in every)),
            presences=frozenset().union(*(each.presences for each in every)),
            around=next((each.around for each in every if each.around), None),
        )

    @cached_property
    def length(self) -> int:
        """How long its text is."""
        return len(":is()") + sum(one.length + len(", ") for one in self.selectors)

    @cached_property
    def text(self) -> str:
        """What stands for them within another selector."""
        return f":is({', '.join(one.text for one in self.selectors)})"

    def enclosing(self, rule: str) -> str:
        """Returns a rule as it stands within one of these selectors; within the rules around that, where it would be
        too long to write it without them."""
        text = f"{', '.join(one.text for one in self.selectors)} {{ {rule} }}"
        outer = self.asked.around
        return text if outer is None or all(one.is_writable for one in self.selectors) else outer.enclosing(text)


@record(eq=False)
class SelectorNeeds:
    """What a selector asks for.

    `attributes` are those it asks for the value of, `presences` those it asks for at all.  `counts` and `counts_above`
    say whether the number of siblings matters, of the subject or of what stands before it; `content` whether what
    the subject holds does; `unknown` is a pseudo-class that no receiver knows.  `around` is what ``&`` refers to, whose
    flags are among these, and whose attributes are not.
    """

    dynamic: bool = False
    links: bool = False
    counts: bool = False
    counts_above: bool = False
    content: bool = False
    unknown: str | None = None
    attributes: frozenset[str] = frozenset()
    presences: frozenset[str] = frozenset()
    around: NestingParent | None = None

    def levels(self) -> Iterator[tuple[frozenset[str], frozenset[str]]]:
        """Yields the attributes that it and what stands around it ask for, from the inside out."""
        asked: SelectorNeeds | None = self
        while asked is not None:
            yield asked.attributes, asked.presences
            asked = asked.around.asked if asked.around else None


@record(frozen=True, eq=False)
class Selector:
    """One complex selector, `pieces` as written, None for each ``&``.  `tree` is what it is parsed into, `relaxed` that
    without what is dynamic."""

    pieces: tuple[str | None, ...]
    tree: Tree
    relaxed: Tree
    specificity: Specificity
    pseudo_element: bool
    needs: SelectorNeeds

    @property
    def stays(self) -> bool:
        """Whether it stays in the sheet whatever it matches."""
        return self.needs.dynamic or self.needs.links or self.pseudo_element

    @cached_property
    def length(self) -> int:
        """How long its text is, about."""
        around = self.needs.around.length if self.needs.around else 0
        return sum(len(piece) if piece is not None else around for piece in self.pieces)

    @property
    def is_writable(self) -> bool:
        """Whether it can be written without what stands around it, and is not too long then."""
        return self.needs.around is None or self.length <= _LONGEST

    @cached_property
    def text(self) -> str:
        """It as it is written anywhere; as it stands in its rule, where it would be too long."""
        around = self.needs.around.text if self.needs.around and self.is_writable else "&"
        return "".join(around if piece is None else piece for piece in self.pieces)


def parse_selectors(tokens: Sequence[Node], around: NestingParent | None = None) -> list[Selector]:
    """Returns the selectors of a rule's prelude, which is nested where it has something `around`.  Raises
    `SelectorError` for a list that no browser reads."""
    return [_selector(pieces, one, around) for pieces, one in _split_at_commas(tokens, around)]


def _split_at_commas(
    tokens: Sequence[Node], around: NestingParent | None
) -> Iterator[tuple[tuple[str | None, ...], list[parser.Selector]]]:
    """Yields the texts between the commas of a prelude, and what each is parsed into."""
    one: list[Node] = []
    for token in (*tokens, None):
        if token is not None and not (token.type == "literal" and token.value == ","):
            one.append(token)
            continue
        pieces = _split_at_nesting(one)
        if sum(len(piece or "&") for piece in pieces) > _LONGEST:
            raise SelectorError("it is too long")
        if not any(piece is None or piece for piece in pieces):
            raise SelectorError("it is empty")
        if around is not None:
            if None in pieces:
                one = list(_with_references(one))
            else:
                one = [*_reference(), ast.WhitespaceToken(0, 0, " "), *one]
                pieces = (None, " ", *pieces)
        _check_having(one)
        yield pieces, list(parser.parse(one))
        one = []


def _check_having(tokens: Sequence[Node]) -> None:
    """Raise `SelectorError` for a ``:has()`` of which a part is none: it forgives nothing (Selectors 4, 4.5)."""
    for token in tokens:
        if token.type == "function":
            if token.lower_name == "has" and any(
                one.pseudo_element for one in parser.parse(list(token.arguments), relative=True)
            ):
                raise SelectorError(":has() of a pseudo-element")
            _check_having(token.arguments)


def _split_at_nesting(tokens: Sequence[Node]) -> tuple[str | None, ...]:
    """Returns the text of a selector without comments, apart where an ``&`` stands."""
    made: list[str | None] = [""]

    def write(tokens: Sequence[Node]) -> None:
        for token in tokens:
            if token.type == "function":
                made.append(f"{serialize_identifier(token.name)}(")
                write(token.arguments)
                made.append(")")
            elif token.type == "literal" and token.value == "&":
                made.append(None)
            elif token.type != "comment":
                made.append(token.serialize())

    write(tokens)
    joined: list[str | None] = []
    for piece in made:
        if piece is not None and joined and joined[-1] is not None:
            joined[-1] += piece
        else:
            joined.append(piece)
    first, last = joined[0], joined[-1]
    if first is not None:
        joined[0] = first.lstrip()
    if last is not None:
        joined[-1] = (joined[-1] or "").rstrip()
    return tuple(joined)


def _with_references(tokens: Sequence[Node]) -> Iterator[Node]:
    for token in tokens:
        if token.type == "literal" and token.value == "&":
            yield from _reference()
        elif token.type == "function":
            yield ast.FunctionBlock(0, 0, token.name, list(_with_references(token.arguments)))
        else:
            yield token


def _reference() -> list[Node]:
    return [ast.LiteralToken(0, 0, ":"), ast.IdentToken(0, 0, AROUND)]


def _selector(pieces: tuple[str | None, ...], found: list[parser.Selector], around: NestingParent | None) -> Selector:
    one = found[0]
    tree = parse_tree(one.parsed_tree, around)
    reading = _Reading()
    reading.read(tree, subject=True)
    return Selector(
        pieces, tree, relaxed(tree, _is_dynamic), specificity(tree), one.pseudo_element is not None, reading.asked()
    )


# -- what a selector asks for --


class _Reading:
    """Finds out what a selector asks for."""

    def __init__(self) -> None:
        self.found = SelectorNeeds()
        self.attributes: set[str] = set()
        self.presences: set[str] = set()

    def asked(self) -> SelectorNeeds:
        self.found.attributes, self.found.presences = frozenset(self.attributes), frozenset(self.presences)
        return self.found

    def read(self, tree: Tree, *, subject: bool) -> None:
        steps = chain(tree)
        for index, (combinator, compound) in enumerate(steps):
            if combinator in ("+", "~"):
                self._counted(subject and index == len(steps) - 1)
            for one in compound.simple_selectors:
                self._simple(one, subject and index == len(steps) - 1)

    def _simple(self, node: Tree, subject: bool) -> None:
        match node:
            case parser.ClassSelector():
                self.attributes.add("class")
            case parser.IDSelector():
                self.attributes.add("id")
            case parser.AttributeSelector(lower_name=name, operator=operator):
                (self.attributes if operator else self.presences).add(name)
                self.presences.add(name)
            case parser.RelationalSelector(selector_list=inner):
                self.found.content = True
                self.found.counts_above |= not subject
                for one in inner:
                    self.read(one.selector.parsed_tree, subject=False)
            case (
                parser.NegationSelector(selector_list=inner)
                | parser.MatchesAnySelector(selector_list=inner)
                | parser.SpecificityAdjustmentSelector(selector_list=inner)
            ):
                for one in inner:
                    self.read(one.parsed_tree, subject=subject)
            case Nth(of=of):
                self._counted(subject)
                for one in of or ():
                    self.read(one.parsed_tree, subject=subject)
            case Lang():
                self.attributes.add("lang")
            case NestingParent():
                self._around(node, subject)
            case parser.PseudoClassSelector(name=name) | parser.FunctionalPseudoClassSelector(name=name):
                self._pseudo_class(name, subject)

    def _counted(self, subject: bool) -> None:
        self.found.counts |= subject
        self.found.counts_above |= not subject

    def _around(self, around: NestingParent, subject: bool) -> None:
        mine, its = self.found, around.asked
        mine.around = around
        mine.dynamic |= its.dynamic
        mine.links |= its.links
        mine.content |= its.content
        mine.unknown = mine.unknown or its.unknown
        mine.counts |= its.counts and subject
        mine.counts_above |= its.counts_above or ((its.counts or its.content) and not subject)

    def _pseudo_class(self, name: str, subject: bool) -> None:
        if name in COUNTING:
            self._counted(subject)
        elif name == "empty":
            self.found.content = True
        elif name in LINKS:
            self.found.links = True
            self.presences.add("href")
        elif name in ("enabled", "disabled"):
            self.presences.add("disabled")
        elif name not in STATIC:
            self.found.dynamic = True
            if name not in _KNOWN:
                self.found.unknown = name


def _is_dynamic(node: Tree) -> bool:
    if isinstance(node, parser.PseudoClassSelector | parser.FunctionalPseudoClassSelector):
        return node.name not in STATIC
    return False


def raise_specificity(text: str, by: Specificity) -> str:
    """Returns `text` with so much more specificity, matching the same elements."""
    ids, classes, types = by
    return text + ":not(#pribble)" * ids + ":not(.pribble)" * classes + ":not(pribble)" * types
