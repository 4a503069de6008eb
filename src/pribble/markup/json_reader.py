"""Where in JSON a mark stands (RFC 8259): in a string, or where a whole value does."""

from __future__ import annotations

import re

from pribble.markup.contexts import MarkupError
from pribble.records import record, replace
from pribble.regexes import regex

_DEEPEST = 100
_TOKEN = regex(r"[\[\]{}:,\"]|[^\[\]{}:,\"\s]+|\s+")
_STRING_END = regex(r"\\.|\\\Z|\"", re.DOTALL)


@record(frozen=True, slots=True)
class JsonState:
    """`brackets` are the open ones; `quoted` is whether this is within a string; `before` is the last token: one
    of ``[ ] { } : ,``, ``"`` behind a string, ``x`` behind a bare word, ``mark``; `escape` is a backslash at an end."""

    brackets: str = ""
    quoted: bool = False
    before: str = ""
    escape: bool = False


class JsonReader:
    """Reads a JSON text; `escapers` says of each mark how it is escaped."""

    start = JsonState()

    def __init__(self) -> None:
        self.escapers: dict[int, str] = {}
        self._last = 0

    def read(self, state: JsonState, text: str, offset: int) -> JsonState:
        """Read literal text."""
        position, self._last = 0, offset
        while position < len(text):
            if state.quoted:
                position, state = self._string(state, text, position)
                continue
            found = _TOKEN.match(text, position)
            assert found is not None
            token, position = found[0], found.end()
            if token.isspace():
                state = replace(state, before=state.before + " " if state.before in ("x", "mark") else state.before)
            elif token == '"':
                state = replace(state, quoted=True)
            elif token in "[{":
                if len(state.brackets) >= _DEEPEST:
                    raise MarkupError(f"more than {_DEEPEST} brackets within each other in JSON", offset)
                state = JsonState(state.brackets + token, before=token)
            elif token in "]}":
                if state.brackets[-1:] != {"]": "[", "}": "{"}[token]:
                    raise MarkupError(f'a "{token}" closes nothing in this JSON', offset + found.start())
                state = JsonState(state.brackets[:-1], before=token)
            elif token in ",:":
                state = JsonState(state.brackets, before=token)
            else:
                if state.before == "mark":
                    raise MarkupError(
                        "JSON goes on directly after a mark",
                        offset,
                        hint="the mark is a whole value; one within quotes is a piece of a string",
                    )
                state = JsonState(state.brackets, before="x")
        return state

    @staticmethod
    def _string(state: JsonState, text: str, position: int) -> tuple[int, JsonState]:
        if state.escape:
            return position + 1, replace(state, escape=False)
        while found := _STRING_END.search(text, position):
            position = found.end()
            if found[0] == '"':
                return position, JsonState(state.brackets, before='"')
            if found[0] == "\\":
                return position, replace(state, escape=True)
        return len(text), state

    def value(self, state: JsonState, offset: int) -> JsonState:
        """Take note of a mark."""
        if state.escape:
            raise MarkupError("a mark directly after a backslash", offset, hint="the escape is written out")
        if state.quoted:
            self.escapers[offset] = "characters"
            return state
        if state.before not in (("[", ",") if state.brackets.endswith("[") else (":",) if state.brackets else ("",)):
            raise MarkupError(
                "a mark where JSON has no value",
                offset,
                hint='it can be a whole value, as in "price": {{ … }}, or stand within quotes',
            )
        self.escapers[offset] = "json"
        return JsonState(state.brackets, before="mark")

    def merged(self, one: JsonState, other: JsonState) -> JsonState | None:
        """Returns two branches' states as one: what follows may be a comma or not."""
        if (one.brackets, one.quoted, one.escape) != (other.brackets, other.quoted, other.escape):
            return None
        return one if one.before == other.before else replace(one, before="mark")

    def finish(self, state: JsonState) -> None:
        """The JSON ends."""
        if state.quoted or state.brackets:
            raise MarkupError("this JSON is not whole", self._last, hint="a quote or bracket is not closed")
