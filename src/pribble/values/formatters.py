"""The formatters: what ``as`` can apply to a value, one row each.

A formatter is a factory: a function that takes the `Settings` (locale, time zone) and the formatter's own arguments,
and returns the function that is applied to values.  Patterns and symbols come from Babel, once for each locale
and argument; applying them is ours, because a message may hold hundreds of amounts and dates.

The linker, the list of fields, the compiler and docs/language.md read what a row says.  The rows of ``html`` and
``table``, which need markup, stand in `pribble.compiler.markup_formatters`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from types import MappingProxyType
from typing import Literal

from pribble.records import record
from pribble.values import address_formatters, dates, json_values, list_formatters, numbers, text_formatters
from pribble.values.kinds import NOTHING, Data, canonical
from pribble.values.numbers import Apply
from pribble.values.settings import Settings

Factory = Callable[..., Apply]


@record(frozen=True, slots=True)
class Formatter:
    """A formatter, and all that is known of it besides.

    `group` is its heading in the docs.  `takes` and `gives` are kinds of values as `Field.kind` has them, "any" for
    several, and `arguments` is the kind of a field among its arguments.  `nothing` says that it deals with nothing
    itself; to others it is not shown.  `expression` is whether its first argument is an expression over an item's own
    fields, and `cell_formats` the argument whose texts are formatters, applied to each cell.  `brings` are the
    elements that it makes, "*" for any.

    What it goes through counts as turns: `walks` the "items" of a list, or "all" that stands within the value; one
    that `counts` does so itself, and is given the counter.  `cost` is how its time grows, for `Limits.steps`: with the
    characters and items that go in and come out ("size"), with sorting those, or not at all ("constant").  One that
    `knows_texts` keeps what it gave for a text: data have days as texts, and the same ones in many messages.
    """

    name: str
    factory: Factory
    group: str
    takes: str = "any"
    gives: str = "text"
    arguments: str = "any"
    nothing: bool = False
    expression: Literal["never", "optional", "required"] = "never"
    cell_formats: str | None = None
    brings: frozenset[str] = frozenset()
    walks: Literal["none", "items", "all"] = "none"
    counts: bool = False
    cost: Literal["size", "sort", "constant"] = "size"
    knows_texts: bool = False
    of_application: bool = False

    @property
    def makes_figures(self) -> bool:
        """Whether it makes a text of a number, a day or a time, which is never markup."""
        return self.gives == "text" and self.group in (NUMBERS, DAYS)

    @property
    def summary(self) -> str:
        """What it does: the first paragraph of its factory's docstring."""
        import inspect

        return " ".join((inspect.getdoc(self.factory) or "").partition("\n\n")[0].split())

    @property
    def call(self) -> str:
        """How it is written in a mark: "?" stands behind an argument that may be left out, "…" behind one that may come
        several times."""
        import inspect

        given = {"never": [], "optional": ["expression?"], "required": ["expression"]}[self.expression]
        for parameter in list(inspect.signature(self.factory).parameters.values())[1:]:
            mark = "" if parameter.default is parameter.empty else "?"
            match parameter.kind:
                case parameter.VAR_POSITIONAL:
                    given.append(f"{parameter.name.removesuffix('s')}…")
                case parameter.VAR_KEYWORD:
                    given.append("name = value…")
                case parameter.KEYWORD_ONLY:
                    given.append(f"{parameter.name}{mark} = …")
                case _:
                    given.append(f"{parameter.name}{mark}")
        return f"{self.name}({', '.join(given)})" if given else self.name

    def complaint(self, arguments: int, named: tuple[str, ...], *, has_expression: bool) -> str | None:
        """Returns what is wrong with calling it with so many arguments, and these named ones; None where nothing is."""
        if self.expression == "required" and not has_expression:
            return f'{self.name} takes an expression over an item\'s fields: {self.name}("paid")'
        if _takes(self.factory, arguments, named):
            return None
        from inspect import signature

        try:
            signature(self.factory).bind(None, *[None] * arguments, **dict.fromkeys(named))
        except TypeError as error:
            return f"{self.name}: {error}"
        return None

    def prepared(self, settings: Settings, arguments: tuple[Data, ...], named: Mapping[str, Data]) -> Apply:
        """Returns the function that is applied to values, for these arguments; nothing stays nothing, but where
        `nothing` says otherwise.  Raises `FieldError` for arguments that it does not take."""
        given = {name: canonical(value) for name, value in named.items()}
        apply = self.factory(settings, *map(canonical, arguments), **given)
        if self.nothing:
            return apply

        def formatter(value: Data, *each: Data) -> Data:
            if value is NOTHING:
                return NOTHING
            return apply(value, *each)

        return formatter


_ANY_NUMBER, _ANY_NAME = 0x04, 0x08  # the flags of code that takes ``*arguments``, ``**given``


def _takes(factory: Factory, arguments: int, named: tuple[str, ...]) -> bool:
    """Returns whether a factory certainly takes so many arguments behind the settings, and these named ones."""
    code = getattr(factory, "__code__", None)
    if code is None:
        return False
    names = code.co_varnames[: code.co_argcount + code.co_kwonlyargcount]
    by_position = names[1 : code.co_argcount]
    with_default = by_position[len(by_position) - len(factory.__defaults__ or ()) :]
    filled = {*by_position[:arguments], *named}
    return bool(
        (arguments <= len(by_position) or code.co_flags & _ANY_NUMBER)
        and len(filled) == min(arguments, len(by_position)) + len(named)
        and (set(named) <= set(names[1:]) or code.co_flags & _ANY_NAME)
        and set(names[1:]) - filled <= {*with_default, *(factory.__kwdefaults__ or ())}
    )


def by_name(formatters: Iterable[Formatter]) -> Mapping[str, Formatter]:
    """Returns a table of formatters."""
    return MappingProxyType({formatter.name: formatter for formatter in formatters})


TEXT, NUMBERS, DAYS, LISTS = "text", "numbers", "days and times", "lists"
ADDRESSES, READING, MARKUP = "addresses", "reading text from tables", "data and markup"
FORMATTERS = by_name(
    [
        Formatter("upper", text_formatters.upper, TEXT, takes="text"),
        Formatter("lower", text_formatters.lower, TEXT, takes="text"),
        Formatter("title", text_formatters.title, TEXT, takes="text"),
        Formatter("capital", text_formatters.capital, TEXT, takes="text"),
        Formatter("change", text_formatters.change, TEXT, takes="text"),
        Formatter("trim", text_formatters.trim, TEXT, takes="text"),
        Formatter("shorten", text_formatters.shorten, TEXT, takes="text"),
        Formatter("breaks", text_formatters.breaks, TEXT, takes="text", brings=frozenset({"br"})),
        Formatter("plural", numbers.plural, NUMBERS, takes="number"),
        Formatter("number", numbers.number, NUMBERS, takes="number", nothing=True),
        Formatter("percent", numbers.percent, NUMBERS, takes="number"),
        Formatter("money", numbers.money, NUMBERS, takes="number", arguments="text", nothing=True),
        Formatter("bytesize", numbers.bytesize, NUMBERS, takes="number"),
        Formatter("round", numbers.round_, NUMBERS, takes="number", gives="number"),
        Formatter("digits", numbers.padded_digits, NUMBERS, takes="number"),
        Formatter("date", dates.date, DAYS, takes="day", nothing=True, knows_texts=True),
        Formatter("time", dates.time, DAYS, takes="time"),
        Formatter("datetime", dates.datetime, DAYS, takes="moment"),
        Formatter("duration", dates.duration, DAYS),
        Formatter("count", list_formatters.count, LISTS, takes="list", gives="number", nothing=True, cost="constant"),
        Formatter("first", list_formatters.first, LISTS, takes="list", gives="any", cost="constant"),
        Formatter("last", list_formatters.last, LISTS, takes="list", gives="any", cost="constant"),
        Formatter("reverse", list_formatters.reverse, LISTS, takes="list", gives="list", walks="items"),
        Formatter("join", list_formatters.join, LISTS, takes="list", walks="items"),
        Formatter("rows", list_formatters.rows, LISTS, takes="list", gives="list", walks="items"),
        Formatter(
            "sum", list_formatters.sum_, LISTS, takes="list", gives="number", expression="optional", walks="items"
        ),
        Formatter(
            "least", list_formatters.least, LISTS, takes="list", gives="any", expression="optional", walks="items"
        ),
        Formatter(
            "greatest", list_formatters.greatest, LISTS, takes="list", gives="any", expression="optional", walks="items"
        ),
        Formatter(
            "sort",
            list_formatters.sort,
            LISTS,
            takes="list",
            gives="list",
            expression="optional",
            walks="items",
            cost="sort",
        ),
        Formatter(
            "keep",
            list_formatters.keep_items,
            LISTS,
            takes="list",
            gives="list",
            expression="required",
            walks="items",
        ),
        Formatter(
            "by",
            list_formatters.by,
            LISTS,
            takes="list",
            gives="list",
            expression="required",
            walks="items",
            counts=True,
        ),
        Formatter("url", address_formatters.url, ADDRESSES),
        Formatter("path", address_formatters.path_segments, ADDRESSES, takes="text"),
        Formatter("query", address_formatters.query, ADDRESSES, walks="items"),
        Formatter("link", address_formatters.link_address, ADDRESSES),
        Formatter("decimal", numbers.decimal, READING, takes="number", gives="number"),
        Formatter("day", dates.day, READING, takes="day", gives="day"),
        Formatter("moment", dates.moment, READING, takes="moment", gives="moment"),
        Formatter("json", json_values.json, MARKUP, walks="all"),
    ]
)


def application_formatter(name: str, function: Callable[..., Data]) -> Formatter:
    """Returns a formatter of the application's own: ``function(value, *arguments, locale=…)``."""

    def factory(settings: Settings, *arguments: Data, **given: Data) -> Apply:
        return lambda value: function(canonical(value), *arguments, **given, locale=settings.locale)

    return Formatter(name, factory, "the application's own", gives="any", of_application=True)
