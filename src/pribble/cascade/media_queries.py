"""Which conditions of a style sheet hold on a screen (Media Queries 4, CSS Conditional 3)."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import lru_cache

from pribble.cascade.colours import Scheme
from pribble.cascade.specified import PIXELS, READ, significant, specified
from pribble.cascade.syntax import Node, component_values
from pribble.records import record


@record(frozen=True, slots=True)
class Screen:
    """What a page is shown on: its size in CSS pixels, and whether its reader asked for light or dark pages."""

    width: int = 1000
    height: int = 800
    scheme: Scheme = "light"


# Of lengths in queries fonts are the initial one (Media Queries 4, 1.3).
_PIXELS = {**PIXELS, "em": 16.0, "ex": 8.0, "ch": 8.0}
_DOTS = {"dppx": 1.0, "x": 1.0, "dpi": 1 / 96, "dpcm": 2.54 / 96}
# What a screen with a pointer says of itself, for features that are words.
_WORDS = {
    "hover": "hover",
    "any-hover": "hover",
    "pointer": "fine",
    "any-pointer": "fine",
    "update": "fast",
    "prefers-reduced-motion": "no-preference",
    "prefers-contrast": "no-preference",
    "forced-colors": "none",
    "prefers-reduced-data": "no-preference",
    "prefers-reduced-transparency": "no-preference",
    "scan": "",
    "inverted-colors": "none",
    "display-mode": "browser",
    "color-gamut": "srgb",
    "dynamic-range": "standard",
    "overflow-block": "scroll",
    "overflow-inline": "scroll",
    "scripting": "none",
}
_NONE_OF = frozenset({"none", "no-preference", ""})
_COMPARED: dict[str, Callable[[float, float], bool]] = {
    "<": lambda one, other: one < other,
    "<=": lambda one, other: one <= other,
    ">": lambda one, other: one > other,
    ">=": lambda one, other: one >= other,
    "=": lambda one, other: one == other,
}
# Three values: what a browser does not know is neither true nor false, and so is its opposite.
_Truth = bool | None
_DEEPEST = 20


@lru_cache(maxsize=4096)
def condition_holds(condition: str, screen: Screen) -> bool:
    """Returns whether a condition around rules holds: ``@media …``, ``@supports …``.  Of the size of a container
    nothing is known, and a condition about one does not hold."""
    keyword, _, said = condition.partition(" ")
    if keyword == "@media":
        return media_holds(said, screen)
    if keyword == "@supports":
        return _condition(significant(component_values(said)), lambda node: _supported(node), 0) is True
    return False


def media_holds(queries: str, screen: Screen) -> bool:
    """Returns whether one of a list of media queries holds on a screen."""
    one: list[Node] = []
    lists = [one]
    for node in component_values(queries):
        if node.type == "literal" and node.value == ",":
            lists.append(one := [])
        else:
            one.append(node)
    return any(_media_query(significant(each), screen) is True for each in lists) or not queries.strip()


def _word(nodes: Sequence[Node], index: int) -> str:
    return nodes[index].lower_value if index < len(nodes) and nodes[index].type == "ident" else ""


def _media_query(nodes: list[Node], screen: Screen) -> _Truth:
    """A query: a medium and conditions, or a condition alone (Media Queries 4, 2.2)."""
    first = _word(nodes, 0)
    negated = first == "not" and _word(nodes, 1) != ""
    rest = nodes[1:] if first == "only" or negated else nodes
    medium = _word(rest, 0)
    if medium and medium != "not":
        if len(rest) > 1 and _word(rest, 1) != "and":
            return None
        holds: _Truth = medium in ("all", "screen")
        if len(rest) > 1:
            holds = _both(holds, _media_condition(rest[2:], screen))
        return _not(holds) if negated else holds
    return _media_condition(nodes, screen)


def _media_condition(nodes: Sequence[Node], screen: Screen) -> _Truth:
    return _condition(nodes, lambda node: _feature(node, screen), 0)


def _condition(nodes: Sequence[Node], leaf: Callable[[Node], _Truth], depth: int) -> _Truth:
    """``not``, or terms that ``and`` or ``or`` joins; None for what is none."""
    if not nodes or depth > _DEEPEST:
        return None
    if _word(nodes, 0) == "not":
        return _not(_term(nodes[1], leaf, depth)) if len(nodes) == 2 else None
    joins = {_word(nodes, index) for index in range(1, len(nodes), 2)}
    if len(nodes) % 2 == 0 or not joins <= {"and"} | joins & {"or"} or len(joins) > 1:
        return None
    terms = [_term(node, leaf, depth) for node in nodes[::2]]
    holds = terms[0]
    for term in terms[1:]:
        holds = _both(holds, term) if "and" in joins else _not(_both(_not(holds), _not(term)))
    return holds


def _term(node: Node, leaf: Callable[[Node], _Truth], depth: int) -> _Truth:
    if node.type == "() block":
        inner = significant(node.content)
        nests = bool(inner) and (inner[0].type in ("() block", "function") or _word(inner, 0) == "not")
        if nests and not any(each.type == "literal" for each in inner):
            return _condition(inner, leaf, depth + 1)
    return leaf(node)


def _both(one: _Truth, other: _Truth) -> _Truth:
    if one is False or other is False:
        return False
    return None if one is None or other is None else True


def _not(one: _Truth) -> _Truth:
    return None if one is None else not one


def _supported(node: Node) -> _Truth:
    """Whether a browser knows a declaration, or a selector: it is taken to know what somebody asks for, but for values
    that are none of a property that is read here."""
    if node.type == "() block":
        inner = significant(node.content)
        name = _word(inner, 0)
        if name in READ and len(inner) > 2:
            written = "".join(each.serialize() for each in node.content).partition(":")[2].strip()
            return specified(name, name, written) is not None
    return True if node.type in ("() block", "function") else None


# ---- features -------------------------------------------------------------------------------------------------


def _feature(node: Node, screen: Screen) -> _Truth:
    """``(name)``, ``(name: value)``, ``(name < value)``, ``(value < name < value)`` (Media Queries 4, 2.4)."""
    if node.type != "() block":
        return None
    parts = significant(node.content)
    if len(parts) == 1:
        return _flag(_word(parts, 0), screen)
    name = _word(parts, 0)
    if name and parts[1].type == "literal" and parts[1].value == ":":
        return _plain_feature(name, parts[2:], screen)
    return _range(parts, screen)


def _flag(name: str, screen: Screen) -> _Truth:
    """Whether a feature is there at all."""
    number = _number_of(name, screen)
    if number is not None:
        return number != 0
    if name in ("prefers-color-scheme", "orientation"):
        return True
    return _WORDS[name] not in _NONE_OF if name in _WORDS else None


def _plain_feature(name: str, value: Sequence[Node], screen: Screen) -> _Truth:
    word = _word(value, 0) if len(value) == 1 else ""
    if name == "prefers-color-scheme":
        return word == screen.scheme if word in ("light", "dark") else None
    if name == "orientation":
        tall = screen.height >= screen.width
        return word == ("portrait" if tall else "landscape") if word in ("portrait", "landscape") else None
    if name in _WORDS:
        return word == _WORDS[name] if word else None
    found = re.fullmatch(r"(-webkit-)?(min-|max-)?(.+)", name)
    assert found is not None
    bare = f"{found[1] or ''}{found[3]}"
    own, given = _number_of(bare, screen), _number(value, bare)
    if own is None or given is None:
        return None
    return _COMPARED[{"min-": ">=", "max-": "<="}.get(found[2] or "", "=")](own, given)


def _range(parts: Sequence[Node], screen: Screen) -> _Truth:
    """Comparisons with a feature on one side of each."""
    sides: list[list[Node]] = [[]]
    signs: list[str] = []
    for part in parts:
        if part.type == "literal" and part.value in ("<", ">", "=", "<=", ">="):
            if part.value == "=" and signs and not sides[-1]:
                signs[-1] += "="
            else:
                signs.append(part.value)
                sides.append([])
        else:
            sides[-1].append(part)
    name = next((word for side in sides if len(side) == 1 and (word := _word(side, 0))), "")
    own = _number_of(name, screen)
    if own is None or not 1 <= len(signs) <= 2 or any(sign not in _COMPARED for sign in signs):
        return None
    values = [own if len(side) == 1 and _word(side, 0) == name else _number(side, name) for side in sides]
    if None in values:
        return None
    numbers = [value for value in values if value is not None]
    return all(_COMPARED[sign](numbers[index], numbers[index + 1]) for index, sign in enumerate(signs))


def _number_of(name: str, screen: Screen) -> float | None:
    """Returns what a feature that is a number is on this screen, of which a CSS pixel is one dot."""
    numbers = {
        "width": screen.width,
        "device-width": screen.width,
        "height": screen.height,
        "device-height": screen.height,
        "aspect-ratio": screen.width / max(1, screen.height),
        "resolution": 1,
        "-webkit-device-pixel-ratio": 1,
        "color": 8,
        "color-index": 0,
        "monochrome": 0,
        "grid": 0,
    }
    found = numbers.get(name)
    return None if found is None else float(found)


def _number(value: Sequence[Node], name: str) -> float | None:
    if len(value) == 3 and name == "aspect-ratio" and all(part.type == "number" for part in value[::2]):
        return float(value[0].value) / float(value[2].value) if value[2].value else None
    if len(value) != 1 or value[0].type not in ("number", "dimension"):
        return None
    if value[0].type == "number":
        is_length = name in ("width", "height", "device-width", "device-height", "resolution")
        return None if is_length and value[0].value else float(value[0].value)
    units = _DOTS if name == "resolution" else _PIXELS
    factor = units.get(value[0].lower_unit)
    return None if factor is None else float(value[0].value) * factor
