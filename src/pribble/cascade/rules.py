"""The rules of a page's style sheets, flat and in cascade order, and the parts of the sheets that must stay.

Conditions (``@media``, ``@supports``, ``@container``) and layers are followed; nested rules are taken out of one
another (CSS Nesting); at-rules that mean nothing here stay as they are.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import tinycss2
from cssselect2 import SelectorError

from pribble.cascade.selectors import NestingParent, Selector, parse_selectors
from pribble.cascade.syntax import AtRule, BrokenRule, Declaration, Node, QualifiedRule, StyleSheet, has_error
from pribble.records import field, record

_CONDITIONS = frozenset({"media", "supports", "container"})
_KNOWN = frozenset(
    "charset namespace font-face font-feature-values font-palette-values counter-style keyframes "
    "-webkit-keyframes -moz-keyframes -ms-viewport page property position-try starting-style "
    "view-transition color-profile viewport".split()
)
# How deep groups and imports may nest.
_DEEPEST = 30
UNLAYERED = (1 << 30,)


@record(eq=False)
class StyleRule:
    """A style rule of some selectors; `number` is its place among all.

    `conditions` are the at-rules around it, ``@media print``; `layer` is its place among the layers, which sorts.  A
    `nested` one is written anew where it stays; the others stay where their `node` stands in `part`.
    """

    number: int
    part: SheetPart
    node: QualifiedRule
    selectors: list[Selector]
    declarations: list[Declaration]
    conditions: tuple[str, ...]
    layer: tuple[str, ...]
    nested: bool = False
    anchor: int = 0  # where what stays of a nested one is written, and within which conditions
    inner_conditions: tuple[str, ...] = ()


@record(frozen=True, slots=True)
class UnreadRegion:
    """A nested rule from `start` to `end` that is not read: it stays, within `conditions` and those `around` it."""

    anchor: int
    conditions: tuple[str, ...]
    around: NestingParent
    start: int
    end: int


@record(eq=False)
class SheetPart:
    """A style sheet of the page or one read in: its text, and the rules and groups it is made of.

    `base` is where its addresses start from, `offset` where its text stands in the page (-1 for what was read in).
    """

    sheet: StyleSheet
    base: str
    offset: int
    keep: bool = False
    rules: list[StyleRule] = field(default_factory=list)
    unwrapped: list[AtRule] = field(default_factory=list)  # of these only the inside stays: layers
    dropped: list[tuple[int, int]] = field(default_factory=list)
    imported: list[tuple[AtRule, SheetPart, tuple[str, ...]]] = field(default_factory=list)
    remote: list[tuple[int, int]] = field(default_factory=list)  # imports that stay
    unread: list[UnreadRegion] = field(default_factory=list)


@record(frozen=True, slots=True)
class SheetFinding:
    """A finding about a style sheet: its rule, where it is in which part, what was found and what to do."""

    rule: str
    part: SheetPart
    start: int
    end: int
    message: str
    fix: str
    reference: str


# Reads a style sheet in: the address as written, where it is written from, and the stretch of the page that names it
# (from -1 where it is no stretch of the page), to its text and its own base; None for one that is elsewhere.
Loader = Callable[[str, str, int, int], tuple[str, str] | None]


class StyleRules:
    """All the rules of a page, in the order in which they are met."""

    def __init__(self, load: Loader) -> None:
        self.load = load
        self.all: list[StyleRule] = []
        self.findings: list[SheetFinding] = []
        self._names: dict[tuple[str, ...], int] = {}
        self._places: dict[tuple[str, ...], tuple[int, ...]] = {}
        self._unnamed = 0

    def read(
        self,
        text: str,
        base: str,
        offset: int,
        *,
        conditions: tuple[str, ...] = (),
        layer: tuple[str, ...] = (),
        keep: bool = False,
        chain: tuple[str, ...] = (),
    ) -> SheetPart:
        """Take in a style sheet."""
        part = SheetPart(StyleSheet(text), base, offset, keep)
        if part.sheet.too_deep:
            self.report(
                "css.too-deep",
                part,
                0,
                1,
                "the style sheet nests too deep and stays as it is",
                "mend it",
                "CSS Syntax 3, 9",
            )
        elif part.sheet.unclosed:
            self.report(
                "css.unclosed",
                part,
                max(0, len(text) - 1),
                len(text),
                "the style sheet ends before all is closed",
                "close the strings, comments and brackets that are open",
                "CSS Syntax 3, 5.4",
            )
        reader = _PartReader(self, part, chain)
        reader.rules(part.sheet.rules(), conditions, layer, None, 0)
        return part

    def report(self, rule: str, part: SheetPart, start: int, end: int, message: str, fix: str, reference: str) -> None:
        """Take note of a finding about a stretch of a part."""
        self.findings.append(SheetFinding(rule, part, start, end, message, fix, reference))

    # -- layers (CSS Cascade 5, 6.4.3) --

    def unnamed_layer(self) -> str:
        """Returns a name for a layer without one, which no other has."""
        self._unnamed += 1
        return f"\0{self._unnamed}"

    def layer(self, path: tuple[str, ...]) -> None:
        """Take note of a layer: its place is where it is first named."""
        if path in self._names:
            return
        for length in range(1, len(path) + 1):
            self._names.setdefault(path[:length], len(self._names))

    def place(self, path: tuple[str, ...]) -> tuple[int, ...]:
        """Returns the place of a layer, when all are known: inner ones come before what stands in their outer one
        itself."""
        if path not in self._places:
            self._places[path] = *(self._names[path[:length]] for length in range(1, len(path) + 1)), *UNLAYERED
        return self._places[path]


class _PartReader:
    """Reads one part."""

    def __init__(self, rules: StyleRules, part: SheetPart, chain: tuple[str, ...]) -> None:
        self.found, self.part, self.chain = rules, part, chain
        self.sheet = part.sheet
        self.begun = False  # a rule was met: imports count only before
        # Where the rule ends that others are nested in, and the conditions around it.
        self.outermost: tuple[int, tuple[str, ...]] | None = None

    def rules(
        self,
        nodes: Iterator[QualifiedRule | AtRule | BrokenRule | Declaration],
        conditions: tuple[str, ...],
        layer: tuple[str, ...],
        outer: NestingParent | None,
        depth: int,
    ) -> None:
        """Read rules; `outer` are the selectors of the rule that they are nested in."""
        for node in nodes:
            match node:
                case QualifiedRule():
                    self.begun = True
                    self._style_rule(node, conditions, layer, outer, depth)
                case AtRule():
                    self._at_rule(node, conditions, layer, outer, depth)
                case BrokenRule():
                    self._broken(node)

    def _report(self, rule: str, start: int, end: int, message: str, fix: str, reference: str) -> None:
        self.found.report(rule, self.part, start, end, message, fix, reference)

    def _broken(self, node: BrokenRule) -> None:
        self._report(
            "css.broken",
            node.start,
            node.end,
            f"no receiver reads this: {node.why}",
            "mend it or delete it",
            "CSS Syntax 3, 5.4",
        )

    # -- at-rules --

    def _at_rule(
        self, node: AtRule, conditions: tuple[str, ...], layer: tuple[str, ...], outer: NestingParent | None, depth: int
    ) -> None:
        keyword = node.keyword
        if keyword == "import" and outer is None:
            self._import(node, conditions, layer)
            return
        self.begun |= keyword not in ("charset", "layer")
        if keyword == "layer" and node.content is None:
            for name in node.prelude_text.split(","):
                self.found.layer((*layer, *_layer_path(name)))
            self.part.dropped.append((node.start, node.end))
        elif node.content is None or (keyword not in _CONDITIONS and keyword != "layer") or depth > _DEEPEST:
            if keyword not in _KNOWN:
                self._report(
                    "css.unknown-rule",
                    node.start,
                    node.inner,
                    f"@{keyword} is left as it is",
                    "few receivers read it",
                    "CSS Syntax 3, 9.1",
                )
            self._report_namespace(node)
        elif outer is not None:
            self._nested_group(node, conditions, layer, outer, depth)
        else:
            inside = self.sheet.rules_in(node.content, node.inner_end)
            if keyword == "layer":
                path = (*layer, *(_layer_path(node.prelude_text) or (self.found.unnamed_layer(),)))
                self.found.layer(path)
                self.part.unwrapped.append(node)
                self.rules(inside, conditions, path, outer, depth + 1)
                return
            self.rules(inside, (*conditions, *condition(keyword, node.prelude_text)), layer, outer, depth + 1)

    def _report_namespace(self, node: AtRule) -> None:
        if node.keyword == "namespace":
            self._report(
                "css.namespace",
                node.start,
                node.end,
                "a namespace means nothing in a page",
                "delete it; its rules are left as they are",
                "CSS Namespaces 3, 2",
            )

    def _nested_group(
        self, node: AtRule, conditions: tuple[str, ...], layer: tuple[str, ...], outer: NestingParent, depth: int
    ) -> None:
        """A condition within a rule: its declarations are those of the rule."""
        assert node.content is not None
        made = (*conditions, *condition(node.keyword, node.prelude_text))
        content = list(self.sheet.declarations_in(node.content, node.inner_end))
        own = [each for each in content if isinstance(each, Declaration)]
        if own:
            rule = QualifiedRule((), node.start, (), node.start, node.inner, node.inner_end, node.end)
            self._add(rule, outer.selectors, own, made, layer, nested=True)
        self.rules((each for each in content if not isinstance(each, Declaration)), made, layer, outer, depth + 1)

    def _import(self, node: AtRule, conditions: tuple[str, ...], layer: tuple[str, ...]) -> None:
        address, layered, made = import_rule(node)
        if address is None or self.begun:
            self._report(
                "css.import",
                node.start,
                node.end,
                "no receiver reads this @import",
                "it names one address and stands before all rules",
                "CSS Cascade 5, 2",
            )
            self.part.dropped.append((node.start, node.end))
            return
        at = self.part.offset  # -1 in a sheet that is itself read in
        loaded = self.found.load(address, self.part.base, at + node.start if at >= 0 else -1, at + node.end)
        if loaded is None:
            self._report(
                "css.remote",
                node.start,
                node.end,
                f'"{address}" is elsewhere and stays as it is',
                "few receivers fetch a style sheet; put it beside the template",
                "CSS Cascade 5, 2",
            )
            self.part.remote.append((node.start, node.end))
            return
        text, base = loaded
        inner = layer if layered is None else (*layer, *(_layer_path(layered) or (self.found.unnamed_layer(),)))
        if inner:
            self.found.layer(inner)
        if base in self.chain or len(self.chain) > _DEEPEST:
            self._report(
                "css.import-circle",
                node.start,
                node.end,
                f'"{address}" is read in already, by way of itself',
                "let no sheet import one that imports it",
                "CSS Cascade 5, 2",
            )
            self.part.dropped.append((node.start, node.end))
            return
        part = self.found.read(
            text, base, -1, conditions=(*conditions, *made), layer=inner, keep=self.part.keep, chain=(*self.chain, base)
        )
        self.part.imported.append((node, part, made))

    # -- style rules --

    def _style_rule(
        self,
        node: QualifiedRule,
        conditions: tuple[str, ...],
        layer: tuple[str, ...],
        outer: NestingParent | None,
        depth: int,
    ) -> None:
        if depth > _DEEPEST:
            self._report(
                "css.too-deep",
                node.start,
                node.prelude_end,
                "rules nest too deep here and are left out",
                "take them out of one another",
                "CSS Nesting 1, 2",
            )
            return
        content = list(self.sheet.declarations_in(node.content, node.inner_end))
        for each in content:
            if isinstance(each, BrokenRule):
                self._broken(each)
        own = [each for each in content if isinstance(each, Declaration)]
        rules = [each for each in content if isinstance(each, QualifiedRule | AtRule)]
        nested = outer is not None or bool(rules)
        if outer is None:
            self.outermost = node.end, conditions
        try:
            selectors = parse_selectors(node.prelude, outer)
        except (SelectorError, ValueError, RecursionError) as error:
            self._unknown(node, _reason(error), conditions, outer)
            return
        if rules and outer is None:
            self.part.dropped.append((node.start, node.end))  # the part that stays is written out
        if not all(one.is_writable for one in selectors) and (
            conditions
            or self.part.keep
            or any(one.stays for one in selectors)
            or any(d.name.startswith("--") for d in own)
        ):
            self._unknown(node, "it has to stay, and would be too long", conditions, outer)
            return
        self._add(node, selectors, own, conditions, layer, nested=nested)
        if rules:
            self.rules(iter(rules), conditions, layer, NestingParent(tuple(selectors)), depth + 1)

    def _unknown(
        self, node: QualifiedRule, reason: str, conditions: tuple[str, ...], outer: NestingParent | None
    ) -> None:
        """A rule that is not read, because of its selectors: it stays as it is."""
        self._report(
            "css.unknown-selector",
            node.start,
            node.prelude_end,
            "this selector is left as it is: " + reason,
            "mend it, unless it is meant for some receiver",
            "Selectors 4, 3.9",
        )
        if outer is not None:
            anchor, outside = self.outermost or (0, ())
            self.part.unread.append(UnreadRegion(anchor, conditions[len(outside) :], outer, node.start, node.end))

    def _add(
        self,
        node: QualifiedRule,
        selectors: Sequence[Selector],
        declarations: list[Declaration],
        conditions: tuple[str, ...],
        layer: tuple[str, ...],
        *,
        nested: bool,
    ) -> None:
        sound = []
        for declaration in declarations:
            if not declaration.name.startswith("--") and (has_error(declaration.tokens) or not declaration.value):
                self._report(
                    "css.broken",
                    declaration.start,
                    declaration.end,
                    "no receiver reads this declaration",
                    "mend it or delete it",
                    "CSS Syntax 3, 5.4",
                )
            else:
                sound.append(declaration)
        for selector in selectors:
            if selector.needs.unknown:
                self._report(
                    "css.unknown-selector",
                    node.start,
                    node.prelude_end,
                    f":{selector.needs.unknown} is known to no receiver; the rule is left as it is",
                    "mend or delete it",
                    "Selectors 4, 3.9",
                )
        if layer:
            self.found.layer(layer)
        anchor, outside = self.outermost or (0, ())
        rule = StyleRule(
            len(self.found.all),
            self.part,
            node,
            list(selectors),
            sound,
            conditions,
            layer,
            nested,
            anchor,
            conditions[len(outside) :],
        )
        self.found.all.append(rule)
        self.part.rules.append(rule)


def condition(keyword: str, prelude: str) -> tuple[str, ...]:
    """Returns a condition as it is written around rules; none for one that always holds."""
    if keyword == "media" and prelude.strip().lower() in ("", "all"):
        return ()
    return (f"@{keyword} {prelude.strip()}",)


def import_rule(node: AtRule) -> tuple[str | None, str | None, tuple[str, ...]]:
    """Returns what an ``@import`` names (CSS Cascade 5, 2): the address, or None; the layer, or None ("" is one without
    a name); the conditions."""
    rest = [token for token in node.prelude if token.type not in ("whitespace", "comment")]
    address = _import_address(rest.pop(0)) if rest else None
    layer = _import_layer(rest[0]) if rest else None
    if layer is not None:
        rest.pop(0)
    conditions: list[str] = []
    if rest and _is_function(rest[0], "supports"):
        conditions.append(f"@supports ({tinycss2.serialize(rest.pop(0).arguments).strip()})")
    if rest:
        start = next(i for i, token in enumerate(node.prelude) if token is rest[0])
        conditions += condition("media", tinycss2.serialize(node.prelude[start:]))
    return address, layer, tuple(conditions)


def _is_function(token: Node, name: str) -> bool:
    return bool(token.type == "function" and token.lower_name == name)


def _import_address(token: Node) -> str | None:
    if _is_function(token, "url"):
        return next((inner.value for inner in token.arguments if inner.type == "string"), None)
    return token.value if token.type in ("string", "url") else None


def _import_layer(token: Node) -> str | None:
    if token.type == "ident" and token.lower_value == "layer":
        return ""
    return tinycss2.serialize(token.arguments).strip() if _is_function(token, "layer") else None


def _layer_path(name: str) -> tuple[str, ...]:
    """Returns the names of a layer and of those it is within; of a path deeper than anyone writes, the first ones."""
    return tuple(part.strip() for part in name.strip().split(".", _DEEPEST)[:_DEEPEST] if part.strip())


def _reason(error: Exception) -> str:
    if isinstance(error, RecursionError):
        return "it nests too deep for what called us"
    return str(error.args[-1]) if error.args else "it is broken"
