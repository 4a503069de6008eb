"""Style sheets as rules and declarations that know where they stand (CSS Syntax 3).

tinycss2 makes the component values; what is added is the offset of each in the text, so that a sheet is changed
by edits, and what no edit touches stays as its author wrote it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any, TypeAlias

import tinycss2

from pribble.records import record
from pribble.regexes import regex

# A token or block as tinycss2 parses it, which has no types.
Node: TypeAlias = Any

_BRACKETS = {"{": "}", "(": ")", "[": "]"}
# Brackets, and what brackets in it do not count in: comments, strings, unquoted urls (`left` is what ends them).
_LEXEME = regex(
    r"""/\*(?:.*?)(?P<left>\*/|\Z) | \\. | [][(){}]
    | "(?:[^"\\\n]|\\.)*(?P<left2>["\n]|\\?\Z) | '(?:[^'\\\n]|\\.)*(?P<left3>['\n]|\\?\Z)
    | [uU][rR][lL]\((?=[ \t\n]*[^"' \t\n])(?:[^)\\]|\\.)*(?P<left4>\)|\\?\Z)""",
    re.DOTALL | re.VERBOSE,
)
_ESCAPING = regex(r"(?<!\\)(?:\\\\)*\\\Z")
_SPACE = ("whitespace", "comment")
# A sheet whose brackets nest deeper than this is a mistake or an attack; nothing of it is read.
_DEEPEST = 100
# What a browser reads as another line end or character before it reads anything else (CSS Syntax 3.3).
_LINE_ENDS = ("\r\n", "\r", "\f")


@record(frozen=True, slots=True)
class Declaration:
    """A declaration from `start` to `end`, without its semicolon; `name` is in small letters but for ``--*``.

    `value` is its text without ``!important``, which `important` tells; `tokens` are its component values.
    """

    name: str
    value: str
    important: bool
    tokens: tuple[Node, ...]
    start: int
    end: int

    @property
    def text(self) -> str:
        """It as it is written into an attribute, without importance."""
        return f"{self.name}:{self.value}"


@record(frozen=True, slots=True)
class QualifiedRule:
    """A rule of a prelude and a block; the block's content is the text from `inner` to `inner_end`."""

    prelude: tuple[Node, ...]
    prelude_end: int
    content: tuple[Node, ...]
    start: int
    inner: int
    inner_end: int
    end: int


@record(frozen=True, slots=True)
class AtRule:
    """An at-rule; `content` is None where it ends with a semicolon."""

    keyword: str
    prelude: tuple[Node, ...]
    prelude_text: str
    content: tuple[Node, ...] | None
    start: int
    inner: int
    inner_end: int
    end: int


@record(frozen=True, slots=True)
class BrokenRule:
    """What is dropped by the rules of recovery (CSS Syntax 3, 5.4)."""

    start: int
    end: int
    why: str


# Python reads no integer of more digits than this, and neither does a browser: they are as good as infinite.
_TOO_MANY_DIGITS = regex(r"[0-9]{1000,}+")


def readable(text: str) -> str:
    """Returns a text as tinycss2 can read it, everything at its place: a number of a thousand digits is a fraction
    there, of which nobody makes an integer."""
    return _TOO_MANY_DIGITS.sub(lambda found: f"{found[0][:-2]}.0", text)


def component_values(text: str) -> list[Node]:
    """Returns a text as component values (CSS Syntax 3, 5.3.9)."""
    return list(tinycss2.parse_component_value_list(readable(text)))


class StyleSheet:
    """The text of a style sheet, or of a ``style`` attribute, that has become component values; none where it nests
    `too_deep`."""

    def __init__(self, text: str) -> None:
        for line_end in _LINE_ENDS:
            text = text.replace(line_end, "\n")
        self.text, depth = _closed(text.replace("\0", "\ufffd"))
        self.unclosed = len(self.text) > len(text)
        self.too_deep = depth > _DEEPEST
        self.nodes: list[Node] = [] if self.too_deep else component_values(self.text)
        self._lines = [0]
        while (found := self.text.find("\n", self._lines[-1])) >= 0:
            self._lines.append(found + 1)

    def offset(self, node: Node) -> int:
        """Returns where a component value begins."""
        return int(self._lines[node.source_line - 1] + node.source_column - 1)

    def comments(self) -> dict[int, int]:
        """Returns where each comment begins, by where it ends."""
        return {found.end(): found.start() for found in _LEXEME.finditer(self.text) if found[0].startswith("/*")}

    def rules(self) -> Iterator[QualifiedRule | AtRule | BrokenRule]:
        """Returns the rules of the sheet."""
        return self.rules_in(self.nodes, len(self.text), nested=False)

    def rules_in(
        self, nodes: Sequence[Node], end: int, *, nested: bool = True
    ) -> Iterator[QualifiedRule | AtRule | BrokenRule]:
        """Yields the rules in a list of component values that ends at `end` (consume a list of rules, 5.4.1)."""
        index = 0
        while index < len(nodes):
            node = nodes[index]
            if node.type in _SPACE or (not nested and node.type == "literal" and node.value in ("<!--", "-->")):
                index += 1
                continue
            rule, index = self._rule(nodes, index, end)
            yield rule

    def _rule(self, nodes: Sequence[Node], index: int, end: int) -> tuple[QualifiedRule | AtRule | BrokenRule, int]:
        first = index
        start = self.offset(nodes[first])
        is_at = nodes[first].type == "at-keyword"
        while index < len(nodes):
            node = nodes[index]
            after = self.offset(nodes[index + 1]) if index + 1 < len(nodes) else end
            if node.type == "{} block":
                inner = self.offset(node) + 1
                if is_at:
                    prelude = tuple(nodes[first + 1 : index])
                    text = self.text[start + 1 + len(nodes[first].value) : inner - 1].strip()
                    return AtRule(
                        nodes[first].lower_value, prelude, text, tuple(node.content), start, inner, after - 1, after
                    ), index + 1
                return QualifiedRule(
                    tuple(nodes[first:index]), inner - 1, tuple(node.content), start, inner, after - 1, after
                ), index + 1
            if is_at and node.type == "literal" and node.value == ";":
                stop = self.offset(node)
                text = self.text[start + 1 + len(nodes[first].value) : stop].strip()
                return AtRule(
                    nodes[first].lower_value, tuple(nodes[first + 1 : index]), text, None, start, stop, stop, after
                ), index + 1
            index += 1
        if is_at:
            text = self.text[start + 1 + len(nodes[first].value) : end].strip()
            return AtRule(nodes[first].lower_value, tuple(nodes[first + 1 :]), text, None, start, end, end, end), index
        return BrokenRule(start, end, "a rule without a block"), index

    def declarations(self) -> Iterator[Declaration | QualifiedRule | AtRule | BrokenRule]:
        """Returns the declarations of a ``style`` attribute."""
        return self.declarations_in(self.nodes, len(self.text))

    def declarations_in(
        self, nodes: Sequence[Node], end: int
    ) -> Iterator[Declaration | QualifiedRule | AtRule | BrokenRule]:
        """Yields what a block holds: declarations, and rules nested in it (consume a block's contents, 5.4.4)."""
        index, stop, block = 0, 0, -1
        while index < len(nodes):
            node = nodes[index]
            if node.type in _SPACE or (node.type == "literal" and node.value == ";"):
                index += 1
                continue
            if stop <= index:
                stop = _next_node(nodes, index, lambda each: each.type == "literal" and each.value == ";")
            if block < index:
                block = _next_node(nodes, index, lambda each: each.type == "{} block")
            if node.type != "at-keyword" and (made := self._declaration(nodes, index, stop, end, block)):
                yield made
                index = stop
                continue
            if node.type == "at-keyword" or block < stop:
                rule, index = self._rule(nodes, index, end)
                yield rule
                continue
            last = self.offset(nodes[stop]) if stop < len(nodes) else end
            yield BrokenRule(self.offset(node), last, "no declaration: a name and a colon are missing")
            index = stop

    def _declaration(self, nodes: Sequence[Node], index: int, stop: int, end: int, block: int) -> Declaration | None:
        """Returns the declaration that ends at `stop`, if it is one; `block` is where the next block in braces
        stands."""
        first = index
        if nodes[index].type == "literal" and nodes[index].value in ("*", "_") and index + 1 < stop:
            index += 1  # what old browsers read though it is wrong; kept as its author wrote it
        name = nodes[index]
        if name.type != "ident":
            return None
        colon = index + 1
        while colon < stop and nodes[colon].type in _SPACE:
            colon += 1
        if colon >= stop or nodes[colon].type != "literal" or nodes[colon].value != ":":
            return None
        start = self.offset(nodes[first])
        custom = name.value.startswith("--")
        if not custom and colon < block < stop:
            return None  # a nested rule: a:hover { … }
        value = list(nodes[colon + 1 : stop])
        last = self.offset(nodes[stop]) if stop < len(nodes) else end
        while last > start and self.text[last - 1] in " \t\n":
            last -= 1
        value_start = self.offset(nodes[colon]) + 1
        value, value_end, important = self._without_importance(value, last)
        text = self.text[value_start:value_end].strip()
        own = self.text[start : self.offset(nodes[colon])].strip()
        written = own if custom or first != index else own.lower()
        return Declaration(written, text, important, tuple(value), start, last)

    def _without_importance(self, value: list[Node], end: int) -> tuple[list[Node], int, bool]:
        """Returns a value without the ``!important`` it may end with, where that begins, and whether it was there."""
        parts = [i for i, token in enumerate(value) if token.type not in _SPACE]
        if len(parts) >= 2:
            mark, word = value[parts[-2]], value[parts[-1]]
            if (mark.type, word.type) == ("literal", "ident") and mark.value == "!" and word.lower_value == "important":
                return value[: parts[-2]], self.offset(mark), True
        return value, end, False


def _next_node(nodes: Sequence[Node], index: int, holds: Callable[[Node], bool]) -> int:
    """Returns the place of the next node from `index` on of which something holds; the number of all for none."""
    return next((i for i in range(index, len(nodes)) if holds(nodes[i])), len(nodes))


def _closed(text: str) -> tuple[str, int]:
    """Returns `text`, and what closes all that is open at its end (the end of the input closes it, 5.4); how deep it
    nests."""
    open_: list[str] = []
    last, deepest = "", 0
    for found in _LEXEME.finditer(text):
        last = found[0]
        if last in _BRACKETS:
            open_.append(_BRACKETS[last])
            deepest = max(deepest, len(open_))
        elif last in ")]}" and open_ and open_[-1] == last:
            open_.pop()
        elif found.lastgroup and found[found.lastgroup] in ("", "\\"):
            text = text.removesuffix("\\") if _ESCAPING.search(last) else text
            open_.append("*/" if last.startswith("/*") else last[0] if last[0] in "\"'" else ")")
    return text + "".join(reversed(open_)), deepest


def has_error(tokens: Sequence[Node]) -> bool:
    """Returns whether component values hold what no property accepts: a bad string, a bad url, a stray bracket."""
    for token in tokens:
        if token.type == "error" or (token.type == "literal" and token.value in ("]", ")", "}", "!", ";")):
            return True
        inner = token.arguments if token.type == "function" else getattr(token, "content", None)
        if inner and has_error(inner):
            return True
    return False
