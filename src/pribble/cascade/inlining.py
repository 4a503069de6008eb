"""Style sheets written into the elements that they select.

The page may be a template's, with marks in it, or one that is whole.  What comes back are new attributes and what is
left of each sheet; nothing is changed here.  Where what a selector matches depends on the data, that is a
`RuntimeDependency`, and the page has to be inlined when it is rendered.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

from pribble.cascade import cascade_order, style_attribute
from pribble.cascade.bounds import CHARACTERS, DECLARATIONS, CascadeCounter
from pribble.cascade.cascade_order import IMPORTANT, AppliedDeclaration, ElementStyles
from pribble.cascade.custom_properties import Changes, Environment, uses_custom
from pribble.cascade.elements import Document, Element
from pribble.cascade.longhands import longhands
from pribble.cascade.matched_rules import MatchedRules, rules_by_element
from pribble.cascade.matching import ElementIndex, ElementNumbers, Matcher
from pribble.cascade.plain_values import is_plain_value
from pribble.cascade.residual_sheets import MatchLabel, ResidualSheets, RuleCopies
from pribble.cascade.rules import SheetFinding, SheetPart, StyleRule, StyleRules, condition
from pribble.cascade.runtime_dependencies import UncertainMatches, rules_for_brought_element
from pribble.cascade.selectors import Selector
from pribble.cascade.style_attribute import OwnDeclaration, TextOrSpan
from pribble.cascade.syntax import Declaration, StyleSheet
from pribble.markup.contexts import MARK
from pribble.markup.page import Page
from pribble.markup.value_branches import Role
from pribble.records import field, record

_CUSTOM = "--"


@record(frozen=True, slots=True)
class RuntimeDependency:
    """Why it depends on the data what an element gets; the stretch of the page that shows it."""

    start: int
    end: int
    reason: str


@record(frozen=True, slots=True)
class StyledElement:
    """An element with a new ``style``: its pieces, and what is added to it, so that a rule finds it: a class, or where
    rules ask for the classes of elements, an attribute."""

    element: Element
    style: tuple[tuple[TextOrSpan, ...], ...] | None
    added: MatchLabel | None = None


@record(frozen=True, slots=True)
class SheetRemainder:
    """What is left of a sheet element's text, which was `before`, None for nothing, and an element `after` it."""

    element: Element
    before: str
    text: str | None
    after: str


@record
class InlinedStyles:
    """The outcome of inlining.

    `styled` are the elements with new attributes, `sheets` what is left of each sheet element, `styles` the
    declarations of the elements by their numbers, `elements` all elements of the page, `raw` where the texts of its
    style elements stand.

    What cannot be decided without the data: `runtime_dependencies` say where and why, `unsettled` are names of elements
    and properties ("*" for any), `dynamic_styles` the elements whose own style may lack something.
    """

    styled: list[StyledElement] = field(default_factory=list)
    sheets: list[SheetRemainder] = field(default_factory=list)
    findings: list[SheetFinding] = field(default_factory=list)
    runtime_dependencies: list[RuntimeDependency] = field(default_factory=list)
    unsettled: set[tuple[str, str]] = field(default_factory=set)
    dynamic_styles: set[int] = field(default_factory=set)
    styles: dict[int, ElementStyles] = field(default_factory=dict)
    elements: list[Element] = field(default_factory=list)
    raw: dict[int, tuple[int, int, int]] = field(default_factory=dict)


class PageResources(Protocol):
    """What a page stands in: the files beside it, and what its marks may bring."""

    def load(self, address: str, base: str, start: int, end: int) -> tuple[str, str] | None:
        """Returns a style sheet read in, its addresses resolved, and its own base; None for one that is elsewhere."""

    def base(self, offset: int) -> str:
        """Returns where the addresses start from of what stands at an offset of the page."""

    def addresses(self, css: str, offset: int) -> str:
        """Returns a piece of CSS that stands at an offset, with the addresses in it resolved."""

    def may_lack(self, offset: int) -> bool:
        """Returns whether the mark at an offset may be nothing at all."""

    def brings(self, offset: int) -> frozenset[str]:
        """Returns the elements that the value of a mark may bring; "*" for any."""


def inline_sheets(text: str, page: Page, role: Role, resources: PageResources) -> InlinedStyles:
    """Apply the style sheets of a page."""
    return _Inliner(Document(text, page, role, resources.may_lack), resources).run()


class _Inliner:
    def __init__(self, document: Document, resources: PageResources) -> None:
        self.document, self.text, self.resources = document, document.text, resources
        self.rules = StyleRules(resources.load)
        self.made = InlinedStyles(findings=self.rules.findings, elements=document.elements, raw=document.raw)
        self.sheets: list[tuple[Element, SheetPart]] = []
        self.selecting: set[Selector] = set()
        self.dependent: set[int] = set()
        self.unsettled: set[tuple[str, int]] = set()
        self.order: dict[int, tuple[int, ...]] = {}
        self.bounds = CascadeCounter()
        self.environment = Environment(self.bounds)
        self.changes: dict[object, Changes] = {}

    def run(self) -> InlinedStyles:
        self._read_sheets()
        if not self.rules.all and not any("style" in e.values for e in self.document.elements):
            self._finish(set(), [])
            return self.made
        groups = self._groups()
        raised = cascade_order.settle_importance(groups)
        self._finish(raised, groups)
        return self.made

    # -- sheets --

    def _read_sheets(self) -> None:
        for element in self.document.elements:
            # SVG has a style element of its own; MathML has none, and neither has links (HTML 4.2.4, SVG 2, 6.6).
            if element.local_name == "style" and element.foreign != "math" and element.number in self.document.raw:
                self._style_element(element)
            elif element.local_name == "link" and not element.foreign:
                self._link(element)
        if self.rules.all and self.document.page.quirks:
            self._report(
                "page.quirks",
                0,
                1,
                "without a doctype a browser reads style sheets in its own old way: classes whatever their case",
                "begin the page with <!DOCTYPE html>",
                "WHATWG HTML 13.2.6.4.1",
            )

    def _style_element(self, element: Element) -> None:
        start, end, _ = self.document.raw[element.number]
        kind = element.values.get("type", "").strip().lower()
        if kind not in ("", "text/css"):
            return
        in_block = element.block != 0 and self.text[start:end].strip()
        if in_block or MARK.search(self.text, start, end) or "media" in element.dynamic_attributes:
            self._add_dependency(element, "a style sheet stands in a block or holds a mark")
            self.made.unsettled.add(("*", "*"))
        conditions = self._conditions(element)
        keep = element.values.get("data-rules", "").strip().lower() == "keep"
        written = self.text[start:end]
        text = self.resources.addresses(written, start)
        offset = start if text == written else -1
        part = self.rules.read(text, self.resources.base(start), offset, conditions=conditions, keep=keep)
        self.sheets.append((element, part))

    def _link(self, element: Element) -> None:
        rel = element.values.get("rel", "").lower().split()
        address = element.values.get("href", "").strip()
        if "stylesheet" not in rel or "alternate" in rel or not address:
            return
        if "href" in element.dynamic_attributes or "media" in element.dynamic_attributes or element.block:
            self._add_dependency(element, "a style sheet stands in a block or holds a mark")
            self.made.unsettled.add(("*", "*"))
            return
        loaded = self.rules.load(
            address, self.resources.base(element.opening.start), element.opening.start, element.opening.end
        )
        if loaded is None:
            self._report(
                "css.remote",
                element.opening.start,
                element.opening.end,
                f'"{address}" is elsewhere and stays as it is',
                "few receivers fetch a style sheet; put it beside the template",
                "WHATWG HTML 4.6.7.20",
            )
            return
        sheet, base = loaded
        conditions = self._conditions(element)
        self.sheets.append((element, self.rules.read(sheet, base, -1, conditions=conditions, chain=(base,))))

    def _conditions(self, element: Element) -> tuple[str, ...]:
        """Returns what the ``media`` of a sheet element says."""
        media = element.values.get("media", "")
        if media.strip().lower() in ("screen", "only screen"):
            self._report(
                "css.media",
                element.opening.start,
                element.opening.end,
                f'media="{media}" keeps the whole sheet out of the elements, since it does not hold in print',
                "leave it out, and the rules stick",
                "CSS Cascade 4, 5",
            )
        return condition("media", media)

    def _report(self, rule: str, start: int, end: int, message: str, fix: str, reference: str) -> None:
        """Take note of a finding about a stretch of the page."""
        self.rules.report(rule, SheetPart(StyleSheet(""), "", start), 0, end - start, message, fix, reference)

    def _add_dependency(self, element: Element, reason: str) -> None:
        """Take note that an element depends on the data; one reason for each is enough."""
        start = element.opening.start
        if start not in self.dependent:
            self.dependent.add(start)
            self.made.runtime_dependencies.append(RuntimeDependency(start, element.opening.end, reason))

    # -- matching --

    def _groups(self) -> list[ElementStyles]:
        """Returns the elements, together where they get the same."""
        elements = self.document.elements
        page = ElementIndex(elements)
        sure, possible = self._matched(page)
        self._report_unwritten()
        self._find_dependencies(page)
        groups: dict[object, ElementStyles] = {}
        custom = self._has_custom_properties()
        for element, for_sure, perhaps in zip(
            elements,
            rules_by_element(len(elements), sure, self.bounds),
            rules_by_element(len(elements), possible, self.bounds),
            strict=True,
        ):
            if custom:
                self._change_custom(element, for_sure, perhaps)
            if element.unrendered or not (for_sure or perhaps or element.opening.attribute("style")):
                continue
            # Elements with equal style attributes can share all work; one whose attribute holds a mark cannot.
            own: object = element.number if "style" in element.dynamic_attributes else element.values.get("style")
            key = for_sure, perhaps, own, self.environment.number
            group = groups.get(key)
            if group is None:
                group = groups[key] = self._group(element, for_sure, perhaps)
            group.numbers.append(element.number)
            self.made.styles[element.number] = group
        return list(groups.values())

    def _has_custom_properties(self) -> bool:
        """Returns whether a rule or an element declares a custom property, or reads one."""
        in_rules = any(uses_custom(d) for rule in self.rules.all for d in rule.declarations)
        return in_rules or any("var(" in e.values.get("style", "").lower() for e in self.document.elements)

    def _matched(
        self, page: ElementIndex
    ) -> tuple[list[tuple[ElementNumbers, StyleRule, Selector]], list[tuple[ElementNumbers, StyleRule, Selector]]]:
        """Returns the elements that each selector is for: of rules that are written into them, and of those that
        stay."""
        matcher = Matcher(page, lambda selector: selector.relaxed, self.bounds)
        sure, possible = [], []
        for rule in self.rules.all:
            self.order[rule.number] = self.rules.place(rule.layer)
            for selector in rule.selectors:
                column = () if selector.pseudo_element else matcher.of(selector)
                if not column:
                    continue
                # A rule within @media or for a :hover holds at times; an attribute would hold always, so such a rule
                # stays in its sheet.
                inlinable = not rule.conditions and not selector.needs.dynamic
                if inlinable:
                    sure.append((column, rule, selector))
                    self.selecting.add(selector)
                if not inlinable or selector.needs.links or rule.part.keep:
                    possible.append((column, rule, selector))
        return sure, possible

    def _report_unwritten(self) -> None:
        """Report selectors that are for nothing here and too long to stay: they are written nowhere."""
        for rule in self.rules.all:
            if any(not (one.is_writable or one in self.selecting) for one in rule.selectors):
                self.rules.report(
                    "css.unknown-selector",
                    rule.part,
                    rule.node.start,
                    rule.node.prelude_end,
                    "nothing here is selected so, and written out it would be too long: it is left out",
                    "take the rule out of those around it",
                    "CSS Nesting 1, 3",
                )

    def _find_dependencies(self, page: ElementIndex) -> None:
        """Selectors that match by what depends on the data."""
        for match in UncertainMatches(page, self.rules.all, self.bounds).find():
            self._add_dependency(match.element, f'"{match.selector.text}" {match.why}')
            self._unsettle("*", match.rule)
        brought: dict[str, Selector | None] = {}
        for offset in self.document.shown:
            for name in self.resources.brings(offset):
                if name not in brought:
                    brought[name] = self._brought(name)
            selector = next((found for name in self.resources.brings(offset) if (found := brought[name])), None)
            if selector:
                self.made.runtime_dependencies.append(
                    RuntimeDependency(offset, offset + 1, f'"{selector.text}" may be for what a value brings')
                )

    def _brought(self, name: str) -> Selector | None:
        """Returns a selector of a rule that could be for an element called `name`, which a mark brings, if there is
        any."""
        found: Selector | None = None
        for rule, selector, unsettled in rules_for_brought_element(self.rules.all, name):
            found = found or selector
            self._unsettle(unsettled, rule)
        return found

    def _unsettle(self, name: str, rule: StyleRule) -> None:
        """Take note of what a rule declares for elements called `name`, which it may be for or not."""
        if (name, rule.number) not in self.unsettled:
            self.unsettled.add((name, rule.number))
            self.made.unsettled.update((name, one) for d in rule.declarations for one in longhands(d.name))

    def _change_custom(self, element: Element, for_sure: MatchedRules, perhaps: MatchedRules) -> None:
        """Find out what an element makes of the custom properties; once for all to which the same is done."""
        self.environment.reach(element)
        style = element.opening.attribute("style")
        own = element.values.get("style", "") if style else ""
        said: object = own if "--" in own else ""
        if said and "style" in element.dynamic_attributes:
            said = element.number
        key = self.environment.number, for_sure, perhaps, said
        changes = self.changes.get(key)
        if changes is None:
            entries = [self._entry(d, i, rule, selector) for rule, selector, i, d in for_sure.custom]
            if style and said:
                read = [
                    one
                    for one in style_attribute.read_style_attribute(self.text, style)
                    if one.declaration.name.startswith(_CUSTOM)
                ]
                entries += [self._own(one, i) for i, one in enumerate(read)]
                if any(one.marked for one in read):
                    self._add_dependency(element, "a custom property holds a mark")
                    self.made.unsettled.add(("*", "*"))
            entries.sort(key=lambda e: e.key)
            self.bounds.count(DECLARATIONS, len(entries) + len(perhaps.moved))
            changes = self.environment.changes((e.declaration for e in entries), perhaps.moved)
            self.changes[key] = changes
        self.environment.change(changes)

    # -- the declarations of an element --

    def _entry(
        self, declaration: Declaration, index: int, rule: StyleRule, selector: Selector, kept: Selector | None = None
    ) -> AppliedDeclaration:
        layer = self.order[rule.number]
        # Among important declarations earlier layers win (CSS Cascade 5, 6.4.3).
        if declaration.important:
            layer = tuple(-place for place in layer)
        key = (declaration.important, False, layer, selector.specificity, rule.number, index)
        return AppliedDeclaration(declaration, key, rule, (rule.number, index), kept)

    @staticmethod
    def _own(own: OwnDeclaration, index: int) -> AppliedDeclaration:
        key = (own.declaration.important, True, (), (0, 0, 0), 0, index)
        return AppliedDeclaration(own.declaration, key, None, (-1, index), fixed=own.declaration.important)

    def _group(self, element: Element, for_sure: MatchedRules, perhaps: MatchedRules) -> ElementStyles:
        entries = [
            self._entry(d, i, rule, selector)
            for rule, selector in for_sure.best.values()
            for i, d in enumerate(rule.declarations)
            if not d.name.startswith(_CUSTOM)
        ]
        entries += self._own_entries(element, bool(entries or perhaps), bool(perhaps))
        entries.sort(key=lambda e: e.key)
        for entry in entries:
            self._resolve(entry, element)
        kept = [
            self._entry(d, i, rule, selector, selector)
            for rule, selector in perhaps.pairs
            for i, d in enumerate(rule.declarations)
            if not d.name.startswith(_CUSTOM)
        ]
        custom = [
            self._entry(d, i, rule, selector, selector) for rule, selector, i, d in (*for_sure.custom, *perhaps.custom)
        ]
        group = ElementStyles(_without_hidden(entries), kept, frozenset(for_sure.best), custom)
        group.prepare(self.bounds)
        return group

    def _resolve(self, entry: AppliedDeclaration, element: Element) -> None:
        """Give a declaration the text that it is written with: its ``var()`` and its pictures resolved."""
        entry.text = entry.declaration.value
        if uses_custom(entry.declaration) and not entry.declaration.name.startswith(_CUSTOM):
            entry.text = self.environment.resolved(entry.declaration)
            entry.var_dependent = self.environment.is_var_dependent(entry.declaration)
            if entry.var_dependent and entry.fixed:  # no rule beats it, so it has to follow the property itself
                entry.text = self.environment.guarded(entry.declaration)
        if entry.rule is None and entry.span is None:
            entry.text = self.resources.addresses(entry.text, element.opening.start)

    def _own_entries(self, element: Element, concerned: bool, beaten: bool) -> Iterator[AppliedDeclaration]:
        style = element.opening.attribute("style")
        if style is None:
            return
        if "style" in element.dynamic_attributes:
            blocks = any(
                self.document.role(found.start()) not in ("show", "literal")
                for found in MARK.finditer(self.text, style.value_start, style.value_end)
            )
            if blocks or "style" in element.conditional_attributes:
                self.made.dynamic_styles.add(element.number)
                if concerned:
                    self._add_dependency(element, "its style holds a block, and rules are for it")
        own = style_attribute.read_style_attribute(self.text, style)
        for index, one in enumerate(own):
            entry = self._own(one, index)
            if one.marked:
                entry.span = one.start, one.end
                if beaten and any(
                    self.resources.may_lack(found.start()) for found in MARK.finditer(self.text, one.start, one.end)
                ):
                    self._add_dependency(element, "a declaration may be left out, and rules that stay are for it")
            yield entry

    # -- the outcome --

    def _finish(self, raised: set[cascade_order.DeclarationPlace], groups: list[ElementStyles]) -> None:
        # A class that is added would be found by rules that ask whether an element has a class at all.
        by_class = not any(
            "class" in selector.needs.presences for rule in self.rules.all for selector in rule.selectors
        )
        copies = RuleCopies(groups, self.document.elements, by_class=by_class)
        remains = ResidualSheets(self.rules.all, self.selecting, raised, copies, groups)
        for group in groups:
            label = copies.label_of(group)
            style = self._style(group)
            self.bounds.count(CHARACTERS, len(group.numbers) * _length(style or ()))
            for number in group.numbers:
                element = self.document.elements[number]
                if style is not None or label:
                    self.made.styled.append(StyledElement(element, style, label))
        for index, (element, part) in enumerate(self.sheets):
            last = index == len(self.sheets) - 1
            left, after = remains.of(part, last=last)
            media = element.values.get("media", "")
            if element.local_name == "link" and left is not None:
                left = remains.as_element(left, media)
            self.made.sheets.append(SheetRemainder(element, part.sheet.text, left, remains.as_element(after, media)))

    @staticmethod
    def _style(group: ElementStyles) -> tuple[tuple[TextOrSpan, ...], ...] | None:
        """Returns the new ``style`` of an element; None where its own stays as it is."""
        if all(
            entry.rule is None and entry.text == entry.declaration.value and (entry.fixed or entry.state != IMPORTANT)
            for entry in group.inlined
        ):
            return None
        # Important declarations are written last: receivers that know nothing of importance take the last one.
        plain = [entry for entry in group.inlined if entry.state != IMPORTANT]
        important = [entry for entry in group.inlined if entry.state == IMPORTANT]
        return tuple(_declaration_pieces(entry) for entry in (*plain, *important))


def _declaration_pieces(entry: AppliedDeclaration) -> tuple[TextOrSpan, ...]:
    """Returns a declaration as it is written into an attribute."""
    mark = " !important" if entry.state == IMPORTANT else ""
    if entry.span is None:
        return (f"{entry.declaration.name}:{entry.text}{mark}",)
    return (entry.span,) if entry.fixed or not mark else (entry.span, mark)


def _length(style: tuple[tuple[TextOrSpan, ...], ...]) -> int:
    return sum(len(piece) + 2 for pieces in style for piece in pieces)


def _without_hidden(entries: list[AppliedDeclaration]) -> list[AppliedDeclaration]:
    """Returns `entries`, ascending, without those that a plain value of the same property hides."""
    hidden: set[str] = set()
    seen = []
    # From the winner down: what a plain value of the same property hides is seen by nobody.
    for entry in reversed(entries):
        name = entry.declaration.name
        if name in hidden and entry.span is None:
            continue
        seen.append(entry)
        if entry.span is None and not entry.var_dependent and is_plain_value(name, entry.text):
            hidden.add(name)
    return seen[::-1]
