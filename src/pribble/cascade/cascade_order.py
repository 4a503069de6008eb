"""Importance, settled per element and longhand (CSS Cascade 4, 6).

A style attribute beats every plain rule.  So where a rule that stays (for a narrow screen, a dark scheme, a hovered
link) used to beat a rule that is now written into the attribute, it must become important, and where it used to lose
though it is important, the attribute must.  Where one important rule used to win and another to lose, no attribute
can say so: it is plain, and its declaration is kept in the sheet as well, as a *copy*.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import pairwise

from pribble.cascade.bounds import DECLARATIONS, CascadeCounter
from pribble.cascade.longhands import ALL, is_logical, is_of_all, longhands
from pribble.cascade.rules import StyleRule
from pribble.cascade.selector_trees import Specificity
from pribble.cascade.selectors import Selector
from pribble.cascade.syntax import Declaration
from pribble.records import field, record

# How a declaration is written: into the attribute, there as important, or into it plain and into the sheet too.
PLAIN, IMPORTANT, COPIED = 0, 1, 2

# How a declaration sorts: important ones last, an element's own behind rules, then layer, specificity, rule, place.
CascadeKey = tuple[bool, bool, tuple[int, ...], Specificity, int, int]
# A declaration of a rule: the rule's number and the declaration's place in it.
DeclarationPlace = tuple[int, int]


@record(eq=False)
class AppliedDeclaration:
    """A declaration that an element gets, or may get; `key` sorts as the cascade does.

    `rule` is None for one of the element's own attribute; `selector` is the one by which it is kept.  `var_dependent`
    is one whose value a rule that stays can change, by a custom property; `fixed` one whose importance its author wrote
    into the attribute.
    """

    declaration: Declaration
    key: CascadeKey
    rule: StyleRule | None
    place: DeclarationPlace
    selector: Selector | None = None
    var_dependent: bool = False
    fixed: bool = False
    text: str = ""
    span: tuple[int, int] | None = None  # where it stands in the page, if it holds a mark
    state: int = PLAIN
    sets: tuple[str, ...] = ()


@record(eq=False)
class ElementStyles:
    """Elements that get the same declarations: `inlined`, ascending, and `kept`, which may apply or not."""

    inlined: list[AppliedDeclaration]
    kept: list[AppliedDeclaration]
    applied: frozenset[int] = frozenset()  # the numbers of the rules that are for them
    custom: list[AppliedDeclaration] = field(default_factory=list)  # their custom properties, which stay in the sheets
    numbers: list[int] = field(default_factory=list)
    by_longhand: dict[str, tuple[list[AppliedDeclaration], list[AppliedDeclaration]]] = field(default_factory=dict)

    def prepare(self, bounds: CascadeCounter) -> None:
        """Find out which declarations meet."""
        every = {
            longhand
            for entry in (*self.inlined, *self.kept)
            if entry.declaration.name != ALL
            for longhand in longhands(entry.declaration.name)
        }
        of_all = tuple(sorted(filter(is_of_all, every))) or (ALL,)
        for entry in (*self.inlined, *self.kept):
            entry.sets = of_all if entry.declaration.name == ALL else longhands(entry.declaration.name)
        bounds.count(DECLARATIONS, sum(len(entry.sets) for entry in (*self.inlined, *self.kept)) + len(self.custom))
        for which, entries in enumerate((self.inlined, self.kept)):
            # Declarations meet where they set the same longhand: only there can one beat another.
            for entry in sorted(entries, key=lambda e: e.key):
                for longhand in entry.sets:
                    self.by_longhand.setdefault(longhand, ([], []))[which].append(entry)

    def last(self, *names: str) -> AppliedDeclaration | None:
        """Of what is inlined, the last declaration of one of these properties, which wins among them."""
        return next((entry for entry in reversed(self.inlined) if entry.declaration.name in names), None)

    def winners(self, inlined: list[AppliedDeclaration]) -> Iterator[AppliedDeclaration]:
        """Of those that set one longhand the last, and those that could win where it depends on the direction."""
        for entry in reversed(inlined):
            yield entry
            if not is_logical(entry.declaration.name):
                return


def settle_importance(groups: Iterable[ElementStyles]) -> set[DeclarationPlace]:
    """Settle the importance of all entries; the declarations of kept rules that become important."""
    concerned = [group for group in groups if group.kept or any(e.var_dependent for e in group.inlined)]
    raised = _raised(concerned)
    for group in concerned:
        _settle_group(group, raised)
    return raised


def is_important(entry: AppliedDeclaration, raised: set[DeclarationPlace]) -> bool:
    """Returns whether a kept declaration is important, as written or by now."""
    return entry.declaration.important or entry.place in raised


@record(eq=False)
class _Meeting:
    """The kept declarations that set one longhand of a group, ascending; all `above` a place must be important."""

    kept: list[AppliedDeclaration]
    above: int


def _raised(groups: Iterable[ElementStyles]) -> set[DeclarationPlace]:
    """Returns the declarations that must be important: what beats one in the attribute, or one that is important
    itself."""
    meetings: dict[DeclarationPlace, list[tuple[_Meeting, int]]] = {}
    raised: set[DeclarationPlace] = set()
    waiting: list[AppliedDeclaration] = []
    for group in groups:
        for inlined, kept in group.by_longhand.values():
            if not kept:
                continue
            lowest = min((winner.key for winner in group.winners(inlined)), default=None)
            meeting = _Meeting(kept, len(kept))
            for index, entry in enumerate(kept):
                meetings.setdefault(entry.place, []).append((meeting, index))
                if entry.declaration.important or (lowest is not None and entry.key > lowest):
                    waiting.append(entry)
    while waiting:
        entry = waiting.pop()
        if not entry.declaration.important:
            if entry.place in raised:
                continue
            raised.add(entry.place)
        for meeting, index in meetings.pop(entry.place, ()):
            waiting += meeting.kept[index + 1 : meeting.above]
            meeting.above = min(meeting.above, index + 1)
    return raised


def _settle_group(group: ElementStyles, raised: set[DeclarationPlace]) -> None:
    beaten: set[AppliedDeclaration] = set()  # something kept beats it where it wins
    for entry in group.inlined:
        entry.state = IMPORTANT if entry.fixed else PLAIN
    for inlined, kept in group.by_longhand.values():
        last = kept[-1].key if kept else None
        weighty = next((other.key for other in kept if is_important(other, raised)), None)
        for winner in group.winners(inlined):
            if last is not None and last > winner.key:
                beaten.add(winner)
            if weighty is not None and weighty < winner.key and not winner.fixed:
                winner.state = max(winner.state, IMPORTANT)
            if winner.var_dependent and not winner.fixed:
                winner.state = COPIED
    changed = True
    while changed:
        changed = False
        for inlined, _ in group.by_longhand.values():
            changed |= _meet(inlined, beaten)


def _meet(inlined: list[AppliedDeclaration], beaten: set[AppliedDeclaration]) -> bool:
    """Settle those that set one longhand among themselves; whether anything changed."""
    changed = False

    def to(entry: AppliedDeclaration, state: int) -> None:
        nonlocal changed
        if entry.state < state and not entry.fixed:
            entry.state, changed = state, True

    for entry in inlined:
        if entry.state == IMPORTANT and entry in beaten:
            to(entry, COPIED)
    for lower, higher in pairwise(inlined):
        if lower.state:
            to(higher, IMPORTANT)
    for lower, higher in reversed(list(pairwise(inlined))):
        if higher.state == COPIED and lower.state == IMPORTANT:
            to(lower, COPIED)
    return changed
