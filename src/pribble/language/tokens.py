"""The tokens of a mark, and the hints for what other notations leave behind."""

from __future__ import annotations

import html
import re
import unicodedata
from bisect import bisect_right
from typing import NoReturn

from pribble.errors import Place, Related, Source, TemplateError
from pribble.records import record
from pribble.regexes import regex


@record(frozen=True, slots=True)
class Token:
    """`kind` is ``name``, ``number``, ``text``, the operator itself, or ``end``."""

    kind: str
    text: str
    place: Place


_TOKEN = regex(
    r"""(?P<space>\s+)
      | (?P<number>[0-9]+(?:\.[0-9]+)?(?![\w]))
      | (?P<name>[^\W\d]\w*)
      | (?P<text>"(?:[^"\\]|\\.)*"|'(?:[^'\\]|\\.)*')
      | (?P<operator>==|!=|<=|>=|&&|\|\||[-+*/%<>()\[\],.?=:|!;{}@#$^~&\\`])
    """,
    re.VERBOSE | re.DOTALL,
)
_REFERENCE = regex(r"&(?:#[0-9]+|#[xX][0-9a-fA-F]+|[A-Za-z][A-Za-z0-9]*);")
_ESCAPE = regex(r"\\(u[0-9a-fA-F]{4}|.)", re.DOTALL)
_ESCAPED = {"n": "\n", "t": "\t", '"': '"', "'": "'", "\\": "\\"}
_TYPOGRAPHIC_QUOTES = "“”„‟«»‘’‚‛"
_TAG = regex(r"</?[A-Za-z][^<>]*>")


class TokenReader:
    """The tokens of one mark, read one after another."""

    def __init__(
        self, source: Source, start: int, end: int, via: tuple[Related, ...] = (), *, references: bool = True
    ) -> None:
        self.source, self.via = source, via
        self._start, self._end = start, end
        self._text = source.text[start:end]
        # Offsets in the decoded text where a reference stood, and how much longer the source was up to there.
        self._shifts: tuple[list[int], list[int]] = ([0], [0])
        if references and "&" in self._text:
            self._decode()
        self._tokens = self._tokenize()
        self._index = 0

    def _decode(self) -> None:
        """Editors write ``&gt;`` and ``&nbsp;`` where an author typed ``>`` and a space; read them as meant."""
        pieces, position, shift, length = [], 0, 0, 0
        for found in _REFERENCE.finditer(self._text):
            meant = html.unescape(found[0])
            pieces += [self._text[position : found.start()], meant]
            length += found.start() - position + len(meant)
            shift += len(found[0]) - len(meant)
            position = found.end()
            self._shifts[0].append(length)
            self._shifts[1].append(shift)
        pieces.append(self._text[position:])
        self._text = "".join(pieces)

    def at(self, start: int, end: int) -> Place:
        """Returns the place of a stretch of the decoded text."""
        offsets, shifts = self._shifts
        first, last = (self._start + o + shifts[bisect_right(offsets, o) - 1] for o in (start, end))
        return self.source.place(first, max(first + 1, last), self.via)

    @property
    def whole(self) -> Place:
        """What the mark holds, without white space around it."""
        inner = self.source.text[self._start : self._end]
        left = self._start + len(inner) - len(inner.lstrip())
        return self.source.place(left, max(left + 1, self._start + len(inner.rstrip())), self.via)

    @property
    def whole_text(self) -> str:
        """What the mark says, its white space folded."""
        return " ".join(self._text.split())

    @property
    def last(self) -> Token:
        """The last token before the end."""
        return self._tokens[-2] if len(self._tokens) > 1 else self._tokens[-1]

    def _tokenize(self) -> list[Token]:
        tokens, position = [], 0
        while position < len(self._text):
            found = _TOKEN.match(self._text, position)
            if found is None:
                self._stray(position)
            kind = str(found.lastgroup)
            place = self.at(found.start(), found.end())
            if kind == "text":
                tokens.append(Token("text", self._unquoted(found[0], place), place))
            elif kind == "operator":
                if found[0] == "<" and (tag := _TAG.match(self._text, position)):
                    self._cut_up(tag)
                tokens.append(Token(found[0], found[0], place))
            elif kind != "space":
                tokens.append(Token(kind, unicodedata.normalize("NFC", found[0]), place))
            position = found.end()
        tokens.append(Token("end", "", self.at(len(self._text), len(self._text))))
        return tokens

    def _stray(self, position: int) -> NoReturn:
        character = self._text[position]
        place = self.at(position, position + 1)
        if character in _TYPOGRAPHIC_QUOTES:
            straight = self._text.translate({ord(c): '"' for c in "“”„‟«»"} | {ord(c): "'" for c in "‘’‚‛"})
            raise TemplateError(
                "a typographic quote in a mark", place=place, hint="write {{ " + straight.strip() + " }}"
            )
        if character.isdigit():
            digits = re.match(r"\w+", self._text[position:])
            shown = digits[0] if digits else character
            raise TemplateError(
                f'"{shown}" is neither a number nor a name',
                place=place,
                hint="numbers are written 12 or 12.50; a name does not begin with a digit",
            )
        raise TemplateError(f'"{character}" (U+{ord(character):04X}) means nothing in a mark', place=place)

    def _cut_up(self, tag: re.Match[str]) -> None:
        """``gu<b>est</b>`` is a word that an editor cut up; ``a < b`` is a comparison."""
        if "</" in self._text[tag.start() :] or tag[0].startswith("</"):
            clean = " ".join(_TAG.sub("", self._text).split())
            raise TemplateError(
                "a mark is cut up by tags", place=self.at(tag.start(), tag.end()), hint="write {{ " + clean + " }}"
            )

    def _unquoted(self, quoted: str, place: Place) -> str:
        def meant(escape: re.Match[str]) -> str:
            written = escape[1]
            if len(written) == 5:
                return chr(int(written[1:], 16))
            if written not in _ESCAPED:
                raise TemplateError(
                    f"\\{written} means nothing in a text", place=place, hint=r"a text knows \n \t \" \' \\ and \uXXXX"
                )
            return _ESCAPED[written]

        text = _ESCAPE.sub(meant, quoted[1:-1]) if "\\" in quoted else quoted[1:-1]
        # Two \uXXXX that make a pair stand for one character; a half is not a character at all.
        text = text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
        if "\ufffd" in text and "\ufffd" not in quoted and "\\ufffd" not in quoted.lower():
            raise TemplateError("half a surrogate pair is not a character", place=place)
        return text

    # -- reading --

    @property
    def next(self) -> Token:
        return self._tokens[self._index]

    def peek(self, ahead: int) -> Token:
        return self._tokens[min(self._index + ahead, len(self._tokens) - 1)]

    def take(self) -> Token:
        token = self._tokens[self._index]
        self._index = min(self._index + 1, len(self._tokens) - 1)
        return token

    def takes(self, *texts: str) -> Token | None:
        """Returns the next token, if it is one of these operators or words."""
        return self.take() if self.next.kind != "text" and self.next.text in texts and self.next.text else None

    def expect(self, kind: str, what: str) -> Token:
        if self.next.kind != kind:
            self.unexpected(what)
        return self.take()

    @property
    def all(self) -> list[Token]:
        """All tokens before the end."""
        return self._tokens[:-1]

    def unexpected(self, wanted: str, hint: str | None = None) -> NoReturn:
        """Complain about the next token, with a word for the habits that other notations leave behind."""
        token = self.next
        if hint is not None:
            raise TemplateError(f"{_as_written(token)} where {wanted} should stand", place=token.place, hint=hint)
        if token.kind == "end":
            raise TemplateError(f"the mark ends where {wanted} should follow", place=self.whole)
        match token.kind:
            case "|":
                hint = 'a formatter is applied with "as": {{ total as money("EUR") }}'
            case "||":
                hint = 'the word for either is "or"'
            case "=":
                hint = "== compares"
            case ":" if wanted == '"]"':
                hint = "the first of a list are: lines as first(2), the last ones: lines as last(2)"
            case ":" if any(one.kind == "?" for one in self._tokens):
                hint = 'a choice is written {{ "late" if days > 3 else "on time" }}'
            case "&&" | "&":
                hint = 'the word for both is "and"'
            case "!":
                hint = 'the word is "not"'
            case "@" | "$" | "#" | "~" | "^" | "`":
                hint = "a field is named without any sign before it"
            case "(":
                hint = 'nothing can be called; a formatter is applied with "as": {{ name as upper }}'
            case "name" if token.text == "is":
                hint = "== compares; whether a value is there: {{ if note?: }}"
            case "name" if wanted.endswith("file name"):
                rest = "".join(one.text for one in self._tokens[self._index :])
                hint = f'a file name stands in quotes: "{rest}"'
            case "name" | "number" | "text":
                hint = "is an operator missing before it?"
        raise TemplateError(f"{_as_written(token)} where {wanted} should stand", place=token.place, hint=hint)

    def finish(self) -> None:
        """The mark must end here."""
        kinds = [token.kind for token in self._tokens]
        if self.next.kind != "end" and "?" in kinds and ":" in kinds:
            raise TemplateError(
                f"{_as_written(self.next)} where the mark should end",
                place=self.next.place,
                hint='a choice is written {{ "late" if days > 3 else "on time" }}',
            )
        if self.next.kind != "end":
            self.unexpected("the end of the mark")


def _as_written(token: Token) -> str:
    return "a text" if token.kind == "text" else f'"{token.text}"'
