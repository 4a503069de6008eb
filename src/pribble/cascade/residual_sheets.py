"""What is left of the style sheets once their rules are written into the elements.

A sheet is changed by edits: rules that are inlined go, those that stay keep their author's writing, but for a
declaration that becomes important, a selector that gains weight, and copies of what no attribute can say.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from itertools import groupby, pairwise

from pribble.cascade.cascade_order import COPIED, AppliedDeclaration, DeclarationPlace, ElementStyles, is_important
from pribble.cascade.custom_properties import uses_custom
from pribble.cascade.elements import Element
from pribble.cascade.rules import SheetPart, StyleRule
from pribble.cascade.selector_trees import Specificity, added
from pribble.cascade.selectors import Selector
from pribble.cascade.selectors import raise_specificity as heavier
from pribble.cascade.syntax import AtRule, Declaration, StyleSheet
from pribble.edits import Edit, replaced
from pribble.records import record
from pribble.regexes import regex

# So often weights are corrected at the most: selectors that need one another's weight in a circle have none.
_MOST_ROUNDS = 20
# Who is weighed, by its place in the sheets: a rule's number, whether a copy, which selector or copy, and whether its
# declarations were important from the first, since these beat those that became so.
WeighedSelector = tuple[int, bool, int, bool]


@record(frozen=True, slots=True)
class MatchLabel:
    """What is added to elements so that a rule is for them alone: a class, or an attribute."""

    number: int
    is_class: bool

    @property
    def selector(self) -> str:
        return f".pribble-{self.number}" if self.is_class else f'[data-pribble="{self.number}"]'


@record(eq=False)
class RuleCopy:
    """Declarations kept in the sheet beside the attribute, for the elements of some groups; `label` is what restricts
    it, None where the rule's own selectors do."""

    rule: StyleRule | None
    places: dict[DeclarationPlace, AppliedDeclaration]
    label: MatchLabel | None = None


class RuleCopies:
    """The copies of a page, and the labels that they need."""

    def __init__(self, groups: Sequence[ElementStyles], elements: Sequence[Element], *, by_class: bool) -> None:
        self._taken = {name for element in elements for name in element.classes}
        self._by_class = by_class
        wanted: dict[int, list[tuple[ElementStyles, AppliedDeclaration]]] = defaultdict(list)
        selected: dict[int, list[ElementStyles]] = defaultdict(list)
        for group in groups:
            for number in group.applied:
                selected[number].append(group)
            for entry in group.inlined:
                if entry.state == COPIED:
                    wanted[entry.rule.number if entry.rule else -1].append((group, entry))
        self.by_rule: dict[int, list[RuleCopy]] = defaultdict(list)
        self._labels: dict[int, MatchLabel] = {}
        for number, found in sorted(wanted.items()):
            places = {entry.place for _, entry in found}
            rule = found[0][1].rule
            writable = rule is not None and all(selector.is_writable for selector in rule.selectors)
            if writable and all(_copies_all(group, places) for group in selected[number]):
                self.by_rule[number].append(RuleCopy(found[0][1].rule, {entry.place: entry for _, entry in found}))
                continue
            labelled: dict[MatchLabel, RuleCopy] = {}
            for group, entry in found:
                label = self._label(group)
                if label not in labelled:
                    labelled[label] = RuleCopy(entry.rule, {}, label)
                labelled[label].places[entry.place] = entry
            self.by_rule[number] += labelled.values()

    def _label(self, group: ElementStyles) -> MatchLabel:
        if id(group) not in self._labels:
            number = len(self._labels) + 1
            while f"pribble-{number}" in self._taken:
                number += 1
            self._taken.add(f"pribble-{number}")
            self._labels[id(group)] = MatchLabel(number, self._by_class)
        return self._labels[id(group)]

    def label_of(self, group: ElementStyles) -> MatchLabel | None:
        """Returns what the elements of a group get; None for nothing."""
        return self._labels.get(id(group))


def _copies_all(group: ElementStyles, places: set[DeclarationPlace]) -> bool:
    """Returns whether a group has each of the declarations, none of them hidden, and copies them all."""
    return places <= {entry.place for entry in group.inlined if entry.state == COPIED}


class ResidualSheets:
    """What is left of each sheet."""

    def __init__(
        self,
        rules: Sequence[StyleRule],
        selecting: set[Selector],
        raised: set[DeclarationPlace],
        copies: RuleCopies,
        groups: Sequence[ElementStyles],
    ) -> None:
        self.rules, self.selecting, self.raised, self.copies = rules, selecting, raised, copies
        self._stay = {rule.number: self._staying_of(rule) for rule in rules}
        self._places = {(rule.number, s): i for rule in rules for i, s in enumerate(rule.selectors)}
        self._copies = {
            (number, copy.label): i for number, found in copies.by_rule.items() for i, copy in enumerate(found)
        }
        kept = [d for rule in rules if self._staying(rule) for d in rule.declarations]
        copied = any(copy for found in copies.by_rule.values() for copy in found)
        copied |= any(entry.fixed and entry.var_dependent for group in groups for entry in group.inlined)
        self.custom = copied or any(uses_custom(d) for d in kept)
        self.weights = self._weights(groups)

    def _staying(self, rule: StyleRule) -> list[int]:
        """Returns the places of those selectors of a rule that stay."""
        return self._stay[rule.number]

    def _staying_of(self, rule: StyleRule) -> list[int]:
        if rule.conditions or rule.part.keep:
            return list(range(len(rule.selectors)))
        return [i for i, s in enumerate(rule.selectors) if s.is_writable and (s.stays or s not in self.selecting)]

    # -- weights --

    def _weights(self, groups: Sequence[ElementStyles]) -> dict[WeighedSelector, Specificity]:
        """Returns how much more specificity selectors need, so that what stays keeps its order."""
        more: dict[WeighedSelector, Specificity] = {}
        pairs = {
            pair for group in groups if group.kept or (self.custom and group.custom) for pair in self._pairs(group)
        }
        for _ in range(_MOST_ROUNDS):
            changed = False
            for lower, low, higher, high in pairs:
                least = added(low, more.get(lower, (0, 0, 0)))
                now = added(high, more.get(higher, (0, 0, 0)))
                if (now, higher) <= (least, lower):
                    target = least if higher > lower else added(least, (0, 0, 1))
                    more[higher] = added(more.get(higher, (0, 0, 0)), _missing_specificity(now, target))
                    changed = True
            if not changed:
                break
        return more

    def _pairs(self, group: ElementStyles) -> set[tuple[WeighedSelector, Specificity, WeighedSelector, Specificity]]:
        """Returns neighbours in the cascade that set one longhand and are equally important: which must weigh more."""
        found = set()
        weighed: dict[AppliedDeclaration, tuple[WeighedSelector, Specificity]] = {}

        def of(entry: AppliedDeclaration) -> tuple[WeighedSelector, Specificity]:
            if entry not in weighed:
                weighed[entry] = self._weighed(entry, group)
            return weighed[entry]

        meeting = list(group.by_longhand.values())
        if self.custom:
            named: dict[str, list[AppliedDeclaration]] = {}
            for entry in group.custom:
                named.setdefault(entry.declaration.name, []).append(entry)
            meeting += [([], entries) for entries in named.values()]
        for inlined, kept in meeting:
            levels: tuple[list[AppliedDeclaration], list[AppliedDeclaration]] = [], []
            copied = [entry for entry in inlined if entry.state == COPIED]
            for entry in sorted((*kept, *copied), key=lambda e: e.key):
                levels[entry.selector is None or is_important(entry, self.raised)].append(entry)
            for level in levels:
                for lower, higher in pairwise(level):
                    one, other = of(lower), of(higher)
                    if one[0] != other[0]:
                        found.add((*one, *other))
        return found

    def _weighed(self, entry: AppliedDeclaration, group: ElementStyles) -> tuple[WeighedSelector, Specificity]:
        if entry.selector is not None and entry.rule is not None:
            index = self._places[entry.rule.number, entry.selector]
            return (entry.rule.number, False, index, entry.declaration.important), entry.selector.specificity
        number = entry.rule.number if entry.rule else -1
        label = self.copies.label_of(group)
        if label is not None and (number, label) not in self._copies:
            label = None
        weighed = (
            number if entry.rule else len(self.rules),
            True,
            self._copies[number, label],
            entry.declaration.important,
        )
        return weighed, (0, 1, 0) if label else entry.key[3]

    # -- sheets --

    def of(self, part: SheetPart, *, last: bool = False) -> tuple[str | None, str]:
        """Returns the text that is left of a sheet, None where nothing is, and that of a further one behind it."""
        text, after = self._text(part)
        if last:
            own = " ".join(
                self._copy(copy, index, len(self.rules)) for index, copy in enumerate(self.copies.by_rule[-1])
            )
            text, after = (text, after + own) if part.keep else ("\n".join(filter(None, (text, own))), after)
        if not part.keep and (remote := _remote_imports(part)):
            text = "\n".join((*remote, text))
        return text if not _is_blank(text) else None, after.strip()

    @staticmethod
    def as_element(text: str, media: str) -> str:
        """Returns what is left of a sheet that was read in, as an element of its own."""
        if not text:
            return ""
        quoted = media.replace('"', "&quot;")
        condition = f' media="{quoted}"' if media else ""
        return f"<style{condition}>{text}</style>"

    def _text(self, part: SheetPart) -> tuple[str, str]:
        """Returns what is left of a part, and what must come after it."""
        edits: list[Edit[str]] = []
        sheet = part.sheet
        if part.keep:
            moved = bool(self.copies.by_rule) or any(
                (rule.number, index) in self.raised for rule in part.rules for index in range(len(rule.declarations))
            )
            return sheet.text, "".join(self._beside(rule, moved) for rule in part.rules)
        nested: dict[int, list[tuple[int, tuple[str, ...], str]]] = defaultdict(list)
        for rule in part.rules:
            left = self._left(rule)
            if rule.nested:
                nested[rule.anchor].append((rule.node.start, rule.inner_conditions, left))
            elif left != sheet.text[rule.node.start : rule.node.end]:
                edits.append(Edit(rule.node.start, rule.node.end, (left,)))
        for each in part.unread:
            written = each.around.enclosing(sheet.text[each.start : each.end])
            nested[each.anchor].append((each.start, each.conditions, written))
        for anchor, found in nested.items():
            found.sort(key=lambda each: each[0])
            joined = _join_by_conditions([(conditions, left) for _, conditions, left in found])
            edits.append(Edit(anchor, anchor, (joined,)))
        gone = [*part.dropped, *part.remote]
        for layer in part.unwrapped:
            gone += [(layer.start, layer.inner), (layer.inner_end, layer.end)]
        for node, inner, conditions in part.imported:
            text = _nest_in_conditions(conditions, "\n".join(self._text(inner)).strip())
            edits.append(Edit(node.start, node.end, (text,)))
        edits += [Edit(start, end, ("",)) for start, end in gone]
        if not edits:
            return sheet.text, ""
        comments = sheet.comments() if any(edit.pieces == ("",) for edit in edits) else {}
        edits = [
            edit if edit.pieces != ("",) else Edit(_with_remarks(sheet.text, edit.start, comments), edit.end, ("",))
            for edit in edits
        ]
        return _tidied(replaced(sheet.text, edits)), ""

    def _left(self, rule: StyleRule) -> str:
        """Returns what stays of one rule, and copies."""
        staying = self._staying(rule)
        pieces: list[str] = []
        if staying and len(staying) == len(rule.selectors) and self._is_as_written(rule):
            pieces.append(self._as_written(rule))
        elif staying:
            pieces += self._rewritten(rule, staying)
        pieces += self._custom_properties(rule, staying)
        pieces += [self._copy(copy, i, rule.number) for i, copy in enumerate(self.copies.by_rule.get(rule.number, ()))]
        return " ".join(filter(None, pieces))

    def _as_written(self, rule: StyleRule) -> str:
        """Returns a rule as its author wrote it, but for the declarations that become important."""
        start = rule.node.start
        ends = [d.end - start for i, d in enumerate(rule.declarations) if (rule.number, i) in self.raised]
        return replaced(rule.part.sheet.text[start : rule.node.end], [Edit(end, end, (" !important",)) for end in ends])

    def _custom_properties(self, rule: StyleRule, staying: Sequence[int]) -> Iterator[str]:
        """Yields the custom properties of the selectors that do not stay: a ``var()`` that stays may still read
        them."""
        stay = set(staying)
        gone = [i for i in range(len(rule.selectors)) if i not in stay]
        own = [d for d in rule.declarations if d.name.startswith("--")]
        if not (gone and own and self.custom):
            return
        for important in (False, True):
            selectors = ", ".join(self._selector(rule, i, important) for i in gone)
            body = "; ".join(_declaration_text(d, important) for d in own if d.important == important)
            yield f"{selectors} {{ {body} }}" if body else ""

    def _is_as_written(self, rule: StyleRule) -> bool:
        """Returns whether a rule stays where and as it stands, but for declarations that become important."""
        weighed = any(
            (rule.number, False, index, important) in self.weights
            for index in range(len(rule.selectors))
            for important in (False, True)
        )
        # Those that are important from the first must come after those that become so.
        mixed = any(d.important for d in rule.declarations) and any(
            (rule.number, index) in self.raised for index in range(len(rule.declarations))
        )
        return not (rule.nested or weighed or mixed)

    def _rewritten(self, rule: StyleRule, staying: Sequence[int], *, important: bool = False) -> Iterator[str]:
        """Yields a rule written anew: what becomes important before what is so from the first, each with its weight;
        with `important`, nothing else."""
        made: list[tuple[str, list[str]]] = []
        for first in (False, True):
            selectors = ", ".join(self._selector(rule, index, first) for index in staying)
            body = [
                _declaration_text(d, first or (rule.number, i) in self.raised)
                for i, d in enumerate(rule.declarations)
                if d.important == first and (first or not important or (rule.number, i) in self.raised)
            ]
            if body and made and made[-1][0] == selectors:
                made[-1][1].extend(body)
            elif body:
                made.append((selectors, body))
        yield from (f"{selectors} {{ {'; '.join(body)} }}" for selectors, body in made)

    def _selector(self, rule: StyleRule, index: int, important: bool) -> str:
        return heavier(rule.selectors[index].text, self.weights.get((rule.number, False, index, important), (0, 0, 0)))

    def _copy(self, copy: RuleCopy, index: int, number: int) -> str:
        """Returns the rules of a copy."""
        made = ""
        for important in (False, True):
            more = self.weights.get((number, True, index, important), (0, 0, 0))
            if copy.label or copy.rule is None:
                assert copy.label is not None
                selectors = heavier(copy.label.selector, more)
            else:
                staying = set(self._staying(copy.rule))
                selectors = ", ".join(
                    heavier(s.text, more)
                    for i, s in enumerate(copy.rule.selectors)
                    if i not in staying or s.needs.links
                )
            body = [
                _declaration_text(entry.declaration, True)
                for _, entry in sorted(copy.places.items(), key=lambda e: e[0])
                if entry.declaration.important == important
            ]
            made += f"{selectors} {{ {'; '.join(body)} }} " if body else ""
        return made.strip()

    def _beside(self, rule: StyleRule, moved: bool) -> str:
        """Returns what must come beside a sheet that stays byte for byte: all of a rule that is important, if that of
        any rule is `moved`, and its copies."""
        left = "".join(
            self._copy(copy, index, rule.number) for index, copy in enumerate(self.copies.by_rule.get(rule.number, ()))
        )
        if moved:
            staying = self._staying(rule)
            left = " ".join((*self._rewritten(rule, staying, important=True), left))
        return _nest_in_conditions(rule.conditions, left)


def _declaration_text(declaration: Declaration, important: bool) -> str:
    return f"{declaration.name}: {declaration.value}{' !important' if important else ''}"


def _nest_in_conditions(conditions: Sequence[str], text: str) -> str:
    """Returns `text` within conditions; nothing, where it is nothing."""
    if not text.strip():
        return ""
    for condition in reversed(conditions):
        text = f"{condition} {{ {text} }}"
    return text + "\n"


def _join_by_conditions(found: Sequence[tuple[tuple[str, ...], str]]) -> str:
    """Returns texts that stand within conditions, one after another; those that begin with the same conditions in
    one."""
    made = ""
    for begun, group in groupby(found, key=lambda each: each[0][:1]):
        inside = [(conditions[1:], text) for conditions, text in group]
        if begun:
            made += _nest_in_conditions(begun, _join_by_conditions(inside).strip())
        else:
            made += "".join(f"{text}\n" for _, text in inside if text.strip())
    return made


def _missing_specificity(now: Specificity, target: Specificity) -> Specificity:
    """Returns what to add to `now` so that it is no less than `target`."""
    for place in range(3):
        if now[place] > target[place]:
            break
        if now[place] < target[place]:
            made = [0, 0, 0]
            made[place] = target[place] - now[place]
            rest = _missing_specificity((*now[:place], target[place], *now[place + 1 :]), target)  # type: ignore[arg-type]
            return added((made[0], made[1], made[2]), rest)
    return 0, 0, 0


def _with_remarks(text: str, start: int, comments: Mapping[int, int]) -> int:
    """Returns where the comments and white space begin that stand before what goes; `comments` are where each begins,
    by its end."""
    while True:
        while start and text[start - 1] in " \t\n":
            start -= 1
        if start not in comments:
            return start
        start = comments[start]


_LINES = regex(r"(?<![ \t])[ \t]*+\n(?:[ \t]*+\n)++")


def _tidied(text: str) -> str:
    """Returns a sheet without the groups that have become empty, nor the comments and lines that stood for what is
    gone."""
    sheet = StyleSheet(text)
    edits = []
    position = 0
    for node in sheet.rules():
        if isinstance(node, AtRule) and node.content is not None and node.keyword in ("media", "supports", "container"):
            inside = _tidied(sheet.text[node.inner : node.inner_end])
            if _is_blank(inside):
                edits.append(Edit(position, node.end, ("",)))
            else:
                edits.append(Edit(node.inner, node.inner_end, (inside,)))
        position = node.end
    return _LINES.sub("\n", replaced(sheet.text, edits))


def _is_blank(text: str) -> bool:
    sheet = StyleSheet(text)
    return not sheet.too_deep and all(
        node.type in ("whitespace", "comment") or (node.type == "literal" and node.value in ("<!--", "-->"))
        for node in sheet.nodes
    )


def _remote_imports(part: SheetPart) -> list[str]:
    """Returns the imports that stay, of this sheet and of those read in: they must come before all rules."""
    found = [part.sheet.text[start:end] for start, end in part.remote]
    for _, inner, _ in part.imported:
        found += _remote_imports(inner)
    return found
