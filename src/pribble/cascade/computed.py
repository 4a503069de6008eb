"""Computed styles: what the elements of a page look like on a screen (CSS Cascade 4, 4.4).

Read are colours, sizes and weights of text, and whether an element shows.  The page holds no marks: it is a message's,
with styles in its elements and what is left of its sheets, or anybody's.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

from pribble.cascade import style_attribute
from pribble.cascade.bounds import CascadeCounter
from pribble.cascade.browser_sheet import HINTING, Declared, attribute_rules, body_text, browser_rules, link_colour
from pribble.cascade.colours import TRANSPARENT, Colour, Scheme
from pribble.cascade.custom_properties import Environment, uses_custom
from pribble.cascade.elements import Document, Element
from pribble.cascade.longhands import longhands
from pribble.cascade.matched_rules import MatchedRules, rules_by_element
from pribble.cascade.matching import ElementIndex, Matcher
from pribble.cascade.media_queries import Screen, condition_holds
from pribble.cascade.rules import StyleRule, StyleRules, condition
from pribble.cascade.selector_trees import STATIC
from pribble.cascade.selectors import Selector
from pribble.cascade.specified import READ, SYSTEM, font_size_of_keyword, specified
from pribble.cascade.syntax import Declaration
from pribble.markup.page import Page
from pribble.records import record

_BLOCKED = {
    "inline": "block",
    "inline-block": "block",
    "inline-table": "table",
    "inline-flex": "flex",
    "inline-grid": "grid",
    **dict.fromkeys(
        "table-cell table-row table-row-group table-header-group table-footer-group table-column "
        "table-column-group table-caption ruby ruby-text ruby-base".split(),
        "block",
    ),
}
_LAID_OUT = frozenset({"flex", "grid", "inline-flex", "inline-grid"})
# What a browser writes with ``font-size: smaller``, and the ratio of its two initial sizes.
_STEP, _MONOSPACED = 1.2, 13 / 16


@record(frozen=True, slots=True)
class ComputedStyle:
    """What one element looks like: `font_size` is in CSS pixels, `font_weight` from 1 to 1000; `pictured` says whether
    a picture or gradient is its ground.

    `width` and the other sizes are as declared, in CSS pixels or percent ("536px", "100%", "auto").
    """

    color: Colour
    background_color: Colour
    pictured: bool
    font_size: float
    font_weight: int
    display: str
    visibility: str
    opacity: float
    text_align: str
    width: str
    height: str
    max_height: str
    clips: bool
    text_indent: str
    object_fit: str
    position: str
    scheme: Scheme
    font_keyword: str
    monospace: bool

    @property
    def hides(self) -> bool:
        """Whether nothing in the element shows, whatever is in it."""
        flat = self.clips and any(size in ("0", "0px") for size in (self.height, self.max_height))
        return self.display == "none" or self.opacity == 0 or flat


@record(frozen=True, slots=True)
class StyledPage:
    """A page and what its elements look like, by their numbers; `canvas` is the colour that lies under all."""

    elements: Sequence[Element]
    styles: Sequence[ComputedStyle]
    canvas: Colour


def declares_schemes(element: Element) -> bool:
    """Returns whether an element says which schemes its page is made for (WHATWG HTML 4.2.5.2)."""
    return element.local_name == "meta" and element.values.get("name", "").lower() == "color-scheme"


class _StillMatcher(Matcher):
    """Matches selectors while nobody touches the page: nothing is hovered, focused or visited."""

    def _pseudo_class(self, name: str) -> Callable[[int], bool]:
        return super()._pseudo_class(name) if name in STATIC else lambda _: False


class PageStyles:
    """The style sheets of a page, read once, for any screen."""

    def __init__(self, text: str, page: Page) -> None:
        self.text, self.page = text, page
        self.document = Document(text, page, lambda offset: "literal", lambda offset: False)
        self.bounds = CascadeCounter()
        self.rules = StyleRules(lambda *_: None)
        for element in self.document.elements:
            self._read_sheet(element)
        self._index = ElementIndex(self.document.elements)
        self.matched = self._match()
        self._read: dict[str, tuple[Declaration, ...]] = {}  # by what is written
        self.own = [self._own_declarations(element) for element in self.document.elements]
        self.uses_custom = any(uses_custom(d) for rule in self.rules.all for d in rule.declarations) or any(
            uses_custom(d) for own in self.own for d in own
        )

    def _read_sheet(self, element: Element) -> None:
        if element.local_name != "style" or element.foreign == "math" or element.number not in self.document.raw:
            return
        if element.values.get("type", "").strip().lower() in ("", "text/css"):
            start, end, _ = self.document.raw[element.number]
            conditions = condition("media", element.values.get("media", ""))
            self.rules.read(self.text[start:end], "", start, conditions=conditions)

    def _match(self) -> list[tuple[Sequence[int], StyleRule, Selector]]:
        matcher = _StillMatcher(self._index, lambda selector: selector.tree, self.bounds)
        return [
            (column, rule, selector)
            for rule in self.rules.all
            for selector in rule.selectors
            if not selector.pseudo_element and not selector.needs.unknown
            if (column := matcher.of(selector))
        ]

    def _own_declarations(self, element: Element) -> tuple[Declaration, ...]:
        style = element.opening.attribute("style")
        if style is None:
            return ()
        written = self.text[style.value_start : style.value_end]
        if written not in self._read:
            read = style_attribute.read_style_attribute(self.text, style)
            self._read[written] = tuple(own.declaration for own in read)
        return self._read[written]

    def on(self, screen: Screen) -> StyledPage:
        """Returns what the elements look like on a screen."""
        return _Computing(self, screen).page()


# Of one longhand all that declares it, the winner first: the property that does, and its value.
_Candidates = Mapping[str, Sequence[tuple[str, str]]]


class _Computing:
    def __init__(self, sheets: PageStyles, screen: Screen) -> None:
        self.sheets, self.screen = sheets, screen
        elements = self.elements = sheets.document.elements
        self.order = {rule.number: sheets.rules.place(rule.layer) for rule in sheets.rules.all}
        holding = [one for one in sheets.matched if all(condition_holds(each, screen) for each in one[1].conditions)]
        self.rules = rules_by_element(len(elements), holding, sheets.bounds)
        self.environment = Environment(sheets.bounds)
        self.known: dict[object, _Candidates] = {}
        self.same: dict[object, ComputedStyle] = {}
        body = next((element for element in elements if element.local_name == "body"), None)
        self.body_text, self.links = body_text(body), link_colour(body)
        self.page_scheme = self._declared_by_page()

    def _declared_by_page(self) -> str:
        """Returns the schemes that the page says it is made for (WHATWG HTML 4.2.5.2)."""
        for element in self.elements:
            if declares_schemes(element):
                return element.values.get("content", "").lower()
        return "normal"

    def page(self) -> StyledPage:
        made: list[ComputedStyle] = []
        for element, rules in zip(self.elements, self.rules, strict=True):
            parent = made[element.parent.number] if element.parent else None
            made.append(self._style(element, rules, parent))
        scheme = made[0].scheme if made else "light"
        return StyledPage(self.elements, made, self._canvas(made, SYSTEM[scheme]["canvas"]))

    def _canvas(self, styles: Sequence[ComputedStyle], initial: Colour) -> Colour:
        """Returns the colour under the page: that of the root, or of the body (CSS Backgrounds 3, 2.11.2)."""
        for element in self.elements:
            if element.local_name in ("html", "body") and styles[element.number].background_color.alpha:
                return styles[element.number].background_color.over(initial)
        return initial

    # -- which declarations --

    def _candidates(self, element: Element, rules: MatchedRules) -> _Candidates:
        own = self.sheets.own[element.number]
        if self.sheets.uses_custom:
            self._change_custom(element, rules, own)
        key = rules, element.values.get("style") if own else None, self.environment.number
        found = self.known.get(key)
        if found is None:
            found = self.known[key] = self._declared(self._ascending(rules, own))
        return found

    def _ascending(self, rules: MatchedRules, own: Iterable[Declaration]) -> list[Declaration]:
        """Returns the declarations of an element, the winners last."""
        found: list[tuple[tuple[object, ...], Declaration]] = []
        for rule, selector in rules.best.values():
            layer = self.order[rule.number]
            for index, one in enumerate(rule.declarations):
                # Among important declarations earlier layers win (CSS Cascade 5, 6.4.3).
                weight = tuple(-place for place in layer) if one.important else layer
                found.append(((one.important, False, weight, selector.specificity, rule.number, index), one))
        found += [((one.important, True, (), (0, 0, 0), 0, index), one) for index, one in enumerate(own)]
        found.sort(key=lambda pair: pair[0])
        return [one for _, one in found]

    def _declared(self, ascending: Sequence[Declaration]) -> _Candidates:
        made: dict[str, list[tuple[str, str]]] = {}
        for one in reversed(ascending):
            read = READ if one.name == "all" else [each for each in longhands(one.name) if each in READ]
            if not read:
                continue
            value = self.environment.resolved(one) if uses_custom(one) else one.value
            for longhand in read:
                made.setdefault(longhand, []).append((one.name, value.strip()))
        return made

    def _change_custom(self, element: Element, rules: MatchedRules, own: Sequence[Declaration]) -> None:
        self.environment.reach(element)
        if rules.custom or any(one.name.startswith("--") for one in own):
            ascending = [one for one in self._ascending(rules, own) if one.name.startswith("--")]
            self.environment.change(self.environment.changes(ascending, frozenset()))

    # -- what they come to --

    def _style(self, element: Element, rules: MatchedRules, parent: ComputedStyle | None) -> ComputedStyle:
        """Returns what an element looks like: the same for all of a name, in the same, that the same is said of."""
        candidates = self._candidates(element, rules)
        said = tuple((name, element.values[name]) for name in HINTING if name in element.values)
        key = element.local_name, element.foreign, said, id(candidates), id(parent)
        found = self.same.get(key)
        if found is None:
            found = self.same[key] = self._computed(element, candidates, parent)
        return found

    def _computed(self, element: Element, candidates: _Candidates, parent: ComputedStyle | None) -> ComputedStyle:
        value = _Cascaded(
            candidates,
            attribute_rules(element, self.links),
            browser_rules(element, quirks=self.sheets.page.quirks),
        ).value
        scheme = self._scheme(value("color-scheme"), parent)
        colour = self._colour(value("color"), scheme, parent)
        keyword, monospace, size = self._font(value, parent)
        display = str(_not_inherited(value("display"), "inline", parent and parent.display))
        placed = str(value("float") or "none") in ("left", "right")
        placed |= str(value("position") or "static") in ("absolute", "fixed")
        if parent is None or placed or parent.display in _LAID_OUT:
            display = _BLOCKED.get(display, display)
        image = value("background-image")
        return ComputedStyle(
            colour,
            self._ground(value("background-color"), colour, scheme, parent),
            parent.pictured if image == "inherit" and parent else image not in (None, "none", "initial", "unset"),
            size,
            _computed_weight(value("font-weight"), parent),
            display,
            str(_inherited(value("visibility"), "visible", parent and parent.visibility)),
            float(str(_not_inherited(value("opacity"), 1.0, parent and parent.opacity))),
            _computed_alignment(value("text-align"), parent, display),
            _sized(value("width"), "auto"),
            _sized(value("height"), "auto"),
            _sized(value("max-height"), "none"),
            clips=any(str(value(f"overflow-{axis}")) in ("hidden", "clip") for axis in "xy"),
            text_indent=str(value("text-indent") or "0"),
            object_fit=str(value("object-fit") or "fill"),
            position=str(value("position") or "static"),
            scheme=scheme,
            font_keyword=keyword,
            monospace=monospace,
        )

    def _scheme(self, given: object, parent: ComputedStyle | None) -> Scheme:
        words = str(given).split() if given not in (None, "inherit", "unset", "revert") else None
        if words is None:
            if parent is not None:
                return parent.scheme
            words = self.page_scheme.split()
        elif "normal" in words or "initial" in words:
            words = self.page_scheme.split()
        known = [word for word in words if word in ("light", "dark")]
        if self.screen.scheme in known:
            return self.screen.scheme
        return "dark" if known and known[0] == "dark" else "light"

    def _colour(self, given: object, scheme: Scheme, parent: ComputedStyle | None) -> Colour:
        if given in (None, "inherit", "unset", "revert", "currentcolor"):
            return parent.color if parent else SYSTEM[scheme]["canvastext"]
        if given == "-pribble-body-text":
            return self.body_text or SYSTEM[scheme]["canvastext"]
        return self._named(given, scheme, SYSTEM[scheme]["canvastext"])

    def _ground(self, given: object, colour: Colour, scheme: Scheme, parent: ComputedStyle | None) -> Colour:
        if given == "inherit" and parent is not None:
            return parent.background_color
        if given == "currentcolor":
            return colour
        return self._named(given, scheme, TRANSPARENT)

    @staticmethod
    def _named(given: object, scheme: Scheme, initial: Colour) -> Colour:
        return given if isinstance(given, Colour) else SYSTEM[scheme].get(str(given), initial)

    def _font(self, value: Callable[[str], object | None], parent: ComputedStyle | None) -> tuple[str, bool, float]:
        """Returns the keyword of the size, whether the family is monospace alone, and the size: a browser's initial
        size is another one in that family."""
        outer = parent.monospace if parent else False
        family = value("font-family")
        monospace = outer if family in (None, "inherit", "unset", "revert") else family == "monospace"
        before = parent.font_size if parent else 16.0
        given = value("font-size")
        quirks = self.sheets.page.quirks
        if given in (None, "inherit", "unset", "revert", "smaller", "larger"):
            keyword = parent.font_keyword if parent else "medium"
            size = before
            if given in ("smaller", "larger"):
                keyword, size = "", before * (_STEP if given == "larger" else 1 / _STEP)
            elif keyword and monospace != outer:
                return keyword, monospace, font_size_of_keyword(keyword, monospace=monospace, quirks=quirks)
            if monospace != outer:
                size *= _MONOSPACED if monospace else 1 / _MONOSPACED
            return keyword, monospace, size
        if isinstance(given, tuple):
            number, unit = given
            return "", monospace, self._length(number, unit, before, monospace=monospace, outer=outer)
        keyword = "medium" if given == "initial" else str(given)
        return keyword, monospace, font_size_of_keyword(keyword, monospace=monospace, quirks=quirks)

    def _length(self, number: float, unit: str, before: float, *, monospace: bool, outer: bool) -> float:
        match unit:
            case "em" | "%":
                share = number / 100 if unit == "%" else number
                scale = 1.0 if monospace == outer else _MONOSPACED if monospace else 1 / _MONOSPACED
                return share * before * scale
            case "ex" | "ch":
                return number * before / 2
            case "vw":
                return number * self.screen.width / 100
            case "vh":
                return number * self.screen.height / 100
        return number


@record(frozen=True, slots=True)
class _Cascaded:
    """What sets the properties of one element: its declarations, its attributes, a browser's own sheet."""

    declared: _Candidates
    hints: Declared
    browser: Declared

    def value(self, longhand: str) -> object | None:
        """Returns the value that wins; None where nothing sets it."""
        for prop, written in self.declared.get(longhand, ()):
            found = specified(longhand, prop, written)
            if found == "revert":
                return _read(longhand, self.browser.get(longhand))
            if found is not None:
                return found
        hint = _read(longhand, self.hints.get(longhand))
        return _read(longhand, self.browser.get(longhand)) if hint is None else hint


def _read(longhand: str, given: str | Colour | None) -> object | None:
    return specified(longhand, longhand, given) if isinstance(given, str) else given


def _not_inherited(given: object, initial: object, inherited: object) -> object:
    """Returns the value of a property that is not inherited."""
    if given == "inherit":
        return initial if inherited is None else inherited
    return initial if given in (None, "initial", "unset", "revert") else given


def _inherited(given: object, initial: object, inherited: object) -> object:
    """Returns the value of a property that is inherited."""
    if given in (None, "inherit", "unset", "revert"):
        return initial if inherited is None else inherited
    return initial if given == "initial" else given


def _computed_weight(given: object, parent: ComputedStyle | None) -> int:
    before = parent.font_weight if parent else 400
    word = str(_inherited(given, "400", str(before)))
    if word == "bolder":  # CSS Fonts 4, 2.2.1
        return 400 if before < 350 else 700 if before < 550 else max(900, before)
    if word == "lighter":
        return 100 if before < 550 else 400 if before < 750 else 700
    return round(float(word))


def _computed_alignment(given: object, parent: ComputedStyle | None, display: str) -> str:
    before = parent.text_align if parent else "start"
    if given == "-pribble-th":  # a heading cell is centred, unless its row says where it stands
        return "center" if before == "start" else before
    made = str(_inherited(given, "start", before))
    # What old attributes align are the blocks within too, and a table begins anew (WHATWG HTML 15.3.8).
    return "start" if display in ("table", "inline-table") and made.startswith("-webkit-") else made


def _sized(given: object, initial: str) -> str:
    return initial if given in (None, "initial", "unset", "revert", "inherit") else str(given)
