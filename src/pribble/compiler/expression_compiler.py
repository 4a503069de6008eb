"""Expressions become Python syntax trees.

Nothing of an author's text is ever pasted into source: names and texts are constants in a tree.  The line
number of every call is the number of its *site*, the place in a template that the call stands for.  So an
error that passes through a program says by its traceback where it belongs, and a program that meets no
error pays nothing for it.
"""

from __future__ import annotations

import ast
from collections.abc import Mapping

from pribble.compiler.escapers import escapers
from pribble.compiler.syntax_trees import parsed
from pribble.errors import Place, TemplateError, did_you_mean
from pribble.language.data_paths import member_path
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
    Listing,
    Local,
    Maybe,
    Member,
    Name,
    Negative,
    Not,
    PerItem,
    Subscript,
)
from pribble.markup.contexts import Context
from pribble.records import field, record, replace
from pribble.values.formatters import FORMATTERS, Formatter
from pribble.values.kinds import Data

DATA = "data"
_SCRATCH = "t"  # holds a value between two looks at it; never across another expression
_PLACE_WORDS = ("number", "index", "count", "first", "last")
_EXACT = {"+": "exact_add", "-": "exact_subtract", "*": "exact_multiply"}
_COMPARING = {
    "==": "equal",
    "!=": "unequal",
    "<": "less",
    "<=": "at_most",
    ">": "more",
    ">=": "at_least",
    "in": "contains",
    "not in": "lacks",
}
# Those that may go through lists and records: what they go through counts.
_COUNTED = frozenset({"==", "!=", "in", "not in"})


@record(frozen=True, slots=True)
class Site:
    """What a call in a program stands for: where it is written, and the path of fields it reads."""

    place: Place
    path: str


@record(frozen=True, slots=True)
class FormatterCall:
    """A formatter, to be prepared once for each locale and time zone.

    With `arguments` None they depend on the data and come with each call.  `context` says how the result is
    shown, where it is shown at once.  With `of_text` it is called with texts alone.
    """

    name: str
    arguments: tuple[Data, ...] | None
    named: tuple[tuple[str, Data], ...]
    locale: str | None
    timezone: str | None
    context: Context | None = None
    of_text: bool = False


def described(expression: Expression) -> str:
    """Returns an expression as errors name it: its path where it is one, else "the value"."""
    match expression:
        case Name(name=name):
            return name
        case All():
            return "the data"
        case Local(binding=binding) if binding.kind == "item" and binding.value is not None:
            return described(binding.value) + "[]"
        case Local(binding=binding):
            return binding.name
        case Member(base=All(), name=name) | Subscript(base=All(), key=Constant(value=str(name))):
            return member_path("", name)
        case Member(base=base, name=name) | Subscript(base=base, key=Constant(value=str(name))):
            return member_path(described(base), name)
        case Subscript(base=base, key=Constant(value=int(key))):
            return f"{described(base)}[{key}]"
        case Subscript(base=base):
            return f"{described(base)}[…]"
        case Maybe(step=step):
            return described(step)
        case Formatted(value=value):
            return described(value)
    return "the value"


@record(slots=True)
class ExpressionCompiler:
    """Compiles the expressions of one program; collects its sites, constants and formatters on the way."""

    known: Mapping[str, Formatter] = field(default_factory=lambda: FORMATTERS)
    common: frozenset[str] = frozenset()
    sites: list[Site] = field(default_factory=list)
    constants: dict[str, object] = field(default_factory=dict)
    formatters: dict[str, FormatterCall] = field(default_factory=dict)
    prepared: dict[tuple[str, str], str] = field(default_factory=dict)
    checked: set[Binding] = field(default_factory=set)  # loop variables whose class is asked for in each turn
    functions: list[ast.stmt] = field(default_factory=list)  # to be defined beside the program
    _in_function: bool = False
    _operands: int = 0
    _names: dict[tuple[FormatterCall, str], str] = field(default_factory=dict)
    _variables: dict[Binding, str] = field(default_factory=dict)
    _escaper_names: dict[Context, str] = field(default_factory=dict)

    # -- the pieces of trees --

    def call(self, function: str | ast.expr, *arguments: ast.expr, place: Place, path: str = "") -> ast.expr:
        """Returns a call of a function, by its name in the program's namespace or by what computes it, standing for
        `place`."""
        self.sites.append(Site(place, path))
        called = ast.Name(function, ast.Load()) if isinstance(function, str) else function
        node = ast.Call(called, list(arguments), [])
        node.lineno = node.end_lineno = len(self.sites)
        node.col_offset = node.end_col_offset = 0
        return node

    def constant(self, value: object, *, named: bool = False) -> ast.expr:
        """Returns `value` as an expression: written out where Python has a literal for it, else named."""
        if not named and (value is None or isinstance(value, str | int)):
            return ast.Constant(value)
        name = f"constant_{len(self.constants)}"
        self.constants[name] = value
        return ast.Name(name, ast.Load())

    def escaper_name(self, context: Context) -> str:
        """Returns the name of the function that shows a text in `context`; with ``show_`` before it, of that for any
        value."""
        if context not in self._escaper_names:
            name = f"{context.how}_{len(self._escaper_names)}" if context.enclosing else context.how
            self.constants[name], self.constants[f"show_{name}"] = escapers(context)
            self._escaper_names[context] = name
        return self._escaper_names[context]

    def variable(self, binding: Binding) -> str:
        """Returns the variable of the program that holds what `binding` stands for."""
        return self._variables.setdefault(binding, f"local_{len(self._variables)}_{binding.kind}")

    # -- expressions --

    def value(self, node: Expression) -> ast.expr:
        """Returns the tree that computes `node`."""
        match node:
            case Constant(value=value):
                return self.constant(value)
            case Listing(items=items):
                return ast.Tuple([self.value(item) for item in items], ast.Load())
            case All():
                return ast.Name(DATA, ast.Load())
            case Local():
                return self._local(node)
            case Name():
                return self._name(node)
            case Member():
                return self._member(node)
            case Subscript():
                return self._subscript(node)
            case Maybe(step=step):
                return self._maybe(step)
            case Negative(place=place, operand=operand):
                return self.call("negative", self.value(operand), place=place, path=described(operand))
            case Arithmetic(place=place, operator=operator, left=left, right=right):
                return self._arithmetic(operator, left, right, place)
            case Comparison():
                return self._comparison(node)
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
                return self._per_item(item, body)

    def _local(self, node: Local) -> ast.expr:
        binding = node.binding
        if binding.kind == "place":
            raise TemplateError(
                f'"{binding.name}" is a place in a loop and no value',
                place=node.place,
                hint=f"it has {', '.join(_PLACE_WORDS)}: {{{{ {binding.name}.number }}}}",
            )
        return ast.Name(self.variable(binding), ast.Load())

    def _name(self, node: Name) -> ast.expr:
        place, name = node.place, node.name
        if name in self.common:
            return self.call("common", ast.Name(DATA, ast.Load()), ast.Constant(name), place=place, path=name)
        return self._read(None, name, node, place)

    def _member(self, node: Member) -> ast.expr:
        if isinstance(node.base, Local) and node.base.binding.kind == "place":
            return self._place_word(node.base.binding, node)
        return self._read(node.base, node.name, node, node.place)

    def _subscript(self, node: Subscript) -> ast.expr:
        if isinstance(node.key, Constant) and isinstance(node.key.value, str):
            return self._read(node.base, node.key.value, node, node.place)
        base = ast.Constant(described(node.base))
        given = self.value(node.base), self.value(node.key), base
        return self.call("item", *given, place=node.place, path=described(node))

    def _comparison(self, node: Comparison) -> ast.expr:
        whole = self.value(node.right)
        if node.operator in ("in", "not in"):
            whole = self.walked(whole, node.place)
        compared = [self.value(node.left), whole]
        if node.operator in _COUNTED:
            compared.insert(0, ast.Name("turns", ast.Load()))
        return self.call(_COMPARING[node.operator], *compared, place=node.place, path=described(node.left))

    def test(self, node: Expression) -> ast.expr:
        """Returns the tree that computes whether `node` holds."""
        if isinstance(node, Comparison | Not | Both | Either):
            return self.value(node)
        return self.call("holds", self.value(node), place=node.place, path=described(node))

    def shown(self, node: Expression, context: Context) -> ast.expr:
        """Returns the tree that computes the text of `node` in its context, with a shortcut for texts."""
        self._refuse_flag(node)
        if isinstance(node, Formatted):
            return self._formatted(node, context)
        how = self.escaper_name(context)
        if isinstance(node, Constant) and isinstance(node.value, str):
            return self.call(f"show_{how}", ast.Constant(node.value), place=node.place)
        path = described(node)
        is_text = _text_check(self.value(node))
        scratch = ast.Name(_SCRATCH, ast.Load())
        direct = self.call(how, scratch, place=node.place, path=path)
        if context.escaper == "markup" and not context.wrappers:
            # Most texts hold nothing to escape: a pattern says so sooner than a function of ours.
            special = self.call("special", scratch, place=node.place, path=path)
            is_harmless = ast.Compare(special, [ast.Is()], [ast.Constant(None)])
            direct = ast.IfExp(is_harmless, scratch, direct)
        general = self.call(f"show_{how}", scratch, place=node.place, path=path)
        return ast.IfExp(is_text, direct, general)

    def _arithmetic(self, operator: str, left: Expression, right: Expression, place: Place) -> ast.expr:
        """``left operator right``: for two plain numbers at once, else by the function that knows all kinds."""
        one, other, path = self.value(left), self.value(right), described(left)
        if operator not in _EXACT:
            return self.call("compute", ast.Constant(operator), one, other, place=place, path=path)
        self._operands += 2
        names = [f"operand_{self._operands - 1}", f"operand_{self._operands}"]
        checks = [
            ast.Compare(
                ast.Attribute(ast.NamedExpr(ast.Name(name, ast.Store()), value), "__class__", ast.Load()),
                [ast.In()],
                [ast.Name("NUMBERS", ast.Load())],
            )
            for name, value in zip(names, (one, other), strict=True)
        ]
        held = [ast.Name(name, ast.Load()) for name in names]
        exact = self.call(_EXACT[operator], *held, place=place, path=path)
        general = self.call("compute", ast.Constant(operator), *held, place=place, path=path)
        # "&" and not "and": both operands are to be evaluated, whatever the first is.
        return ast.IfExp(ast.BinOp(checks[0], ast.BitAnd(), checks[1]), exact, general)

    def _per_item(self, item: Binding, body: Expression) -> ast.expr:
        """Returns the name of a function beside the program that computes `body` for each item of a list."""
        name, variable = f"each_{len(self.functions)}", self.variable(item)
        function = parsed(
            f"def {name}(items):\n made = []; add = made.append\n for {variable} in items: pass\n return made\n"
        ).body[0]
        assert isinstance(function, ast.FunctionDef) and isinstance(function.body[2], ast.For)
        self.functions.append(function)
        self.checked.add(item)
        outer, self._in_function = self._in_function, True
        add = ast.Call(ast.Name("add", ast.Load()), [self.value(body)], [])
        function.body[2].body = [class_check(variable), ast.Expr(add)]
        self._in_function = outer
        return ast.Name(name, ast.Load())

    def walked(self, value: ast.expr, place: Place) -> ast.expr:
        """Returns `value`, a list whose items count as turns from here on."""
        return self.call("walked", ast.Name("turns", ast.Load()), value, place=place)

    @staticmethod
    def _refuse_flag(node: Expression) -> None:
        if isinstance(node, Both | Either | Not | Comparison):
            word = "else" if isinstance(node, Either) else "if"
            raise TemplateError(
                "this is true or false, which is not shown as it is",
                place=node.place,
                hint="write {{ a else b }} for the first that is there"
                if word == "else"
                else 'choose its words: {{ "yes" if … else "no" }}',
            )

    def _read(self, base: Expression | None, name: str, node: Expression, place: Place) -> ast.expr:
        """Returns ``base.name``, base None being the data: at once where it is a dict, else by the function that knows
        all kinds.  A variable is asked for its class once, where it is set.

        A dict that has no such key raises `KeyError`; then the program is run again, and takes nothing for a dict
        to it (`Program.bound`), so that the function finds the words for what is missing.
        """
        variable, key = self._checked_variable(base), ast.Constant(name)
        if variable is not None:
            held: ast.expr = ast.Name(variable, ast.Load())
            is_dict: ast.expr = ast.Name(class_flag(variable), ast.Load())
        else:
            held = ast.Name(_SCRATCH, ast.Load())
            assert base is not None
            is_dict = ast.Compare(
                ast.Attribute(_kept(self.value(base)), "__class__", ast.Load()),
                [ast.Is()],
                [ast.Name("dict", ast.Load())],
            )
        where = "the data" if base is None else described(base)
        careful = self.call("read", held, key, ast.Constant(where), place=place, path=described(node))
        return ast.IfExp(is_dict, ast.Subscript(held, key, ast.Load()), careful)

    def _checked_variable(self, base: Expression | None) -> str | None:
        """The variable that `base` is, if it is one whose class is known where it is set."""
        if base is None or isinstance(base, All):
            return DATA
        if isinstance(base, Local) and base.binding in self.checked:
            return self.variable(base.binding)
        return None

    def _maybe(self, step: Name | Local | Member | Subscript) -> ast.expr:
        path, place = described(step), step.place
        match step:
            case Name(name=name) if name in self.common:
                return self.call("or_nothing", self.value(step), place=place, path=path)
            case Name(name=name):
                return self.call(
                    "read_maybe",
                    ast.Name(DATA, ast.Load()),
                    ast.Constant(name),
                    ast.Constant("the data"),
                    place=place,
                    path=path,
                )
            case Member(base=Local(binding=Binding(kind="place"))):
                return self.value(step)
            case Member(base=base, name=name):
                return self.call(
                    "read_maybe",
                    self.value(base),
                    ast.Constant(name),
                    ast.Constant(described(base)),
                    place=place,
                    path=path,
                )
            case Subscript(base=base, key=key):
                return self.call(
                    "item_maybe",
                    self.value(base),
                    self.value(key),
                    ast.Constant(described(base)),
                    place=place,
                    path=path,
                )
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
        raise TemplateError(
            f'a place in a loop has no "{node.name}"', place=node.place, hint=did_you_mean(node.name, _PLACE_WORDS)
        )

    def _formatted(self, node: Formatted, context: Context | None = None) -> ast.expr:
        """Returns a formatter applied; with `context`, its result shown."""
        formatter, arguments, per_item = self._checked_call(node)
        if context is not None and context.enclosing and formatter.makes_figures:
            context = replace(context, enclosing=())  # one function for all such places: it is prepared once
        value, path = self._walked_by(formatter, node), described(node.value)
        given = [argument for _, argument in node.named]
        last = [*map(self.value, per_item)]
        if formatter.counts:
            last.append(ast.Name("turns", ast.Load()))
        if all(isinstance(argument, Constant) for argument in (*arguments, *given)):
            fixed = tuple(a.value for a in arguments if isinstance(a, Constant))
            named = tuple((n, a.value) for n, a in node.named if isinstance(a, Constant))
            call = FormatterCall(node.name, fixed, named, node.locale, node.timezone, context)
            if formatter.knows_texts and not last:
                of_text = self._formatter(replace(call, of_text=True))
                direct, general = (
                    self.call(name, ast.Name(_SCRATCH, ast.Load()), place=node.place, path=path)
                    for name in (of_text, self._formatter(call))
                )
                return ast.IfExp(_text_check(value), direct, general)
            return self.call(self._formatter(call), value, *last, place=node.place, path=path)
        call = FormatterCall(node.name, None, (), node.locale, node.timezone, context)
        if len(arguments) == 1 and not given and not per_item and not self._in_function and _is_of_data(arguments[0]):
            return self._prepared_once(call, value, arguments[0], node.place, path)
        by_position = ast.Tuple([self.value(argument) for argument in arguments], ast.Load())
        by_name = ast.Dict([ast.Constant(n) for n, _ in node.named], [self.value(a) for a in given])
        return self.call(self._formatter(call), value, by_position, by_name, *last, place=node.place, path=path)

    def _checked_call(self, node: Formatted) -> tuple[Formatter, list[Expression], list[PerItem]]:
        """The formatter, its arguments, and the expression over an item that it takes.  Raises `TemplateError` for a
        call that it does not accept."""
        if node.formatter is None:
            hint = did_you_mean(node.name, self.known)
            raise TemplateError(f'there is no formatter "{node.name}"', place=node.place, hint=hint)
        per_item = [argument for argument in node.arguments if isinstance(argument, PerItem)]
        arguments: list[Expression] = [argument for argument in node.arguments if not isinstance(argument, PerItem)]
        names = tuple(name for name, _ in node.named)
        if wrong := node.formatter.complaint(len(arguments), names, has_expression=bool(per_item)):
            raise TemplateError(wrong, place=node.place)
        return node.formatter, arguments, per_item

    def _walked_by(self, formatter: Formatter, node: Formatted) -> ast.expr:
        """Returns the value that a formatter is applied to; what the formatter goes through counts as turns."""
        value = self.value(node.value)
        match formatter.walks:
            case "all":
                return self.call("visited", ast.Name("turns", ast.Load()), value, place=node.place)
            case "items":
                return self.walked(value, node.place)
            case "none":
                return value

    def _prepared_once(
        self, call: FormatterCall, value: ast.expr, argument: Expression, place: Place, path: str
    ) -> ast.expr:
        """Returns a formatter whose one argument is a field of the data (``money(currency)``): the same for a whole
        run, so it is prepared at its first use and kept in a variable."""
        key = self._formatter(call), described(argument)
        variable = self.prepared.setdefault(key, f"ready_{len(self.prepared)}")
        load = ast.Name(variable, ast.Load())
        made = self.call(
            key[0],
            ast.Constant(None),
            ast.Tuple([self.value(argument)], ast.Load()),
            ast.Constant(None),
            place=place,
            path=path,
        )
        ready = ast.IfExp(
            ast.Compare(load, [ast.IsNot()], [ast.Constant(None)]),
            load,
            ast.NamedExpr(ast.Name(variable, ast.Store()), made),
        )
        return self.call(ready, value, place=place, path=path)

    def _formatter(self, call: FormatterCall) -> str:
        """Returns the name of a formatter in the program; equal ones share it."""
        key = call, repr(call)  # 2, 2.0 and true are equal to Python, and not to an author
        if key not in self._names:
            self._names[key] = f"as_{call.name}_{len(self.formatters)}"
            self.formatters[self._names[key]] = call
        return self._names[key]


def _is_of_data(node: Expression) -> bool:
    """Returns whether an expression is a path of fields from the data, and so the same wherever it stands."""
    return isinstance(node, Name) or (isinstance(node, Member) and _is_of_data(node.base))


def _kept(value: ast.expr) -> ast.expr:
    return ast.NamedExpr(ast.Name(_SCRATCH, ast.Store()), value)


def _text_check(value: ast.expr) -> ast.expr:
    """Returns the test whether a value is a text, which keeps it."""
    kind = ast.Attribute(_kept(value), "__class__", ast.Load())
    return ast.Compare(kind, [ast.Is()], [ast.Name("str", ast.Load())])


def class_flag(variable: str) -> str:
    """Returns the variable that says whether `variable` holds a dict."""
    return f"{variable}_is_dict"


def is_class_flag(variable: str) -> bool:
    """Returns whether a variable is such a flag."""
    return variable.endswith("_is_dict")


def class_check(variable: str) -> ast.stmt:
    """Returns the statement that sets the flag of `variable`."""
    is_dict = ast.Compare(
        ast.Attribute(ast.Name(variable, ast.Load()), "__class__", ast.Load()),
        [ast.Is()],
        [ast.Name("dict", ast.Load())],
    )
    return ast.Assign([ast.Name(class_flag(variable), ast.Store())], is_dict)


def items_variable(index: str) -> str:
    """Returns the variable that holds the list whose positions `index` counts."""
    return f"{index}_items"
