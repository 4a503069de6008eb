"""Where in a style sheet, or in a ``style`` attribute, a mark stands (CSS Syntax 3, 4 and 5).

Only a declaration's value, a string in one and the address in a ``url()`` can take a value; everything else in a
style sheet is its author's.  The reading is lexical: in a block, what stands before a colon is a property, until a
``{`` shows that it was the beginning of a nested rule.
"""

from __future__ import annotations

import re

from pribble.markup.address_reader import AddressReader
from pribble.markup.address_reader import AddressState as Address
from pribble.markup.contexts import MarkupError
from pribble.records import record, replace
from pribble.regexes import regex

_TOKEN = regex(r"/\*|(?P<name>(?:[-\w]|\\.)++)(?P<opens>\()?|[\"';:{}()\[\]@]|\s+|.", re.DOTALL)
_STRING_END = regex(r"\\.|\\\Z|[\"'\n]", re.DOTALL)
_OPEN_ESCAPE = regex(r"\\[0-9a-fA-F]{0,6}\Z")
_DEEPEST = 60
_NAME_END = regex(r"[-\w\\/]\Z")
_BLANK = regex(r"\s*")
FONTS = frozenset({"font-family", "font"})


@record(frozen=True, slots=True)
class StyleState:
    """Where a style sheet has been read to.

    `mode` is statement (at the beginning of one, or in its name), value, string, comment, address (in an unquoted
    ``url()``), prelude (of an at-rule, or outside all blocks).  `blocks` counts open ``{``; `brackets` are those of
    the value.  `back` is the state that a string, comment or address returns to, `address` how far that was read.
    `tail` is the end of the literal text before, where a value could join it.
    """

    mode: str
    blocks: int = 0
    property: str = ""
    brackets: tuple[str, ...] = ()
    quote: str = ""
    back: StyleState | None = None
    address: Address | None = None
    tail: str = ""
    marks: frozenset[int] = frozenset()


class StyleReader:
    """Reads a ``style`` attribute, or with `sheet` a style sheet; `escapers` and `in_function` say what each mark
    is and what it is wrapped in."""

    def __init__(self, *, sheet: bool = False) -> None:
        self.start = StyleState("prelude" if sheet else "statement", 0 if sheet else 1)
        self.addresses = AddressReader(picture=True)
        self.escapers: dict[int, str] = {}
        self.in_function: set[int] = set()

    # -- literal text --

    def read(self, state: StyleState, text: str, offset: int) -> StyleState:
        """Read literal text."""
        first = _TOKEN.match(text)
        joins = state.tail == "mark" or _NAME_END.search(state.tail)
        if first and joins and (first[0] in ("*", "(") or first["opens"]):
            raise MarkupError(
                f'a "{first[0]}" directly after a mark',
                max(0, offset - 1),
                hint="what stands before it must not run together with it: put a space between them",
            )
        position = 0
        while position < len(text):
            match state.mode:
                case "comment":
                    end = text.find("*/", position)
                    if end < 0:
                        return state
                    position, state = end + 2, self._returned(state)
                case "string":
                    position, state = self._string(state, text, position)
                case "address":
                    position, state = self._address(state, text, position)
                case _:
                    position, state = self._token(state, text, position, offset)
        return replace(state, tail=text[-8:]) if text else state

    @staticmethod
    def _returned(state: StyleState) -> StyleState:
        assert state.back is not None
        return state.back

    @staticmethod
    def _bracket(state: StyleState, name: str, offset: int) -> StyleState:
        if len(state.brackets) >= _DEEPEST:
            raise MarkupError(f"more than {_DEEPEST} brackets within each other in a style", offset)
        return replace(state, brackets=(*state.brackets, name))

    def _token(self, state: StyleState, text: str, position: int, offset: int) -> tuple[int, StyleState]:
        found = _TOKEN.match(text, position)
        assert found is not None
        token, end = found[0], found.end()
        if token == "/*":
            return end, StyleState("comment", back=state)
        if token in ('"', "'"):
            return end, StyleState("string", quote=token, back=state)
        if (after := self._structure(state, token)) is not None:
            return end, after
        if found["opens"] or token == "(":
            return end, self._function(state, token[:-1].lower(), text, end, offset)
        if token == "[":
            return end, self._bracket(state, "", offset)
        if token in ")]":
            return end, replace(state, brackets=state.brackets[:-1])
        if state.mode == "statement":
            return end, replace(state, property=(state.property + token)[-40:])
        return end, state

    @staticmethod
    def _structure(state: StyleState, token: str) -> StyleState | None:
        """Returns the state behind a token that rules and declarations are made with; None for other tokens."""
        match token:
            case "{":
                if state.mode == "value" and state.marks:
                    raise MarkupError(
                        "a mark in the selector of a rule",
                        min(state.marks),
                        hint="write selectors out; a value can choose a class of the element",
                    )
                return StyleState("statement", state.blocks + 1)
            case "}":
                blocks = max(0, state.blocks - 1)
                return StyleState("statement" if blocks else "prelude", blocks)
            case ";" if not state.brackets:
                return StyleState("statement" if state.blocks else "prelude", state.blocks)
            case "@" if state.mode == "statement" and not state.property:
                return StyleState("prelude", state.blocks)
            case ":" if state.mode == "statement":
                return replace(state, mode="value", property=state.property.strip().lower())
        return None

    def _function(self, state: StyleState, name: str, text: str, end: int, offset: int) -> StyleState:
        """Returns the state within a function; a bare ``url(`` holds an address and no tokens (CSS Syntax 3, 4.3.6)."""
        inside = self._bracket(state, name, offset)
        start = _BLANK.match(text, end)
        assert start is not None
        if name != "url" or text[start.end() : start.end() + 1] in ('"', "'"):
            return inside
        return StyleState("address", back=inside, address=AddressReader.start)

    def _string(self, state: StyleState, text: str, position: int) -> tuple[int, StyleState]:
        end = position
        while found := _STRING_END.search(text, end):
            end = found.end()
            if found[0] in (state.quote, "\n"):
                self._end_address(self._read_address(state, text[position : found.start()], position))
                return end, self._returned(state)
        return len(text), self._read_address(state, text[position:], position)

    def _address(self, state: StyleState, text: str, position: int) -> tuple[int, StyleState]:
        end = text.find(")", position)
        if end < 0:
            return len(text), self._read_address(state, text[position:], position)
        self._end_address(self._read_address(state, text[position:end], position))
        back = self._returned(state)
        return end + 1, replace(back, brackets=back.brackets[:-1])

    def _in_url(self, state: StyleState) -> bool:
        return state.mode == "address" or (state.back is not None and state.back.brackets[-1:] == ("url",))

    def _read_address(self, state: StyleState, text: str, offset: int) -> StyleState:
        if not self._in_url(state):
            return state
        return replace(state, address=self.addresses.read(state.address or AddressReader.start, text, offset))

    def _end_address(self, state: StyleState) -> None:
        if state.address is not None:
            self.addresses.finish(state.address)

    # -- marks --

    def value(self, state: StyleState, offset: int) -> StyleState:
        """Take note of a mark, and of what it is."""
        if _OPEN_ESCAPE.search(state.tail):
            raise MarkupError("a mark directly after a CSS escape", offset, hint="put a space after the escape")
        after = replace(state, tail="mark")
        if state.back is not None and state.back.mode != "value":
            raise _no_value(state.back if state.mode != "comment" else state, offset)
        if state.mode == "address" or (state.mode == "string" and self._in_url(state)):
            after = replace(after, address=self.addresses.value(state.address or AddressReader.start, offset))
            self.in_function.add(offset)
            return after
        if name := next((b for b in (state.back or state).brackets if b == "expression" or "\\" in b), None):
            raise MarkupError(f"a mark in {name}()", offset, hint="write the function with its value out")
        if state.mode == "string" and state.back is not None:
            self.escapers[offset] = "string"
            return replace(after, back=replace(state.back, marks=state.back.marks | {offset}))
        if state.mode == "value" and state.brackets[-1:] != ("url",):
            self.escapers[offset] = "font" if state.property in FONTS and not state.brackets else "css"
            return replace(after, marks=state.marks | {offset})
        raise _no_value(state, offset)

    def merged(self, one: StyleState, other: StyleState) -> StyleState | None:
        """Returns two branches' states as one; which property it is may differ."""
        if (one.mode, one.blocks, one.brackets, one.quote) != (other.mode, other.blocks, other.brackets, other.quote):
            return None
        address, back = one.address, one.back
        if address != other.address:
            address = self.addresses.merged(address, other.address) if address and other.address else None
            if address is None:
                return None
        if back is not None and other.back is not None:
            back = self.merged(back, other.back)
            if back is None:
                return None
        open_escape = next((s.tail for s in (one, other) if _OPEN_ESCAPE.search(s.tail)), None)
        tail = open_escape or ("mark" if "mark" in (one.tail, other.tail) else one.tail)
        same = one.property if one.property == other.property else ""
        return replace(one, property=same, back=back, address=address, tail=tail, marks=one.marks | other.marks)

    def finish(self, state: StyleState) -> None:
        """The style sheet ends."""
        self._end_address(state)

    def result(self) -> dict[int, tuple[str, ...]]:
        """Returns the escaper of each mark, and the wrapper around it."""
        found = {offset: (way,) for offset, way in self.escapers.items()}
        return found | {offset: (self.addresses.escapers[offset], "function") for offset in self.in_function}


def _no_value(state: StyleState, offset: int) -> MarkupError:
    where, hint = {
        "comment": ("in a comment of a style sheet", "write a remark: {{ # … }}"),
        "statement": (
            "where a style sheet has the name of a property",
            "write the name out and let its value be the mark; one with an empty value is left out",
        ),
        "prelude": (
            "in a selector or at-rule",
            "write it out; a value can choose the class of an element, or a declaration's value",
        ),
    }.get(state.mode, ("where a style sheet takes none", "it can be a declaration's value, or in a string or url()"))
    return MarkupError(f"a mark {where}", offset, hint=hint)
