"""From the tokens of a mark to an expression; one small function a production.

choice   := or [ "if" or [ "else" choice ] ]  |  or "else" choice
or       := and { "or" and }            and := not { "and" not }        not := "not" not | compare
compare  := shown [ ("==" | "!=" | "<" | "<=" | ">" | ">=" | "in" | "not" "in") shown ]
shown    := sum { "as" NAME [ "(" arguments ")" ] }
sum      := product { ("+" | "-") product }      product := minus { ("*" | "/" | "%") minus }
minus    := "-" minus | path
path     := atom { "." NAME | "[" choice "]" | "?" }
atom     := NAME | "all" | TEXT | NUMBER | "true" | "false" | "none" | "[" list "]" | "(" choice ")"
"""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

from pribble.errors import LimitReached, Place, TemplateError
from pribble.language.expressions import (
    All,
    Arithmetic,
    Both,
    Choice,
    Comparison,
    Constant,
    Either,
    Expression,
    Fallback,
    Formatted,
    Listing,
    Local,
    Maybe,
    Member,
    Name,
    Negative,
    Not,
    Subscript,
)
from pribble.language.tokens import Token, TokenReader

RESERVED = frozenset("if else and or not in as true false none all".split())
# Generous for a person, and small enough that no tree is too deep to compile.
MOST_OPERATIONS = 100
DEEPEST_BRACKETS = 20

# A number of more digits is beyond what is computed with anyway.
_MOST_DIGITS = 100


def read_expression(reader: TokenReader) -> Expression:
    """Returns the expression that begins at the reader's next token; raises `TemplateError` where there is none."""
    return _Grammar(reader).choice()


def read_formatters(reader: TokenReader, value: Expression) -> Expression:
    """Returns `value` as the formatters show it that a text names: ``money("EUR")``; raises `TemplateError`."""
    return _Grammar(reader).formatters(value)


class _Grammar:
    def __init__(self, reader: TokenReader) -> None:
        self.reader = reader
        self._operations = 0
        self._brackets = 0
        self._bracketed: Expression | None = None  # what stood in the brackets closed last

    def _operation(self, place: Place) -> None:
        self._operations += 1
        if self._operations > MOST_OPERATIONS:
            raise LimitReached(
                f"an expression of more than {MOST_OPERATIONS} operations",
                place=place,
                hint="give parts of it names with let",
            )

    def inner(self) -> Expression:
        """Returns the expression inside brackets of any kind."""
        self._brackets += 1
        if self._brackets > DEEPEST_BRACKETS:
            raise LimitReached(
                f"brackets within brackets, more than {DEEPEST_BRACKETS} deep",
                place=self.reader.next.place,
                hint="give parts of it names with let",
            )
        made = self.choice()
        self._brackets -= 1
        return made

    def choice(self) -> Expression:
        value = self._or()
        if token := self.reader.takes("if"):
            self._operation(token.place)
            test = self._or()
            return Choice(token.place, value, test, self.choice() if self.reader.takes("else") else None)
        if token := self.reader.takes("else"):
            self._operation(token.place)
            otherwise = self.choice()
            if isinstance(otherwise, Formatted) and otherwise is not self._bracketed:
                self._two_readings(token, otherwise)
            return Fallback(token.place, value, otherwise)
        return value

    def _two_readings(self, token: Token, otherwise: Formatted) -> None:
        written = " ".join(self.reader.source.text[self.reader.whole.start : self.reader.whole.end].split())
        left, _, right = written.partition(" else ")
        bare, _, formatter = right.rpartition(" as ")
        raise TemplateError(
            'it is not clear what "as" applies to',
            place=otherwise.place,
            hint=f"write {{{{ ({left} else {bare}) as {formatter} }}}} or {{{{ {left} else ({right}) }}}}",
        )

    def _grouped(
        self,
        operand: Callable[[], Expression],
        operators: tuple[str, ...],
        node: Callable[[Token, Expression, Expression], Expression],
    ) -> Expression:
        """Returns operands joined by operators of one precedence, grouped to the left."""
        left = operand()
        while token := self.reader.takes(*operators):
            self._operation(token.place)
            left = node(token, left, operand())
        return left

    def _or(self) -> Expression:
        return self._grouped(self._and, ("or",), lambda token, a, b: Either(token.place, a, b))

    def _and(self) -> Expression:
        return self._grouped(self._not, ("and",), lambda token, a, b: Both(token.place, a, b))

    def _not(self) -> Expression:
        if token := self.reader.takes("not"):
            self._operation(token.place)
            return Not(token.place, self._not())
        return self._compare()

    def _compare(self) -> Expression:
        left = self._shown()
        token = self._comparison()
        if token is None:
            return left
        right = self._shown()
        if again := self._comparison():
            raise TemplateError("comparisons do not chain", place=again.place, hint='join two of them with "and"')
        return Comparison(token.place, token.text, left, right)

    def _comparison(self) -> Token | None:
        if token := self.reader.takes("==", "!=", "<", "<=", ">", ">=", "in"):
            self._operation(token.place)
            return token
        if self.reader.next.text == "not" and self.reader.peek(1).text == "in":
            token = self.reader.take()
            self.reader.take()
            self._operation(token.place)
            return Token("name", "not in", token.place)
        return None

    def _shown(self) -> Expression:
        value = self._sum()
        while token := self.reader.takes("as"):
            self._operation(token.place)
            value = self._formatter(value)
        return value

    def formatters(self, value: Expression) -> Expression:
        """Returns `value` with formatters applied: what stands behind its first "as"."""
        value = self._formatter(value)
        while self.reader.takes("as"):
            value = self._formatter(value)
        return value

    def _formatter(self, value: Expression) -> Expression:
        name = self.reader.expect("name", "a formatter's name")
        arguments, named = self._arguments() if self.reader.takes("(") else ((), ())
        return Formatted(name.place, value, name.text, arguments, named)

    def _arguments(self) -> tuple[tuple[Expression, ...], tuple[tuple[str, Expression], ...]]:
        positional: list[Expression] = []
        named: dict[str, Expression] = {}
        while not self.reader.takes(")"):
            if self.reader.next.kind == "name" and self.reader.peek(1).kind == "=":
                name = self.reader.take()
                self.reader.take()
                if name.text in named:
                    raise TemplateError(f'"{name.text}" is given twice', place=name.place)
                named[name.text] = self.inner()
            elif named:
                raise TemplateError("an argument without a name follows one with a name", place=self.reader.next.place)
            else:
                positional.append(self.inner())
            if self.reader.next.kind != ")" and not self.reader.takes(","):
                self.reader.unexpected('a comma or ")"')
        return tuple(positional), tuple(named.items())

    def _sum(self) -> Expression:
        return self._grouped(self._product, ("+", "-"), lambda t, a, b: Arithmetic(t.place, t.text, a, b))

    def _product(self) -> Expression:
        return self._grouped(self._minus, ("*", "/", "%"), lambda t, a, b: Arithmetic(t.place, t.text, a, b))

    def _minus(self) -> Expression:
        if token := self.reader.takes("-"):
            self._operation(token.place)
            return Negative(token.place, self._minus())
        return self._path()

    def _path(self) -> Expression:
        value = self._atom()
        while token := self.reader.takes(".", "[", "?"):
            self._operation(token.place)
            if token.kind == ".":
                name = self.reader.expect("name", "a name")
                value = Member(name.place, value, name.text)
            elif token.kind == "[":
                key = self.inner()
                if not self.reader.takes("]"):
                    self.reader.unexpected('"]"')
                value = Subscript(key.place, value, key)
            elif isinstance(value, Name | Local | Member | Subscript):
                value = Maybe(value.place, value)
            else:
                raise TemplateError(
                    '"?" stands after a name or a position only',
                    place=token.place,
                    hint='what is shown instead is written {{ name? else "you" }}'
                    if isinstance(value, Maybe)
                    else 'a choice is written {{ "late" if days > 3 else "on time" }}',
                )
        return value

    def _atom(self) -> Expression:
        token = self.reader.next
        match token.kind:
            case "text":
                self.reader.take()
                return Constant(token.place, token.text)
            case "number":
                self.reader.take()
                if len(token.text) > _MOST_DIGITS:
                    raise TemplateError(f"a number of more than {_MOST_DIGITS} digits", place=token.place)
                return Constant(token.place, Decimal(token.text) if "." in token.text else int(token.text))
            case "name":
                return self._word(token)
            case "[":
                self.reader.take()
                return Listing(token.place, self._items())
            case "(":
                self.reader.take()
                self._operation(token.place)
                inner = self.inner()
                if not self.reader.takes(")"):
                    self.reader.unexpected('")"')
                self._bracketed = inner
                return inner
        return self.reader.unexpected("a value")

    def _word(self, token: Token) -> Expression:
        constants: dict[str, bool | None] = {"true": True, "false": False, "none": None}
        if token.text in constants:
            self.reader.take()
            return Constant(token.place, constants[token.text])
        if token.text == "all":
            self.reader.take()
            return All(token.place)
        if token.text in RESERVED:
            self.reader.unexpected("a value")
        if token.text in ("True", "False", "None") and self.reader.peek(1).kind != ".":
            raise TemplateError(
                f'"{token.text}" where a value should stand',
                place=token.place,
                hint=f'the word is "{token.text.lower()}"',
            )
        self.reader.take()
        return Name(token.place, token.text)

    def _items(self) -> tuple[Expression, ...]:
        items: list[Expression] = []
        while not self.reader.takes("]"):
            items.append(self.inner())
            if self.reader.next.kind != "]" and not self.reader.takes(","):
                self.reader.unexpected('a comma or "]"')
        return tuple(items)
