"""A second, plain implementation of the language: it walks the statements and expressions of one file.

No tape, no programs, nothing shared with them but the parser: what the compiled template does must equal this.
"""

from __future__ import annotations

import html
from decimal import ROUND_HALF_UP, Context, Decimal, Inexact, InvalidOperation, Overflow
from typing import Any

from pribble.errors import Source
from pribble.language import expressions as e
from pribble.language import statements as s
from pribble.language.blocks import parse


class Wrong(Exception):
    """The template cannot be rendered with these data."""


class Nothing:
    def __bool__(self) -> bool:
        return False


NOTHING = Nothing()
TURNS = "\0turns"  # the name under which the turns of the loops around are kept, which no template can have
CONTEXT = Context(prec=40, rounding=ROUND_HALF_UP, traps=[InvalidOperation, Inexact, Overflow])
DIVIDING = Context(prec=40, rounding=ROUND_HALF_UP, traps=[InvalidOperation, Overflow])


class ShownText(str):
    """The text of a value: where its mark begins, and the turns of the loops around it, outermost first."""

    mark: int
    turns: tuple[int, ...]


def walk(text: str, data: Any) -> str:
    return "".join(walk_pieces(text, data))


def walk_pieces(text: str, data: Any) -> list[str]:
    """The literal texts of a rendering, and its values as `ShownText`."""
    return body(parse(Source("walked", text)).body, text, {}, data)


def body(statements: s.Body, text: str, outer: dict[str, Any], data: Any) -> list[str]:
    names, out = dict(outer), []
    for statement in statements:
        match statement:
            case s.LiteralText(start=start, end=end):
                out.append(text[start:end])
            case s.Show(place=place, value=value):
                escaped = html.escape(shown(ev(value, names, data)), quote=True)
                made = ShownText(escaped.replace("&quot;", "&#34;").replace("&#x27;", "&#39;"))
                made.mark, made.turns = place.start, names.get(TURNS, ())
                out.append(made)
            case s.Let(name=name, value=value):
                names[name.text] = ev(value, names, data)
            case s.If(branches=branches):
                for branch in branches:
                    if branch.test is None or holds(ev(branch.test, names, data)):
                        out += body(branch.body, text, names, data)
                        break
            case s.For():
                out += loop(statement, text, names, data)
            case s.Only(kind="html", body=inner):
                out += body(inner, text, names, data)
    return out


def loop(block: s.For, text: str, names: dict[str, Any], data: Any) -> list[str]:
    items = ev(block.items, names, data)
    if items is NOTHING:
        items = []
    if len(block.names) == 2 and isinstance(items, dict):
        items = [list(pair) for pair in items.items()]
    if not isinstance(items, list):
        raise Wrong
    if not items and block.otherwise:
        return body(block.otherwise.body, text, names, data)
    out: list[str] = []
    if len(block.names) == 2 and not all(isinstance(i, list) and len(i) == 2 for i in items):
        raise Wrong
    for index, item in enumerate(items):
        values = [item] if len(block.names) == 1 else item
        inner = {**names, **dict(zip([n.text for n in block.names], values, strict=True))}
        if block.at:
            inner[block.at.text] = {
                "number": index + 1,
                "index": index,
                "count": len(items),
                "first": index == 0,
                "last": index == len(items) - 1,
            }
        out += body(block.body, text, {**inner, TURNS: (*names.get(TURNS, ()), index)}, data)
    return out


def ev(node: e.Expression, names: dict[str, Any], data: Any) -> Any:
    match node:
        case e.Constant(value=value):
            return value
        case e.Listing(items=items):
            return [ev(item, names, data) for item in items]
        case e.Name(name=name):
            return names[name] if name in names else step(data, name)
        case e.All():
            return data
        case e.Member(base=base, name=name):
            return step(ev(base, names, data), name)
        case e.Subscript(base=base, key=key):
            return step(ev(base, names, data), ev(key, names, data))
        case e.Maybe(step=inner):
            return maybe(inner, names, data)
        case e.Negative(operand=operand):
            return -number(ev(operand, names, data))
        case e.Arithmetic(operator=operator, left=left, right=right):
            return compute(operator, ev(left, names, data), ev(right, names, data))
        case e.Comparison(operator=operator, left=left, right=right):
            return compare(operator, ev(left, names, data), ev(right, names, data))
        case e.Not(operand=operand):
            return not holds(ev(operand, names, data))
        case e.Both(left=left, right=right):
            return holds(ev(left, names, data)) and holds(ev(right, names, data))
        case e.Either(left=left, right=right):
            return holds(ev(left, names, data)) or holds(ev(right, names, data))
        case e.Choice(value=value, test=test, otherwise=otherwise):
            if holds(ev(test, names, data)):
                return ev(value, names, data)
            return NOTHING if otherwise is None else ev(otherwise, names, data)
        case e.Fallback(value=value, otherwise=other):
            first = ev(value, names, data)
            absent = (
                first is NOTHING
                or (isinstance(first, str) and not first.strip())
                or (isinstance(first, list | dict) and not first)
            )
            return ev(other, names, data) if absent else first
        case e.Formatted(value=value, name=formatter):
            return formatted(formatter, ev(value, names, data))
    raise AssertionError(node)


def step(base: Any, key: Any) -> Any:
    if base is NOTHING or key is NOTHING:
        return NOTHING
    if isinstance(base, dict) and isinstance(key, str) and key in base:
        return base[key]
    if isinstance(base, list) and kind(key) == "number" and key == int(key) and 0 <= key < len(base):
        return base[int(key)]
    raise Wrong


def maybe(node: Any, names: dict[str, Any], data: Any) -> Any:
    if isinstance(node, e.Name):
        found = names[node.name] if node.name in names else data.get(node.name)
    else:
        base = ev(node.base, names, data)
        key = node.name if isinstance(node, e.Member) else ev(node.key, names, data)
        if base is NOTHING or key is NOTHING:
            return NOTHING
        if isinstance(base, dict) and isinstance(key, str):
            found = base.get(key)
        elif isinstance(base, list) and kind(key) == "number" and key == int(key):
            found = base[int(key)] if 0 <= key < len(base) else None
        else:
            raise Wrong
    return NOTHING if found is None else found


def kind(value: Any) -> str:
    return {bool: "flag", str: "text", int: "number", Decimal: "number", list: "list", dict: "record"}.get(
        type(value), "none"
    )


def number(value: Any) -> Any:
    if kind(value) != "number":
        raise Wrong
    return value


def compute(operator: str, left: Any, right: Any) -> Any:
    if operator == "+" and kind(left) == kind(right) == "text":
        return left + right
    left, right = number(left), number(right)
    if operator in "/%" and not right:
        raise Wrong
    try:
        match operator:
            case "+":
                return CONTEXT.add(left, right)
            case "-":
                return CONTEXT.subtract(left, right)
            case "*":
                return CONTEXT.multiply(left, right)
            case "/":
                return DIVIDING.divide(left, right)
        return CONTEXT.remainder(left, right)
    except (Inexact, InvalidOperation):
        raise Wrong from None


def compare(operator: str, left: Any, right: Any) -> bool:
    if operator in ("==", "!="):
        return equal(left, right) == (operator == "==")
    if operator in ("in", "not in"):
        return member(left, right) == (operator == "in")
    if kind(left) != kind(right) or kind(left) not in ("text", "number"):
        raise Wrong
    return bool({"<": left < right, "<=": left <= right, ">": left > right, ">=": left >= right}[operator])


def equal(left: Any, right: Any) -> bool:
    absent = [x is None or x is NOTHING for x in (left, right)]
    if any(absent):
        return all(absent)
    if kind(left) != kind(right):
        raise Wrong
    if isinstance(left, list):
        return len(left) == len(right) and all(equal(a, b) for a, b in zip(left, right, strict=True))
    return bool(left == right)


def member(value: Any, whole: Any) -> bool:
    if whole is NOTHING:
        return False
    if isinstance(whole, list):
        return any((kind(x) == kind(value)) and (x is value or x == value) for x in whole)
    if isinstance(whole, dict | str) and isinstance(value, str):
        return value in whole
    raise Wrong


def holds(value: Any) -> bool:
    return bool(value)


def shown(value: Any) -> str:
    if value is NOTHING:
        return ""
    if isinstance(value, str):
        return value
    digits = number(value)
    if isinstance(digits, Decimal) and -int(digits.as_tuple().exponent) > 6:
        raise Wrong
    return f"{digits:f}" if isinstance(digits, Decimal) else str(digits)


def formatted(name: str, value: Any) -> Any:
    if name == "count":
        if value is NOTHING:
            return 0
        if isinstance(value, list | dict):
            return len(value)
        raise Wrong
    if value is NOTHING:
        return NOTHING
    if name in ("upper", "trim"):
        if not isinstance(value, str):
            raise Wrong
        return value.upper() if name == "upper" else value.strip()
    if not isinstance(value, list):
        raise Wrong
    match name:
        case "join":
            return ", ".join(shown(x) for x in value)
        case "first":
            return value[0] if value else NOTHING
        case "reverse":
            return value[::-1]
        case "sum":
            total: Any = 0
            for x in value:
                total = compute("+", total, number(x))
            return total
    raise AssertionError(name)
