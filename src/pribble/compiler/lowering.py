"""Expressions become Python syntax trees.

Nothing of an author's text is ever pasted into source: names and texts are constants in a tree.  The line
number of every call is the number of its *site*, the place in a template that the call stands for.  So an
error that passes through a program says by its traceback where it belongs, and a program that meets no
error pays nothing for it.
"""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from pribble.errors import Place, TemplateError, did_you_mean
from pribble.language.expressions import (
    All,
    Arithmetic,
    Binding,
    Both,
    Choice,
    Comparison,
    Constant,
    Either,
    Expression,
    Fallback,
    Formatted,
    Item,
    Listing,
    Local,
    Maybe,
    Member,
    Name,
    Negative,
    Not,
    PerItem,
)
from pribble.values.formatters import FORMATTERS, WALKING, Factory, complaint

DATA = "data"
_SCRATCH = "t"  # holds a value between two looks at it; never across another expression
_PLACE_WORDS = ("number", "index", "count", "first", "last")
_COMPARING = {"==": "equal", "!=": "unequal", "<": "less", "<=": "at_most", ">": "more", ">=": "at_least",
              "in": "contains", "not in": "lacks"}


@dataclass(frozen=True, slots=True)
class Site:
    """What a call in a program stands for: where it is written, and the path of fields it reads."""

    place: Place
    path: str


@dataclass(frozen=True, slots=True)
class FormatterCall:
    """A formatter with constant arguments, to be prepared once for each locale and time zone."""

    name: str
    arguments: tuple[Any, ...]
    named: tuple[tuple[str, Any], ...]
    locale: str | None
    timezone: str | None


def described(expression: Expression) -> str:
    """An expression as errors name it: its path where it is one, else "the value"."""
    match expression:
        case Name(name=name):
            return name
        case All():
            return "the data"
        case Local(binding=binding) if binding.kind == "item" and binding.value is not None:
            return described(binding.value) + "[]"
        case Local(binding=binding):
            return binding.name
        case Member(base=All(), name=name):
            return name
        case Member(base=base, name=name):
            return f"{described(base)}.{name}"
        case Item(base=All(), key=Constant(value=str(key))):
            return key
        case Item(base=base, key=Constant(value=str(key))):
            return f"{described(base)}.{key}"
        case Item(base=base, key=Constant(value=int(key))):
            return f"{described(base)}[{key}]"
        case Item(base=base):
            return f"{described(base)}[…]"
        case Maybe(step=step):
            return described(step)
        case Formatted(value=value):
            return described(value)
    return "the value"


@dataclass(slots=True)
class Lowering:
    """Lowers the expressions of one program; collects its sites, constants and formatters on the way."""

    known: Mapping[str, Factory] = field(default_factory=lambda: FORMATTERS)
    common: frozenset[str] = frozenset()
    sites: list[Site] = field(default_factory=list)
    constants: dict[str, Any] = field(default_factory=dict)
    formatters: dict[str, FormatterCall] = field(default_factory=dict)
    _variables: dict[Binding, str] = field(default_factory=dict)

    # -- the pieces of trees --

    def call(self, function: str, *arguments: ast.expr, place: Place, path: str = "") -> ast.expr:
        """A call of a function of the program's namespace, standing for `place`."""
        self.sites.append(Site(place, path))
        node = ast.Call(ast.Name(function, ast.Load()), list(arguments), [])
        node.lineno = node.end_lineno = len(self.sites)
        node.col_offset = node.end_col_offset = 0
        return node

    def constant(self, value: Any) -> ast.expr:
        """`value` as an expression: written out where Python has a literal for it, else named."""
        if value is None or isinstance(value, str | int):
            return ast.Constant(value)
        name = f"constant_{len(self.constants)}"
        self.constants[name] = value
        return ast.Name(name, ast.Load())

    def variable(self, binding: Binding) -> str:
        """The variable of the program that holds what `binding` stands for."""
        return self._variables.setdefault(binding, f"local_{len(self._variables)}_{binding.kind}")

    # -- expressions --

    def value(self, node: Expression) -> ast.expr:
        """The tree that computes `node`."""
        match node:
            case Constant(value=value):
                return self.constant(value)
            case Listing(items=items):
                return ast.Tuple([self.value(item) for item in items], ast.Load())
            case All():
                return ast.Name(DATA, ast.Load())
            case Local(place=place, binding=binding):
                if binding.kind == "place":
                    raise TemplateError(f'"{binding.name}" is a place in a loop and no value', place=place,
                                        hint=f"it has {', '.join(_PLACE_WORDS)}: {{{{ {binding.name}.number }}}}")
                return ast.Name(self.variable(binding), ast.Load())
            case Name(place=place, name=name) if name in self.common:
                return self.call("common", ast.Name(DATA, ast.Load()), ast.Constant(name), place=place, path=name)
            case Name(place=place, name=name):
                return self._read(ast.Name(DATA, ast.Load()), name, "the data", node, place)
            case Member(base=Local(binding=Binding(kind="place") as binding)):
                return self._place_word(binding, node)
            case Member(place=place, base=base, name=name):
                return self._read(self.value(base), name, described(base), node, place)
            case Item(place=place, base=base, key=Constant(value=str(key))):
                return self._read(self.value(base), key, described(base), node, place)
            case Item(place=place, base=base, key=key):
                return self.call("item", self.value(base), self.value(key), ast.Constant(described(base)),
                                 place=place, path=described(node))
            case Maybe(step=step):
                return self._maybe(step)
            case Negative(place=place, operand=operand):
                return self.call("negative", self.value(operand), place=place, path=described(operand))
            case Arithmetic(place=place, operator=operator, left=left, right=right):
                return self.call("compute", ast.Constant(operator), self.value(left), self.value(right), place=place,
                                 path=described(left))
            case Comparison(place=place, operator=operator, left=left, right=right):
                whole = self.value(right)
                if operator in ("in", "not in"):
                    whole = self.walked(whole, place)
                return self.call(_COMPARING[operator], self.value(left), whole, place=place, path=described(left))
            case Not(operand=operand):
                return ast.UnaryOp(ast.Not(), self.test(operand))
            case Both(left=left, right=right):
                return ast.BoolOp(ast.And(), [self.test(left), self.test(right)])
            case Either(left=left, right=right):
                return ast.BoolOp(ast.Or(), [self.test(left), self.test(right)])
            case Choice(value=value, test=test, otherwise=otherwise):
                other = ast.Name("NOTHING", ast.Load()) if otherwise is None else self.value(otherwise)
                return ast.IfExp(self.test(test), self.value(value), other)
            case Fallback(place=place, value=value, otherwise=other):
                absent = self.call("absent", _kept(self.value(value)), place=place, path=described(value))
                return ast.IfExp(absent, self.value(other), ast.Name(_SCRATCH, ast.Load()))
            case Formatted():
                return self._formatted(node)
            case PerItem(item=item, body=body):
                parameters = ast.arguments([], [ast.arg(self.variable(item))], None, [], [], None, [])
                return ast.Lambda(parameters, self.value(body))

    def test(self, node: Expression) -> ast.expr:
        """The tree that computes whether `node` holds."""
        if isinstance(node, Comparison | Not | Both | Either):
            return self.value(node)
        return self.call("holds", self.value(node), place=node.place, path=described(node))

    def shown(self, node: Expression, how: str) -> ast.expr:
        """The tree that computes the text of `node`: ``how(value)``, with a shorter way for texts.

        `how` names two functions of the namespace: ``markup`` for what is a text already, ``show_markup`` for all.
        """
        self._refuse_flag(node)
        if isinstance(node, Constant) and isinstance(node.value, str):
            return self.call(f"show_{how}", ast.Constant(node.value), place=node.place)
        path = described(node)
        is_text = ast.Compare(ast.Attribute(_kept(self.value(node)), "__class__", ast.Load()), [ast.Is()],
                              [ast.Name("str", ast.Load())])
        scratch = ast.Name(_SCRATCH, ast.Load())
        direct = self.call(how, scratch, place=node.place, path=path)
        general = self.call(f"show_{how}", scratch, place=node.place, path=path)
        return ast.IfExp(is_text, direct, general)

    def walked(self, value: ast.expr, place: Place) -> ast.expr:
        """`value`, a list whose items count as turns from here on."""
        return self.call("walked", ast.Name("turns", ast.Load()), value, place=place)

    @staticmethod
    def _refuse_flag(node: Expression) -> None:
        if isinstance(node, Both | Either | Not | Comparison):
            word = "else" if isinstance(node, Either) else "if"
            raise TemplateError("this is true or false, which is not shown as it is", place=node.place,
                                hint="write {{ a else b }} for the first that is there" if word == "else" else
                                'choose its words: {{ "yes" if … else "no" }}')

    def _read(self, base: ast.expr, name: str, where: str, node: Expression, place: Place) -> ast.expr:
        """``base.name``: at once where base is a dict that has it, else by the function that knows all kinds."""
        scratch, key = ast.Name(_SCRATCH, ast.Load()), ast.Constant(name)
        is_dict = ast.Compare(ast.Attribute(_kept(base), "__class__", ast.Load()), [ast.Is()],
                              [ast.Name("dict", ast.Load())])
        has = ast.Compare(key, [ast.In()], [scratch])
        careful = self.call("read", scratch, key, ast.Constant(where), place=place, path=described(node))
        return ast.IfExp(ast.BoolOp(ast.And(), [is_dict, has]), ast.Subscript(scratch, key, ast.Load()), careful)

    def _maybe(self, step: Name | Local | Member | Item) -> ast.expr:
        path, place = described(step), step.place
        match step:
            case Name(name=name):
                return self.call("read_maybe", ast.Name(DATA, ast.Load()), ast.Constant(name),
                                 ast.Constant("the data"), place=place, path=path)
            case Member(base=Local(binding=Binding(kind="place"))):
                return self.value(step)
            case Member(base=base, name=name):
                return self.call("read_maybe", self.value(base), ast.Constant(name), ast.Constant(described(base)),
                                 place=place, path=path)
            case Item(base=base, key=key):
                return self.call("item_maybe", self.value(base), self.value(key), ast.Constant(described(base)),
                                 place=place, path=path)
            case Local():
                return self.call("or_nothing", self.value(step), place=place, path=path)

    def _place_word(self, binding: Binding, node: Member) -> ast.expr:
        index = ast.Name(self.variable(binding), ast.Load())
        count = ast.Call(ast.Name("len", ast.Load()), [ast.Name(items_variable(index.id), ast.Load())], [])
        match node.name:
            case "index":
                return index
            case "number":
                return ast.BinOp(index, ast.Add(), ast.Constant(1))
            case "count":
                return count
            case "first":
                return ast.Compare(index, [ast.Eq()], [ast.Constant(0)])
            case "last":
                return ast.Compare(ast.BinOp(index, ast.Add(), ast.Constant(1)), [ast.Eq()], [count])
        raise TemplateError(f'a place in a loop has no "{node.name}"', place=node.place,
                            hint=did_you_mean(node.name, _PLACE_WORDS))

    def _formatted(self, node: Formatted) -> ast.expr:
        if node.formatter not in self.known:
            raise TemplateError(f'there is no formatter "{node.formatter}"', place=node.place,
                                hint=did_you_mean(node.formatter, self.known))
        per_item = [argument for argument in node.arguments if isinstance(argument, PerItem)]
        arguments = [argument for argument in node.arguments if not isinstance(argument, PerItem)]
        if wrong := complaint(node.formatter, self.known[node.formatter], len(arguments),
                              tuple(name for name, _ in node.named), per_item=bool(per_item)):
            raise TemplateError(wrong, place=node.place)
        value, path = self.value(node.value), described(node.value)
        if node.formatter in WALKING:
            value = self.walked(value, node.place)
        given = [argument for _, argument in node.named]
        if all(isinstance(argument, Constant) for argument in (*arguments, *given)):
            call = FormatterCall(node.formatter, tuple(a.value for a in arguments if isinstance(a, Constant)),
                                 tuple((n, a.value) for n, a in node.named if isinstance(a, Constant)),
                                 node.locale, node.timezone)
            name = next((n for n, known in self.formatters.items() if _same(known, call)), None)
            if name is None:
                name = f"as_{node.formatter}_{len(self.formatters)}"
                self.formatters[name] = call
            return self.call(name, value, *map(self.value, per_item), place=node.place, path=path)
        names = ast.Tuple([ast.Constant(n) for n in (node.formatter, node.locale, node.timezone)], ast.Load())
        positional = ast.Tuple([self.value(argument) for argument in arguments], ast.Load())
        named = ast.Dict([ast.Constant(n) for n, _ in node.named], [self.value(a) for a in given])
        return self.call("formatted", names, value, positional, named, *map(self.value, per_item), place=node.place,
                         path=path)


def _same(one: FormatterCall, other: FormatterCall) -> bool:
    """Equal, and of equal types: 2, 2.0 and true are equal to Python, and not to an author."""
    return one == other and repr(one) == repr(other)


def _kept(value: ast.expr) -> ast.expr:
    return ast.NamedExpr(ast.Name(_SCRATCH, ast.Store()), value)


def items_variable(index: str) -> str:
    """The variable that holds the list whose positions `index` counts."""
    return f"{index}_items"
