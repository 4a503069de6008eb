"""Formatters as programs call them: prepared once, their results shown at once where that is what they are for."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from pribble.compiler.escapers import escapers
from pribble.compiler.expression_compiler import FormatterCall
from pribble.compiler.formatter_results import remember_results
from pribble.errors import Place, PribbleError
from pribble.markup.contexts import Context
from pribble.values.formatters import Formatter
from pribble.values.kinds import Data
from pribble.values.numbers import FIGURES, OF_TEXT, Apply
from pribble.values.settings import Settings

# Makes a function that shows a value one that notes numbers with a point, where a locale, by the place, writes none.
Noting = Callable[[Callable[[Data], str], Callable[[Place], str | None]], Callable[[Data], str]]


def bind_formatter(
    call: FormatterCall,
    settings: Settings,
    formatters: Mapping[str, Formatter],
    mark: Callable[[], Place | None],
    noting: Noting | None = None,
) -> Apply:
    """Returns the function that a program calls for a formatter; `mark` gives the place of the call.

    It takes the value; then, where the arguments depend on the data, a tuple and a dict of them; then an
    expression over an item's fields, where there is one.
    """
    own = (
        settings
        if call.locale is None and call.timezone is None
        else Settings(call.locale or settings.locale, call.timezone or settings.timezone)
    )
    formatter = formatters[call.name]

    def made(arguments: tuple[Data, ...], given: Mapping[str, Data]) -> Apply:
        apply = formatter.prepared(own, arguments, given)
        if formatter.of_application:
            apply = remember_results(apply, call.name, mark)
        shown = _with_escaper(apply, call.context, None if own.has_point else noting, own)
        return vars(shown).get(OF_TEXT, shown) if call.of_text else shown

    if call.arguments is None:
        return _with_arguments(made)
    try:
        return made(call.arguments, dict(call.named))
    except PribbleError as error:
        return _refusing(error)


# Where text is only escaped, and figures are what they are.
_ESCAPED = frozenset({"markup", "plain", "line", "inline"})


def _with_escaper(apply: Apply, context: Context | None, noting: Noting | None, own: Settings) -> Apply:
    """Returns `apply`, its results shown."""
    if context is None:
        return apply
    if context.escaper in _ESCAPED and context.wrappers in ((), ("attribute",)) and FIGURES in vars(apply):
        return apply
    show = escapers(context)[1]
    if noting is not None and context.escaper in _ESCAPED and not context.wrappers:
        show = noting(show, lambda place: own.locale)
    return lambda value, *each: show(apply(value, *each))


def _refusing(error: PribbleError) -> Apply:
    """Returns a formatter that raises `error` when it is applied: what cannot be prepared says so at its place."""

    def apply(value: Data, *each: Data) -> Data:
        raise type(error)(error.problem, hint=error.hint)

    return apply


_MOST_KEPT = 64


def _with_arguments(made: Callable[[tuple[Data, ...], Mapping[str, Data]], Apply]) -> Apply:
    """Returns a formatter whose arguments come with each call, as a tuple and a dict of them; where that is None, it
    gives the function that applies it.  For one argument that is a text, as a currency is, that function is kept."""
    kept: dict[str, Apply] = {}

    def ready(arguments: tuple[Data, ...], given: Mapping[str, Data]) -> Apply:
        if given or len(arguments) != 1 or arguments[0].__class__ is not str:
            return made(arguments, given)
        found = kept.get(arguments[0])
        if found is None:
            found = made(arguments, given)
            if len(kept) < _MOST_KEPT:
                kept[arguments[0]] = found
        return found

    def apply(value: Data, arguments: tuple[Data, ...], given: Mapping[str, Data] | None, *each: Data) -> Data:
        return ready(arguments, {}) if given is None else ready(arguments, given)(value, *each)

    return apply
