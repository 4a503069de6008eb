"""Formatters for numbers: CLDR patterns, compiled to functions of ours; rounding half up."""

from __future__ import annotations

from collections.abc import Callable
from decimal import ROUND_HALF_UP, Context, Decimal, InvalidOperation
from functools import lru_cache

from pribble.errors import FieldError
from pribble.values.escaping import is_harmless
from pribble.values.kinds import LARGEST_EXPONENT, NOTHING, Data, bounded, canonical, kind, named, whole_number
from pribble.values.settings import Settings, is_locale
from pribble.values.text_parsing import number_reader

MOST_DECIMALS = 20
# An attribute of formatter functions whose results are texts that need no escaping anywhere between tags.
FIGURES = "gives_figures"
# An attribute of theirs: what is called instead where the value is a text, which is quicker.
OF_TEXT = "of_text"
_OUTSIDE = LARGEST_EXPONENT + 1
_ZERO, _THREE_FIGURES = Decimal(0), Decimal(999)
_MOST_KEPT = 128
_ROUNDING = Context(prec=60, rounding=ROUND_HALF_UP)

Apply = Callable[..., Data]


def text_of(value: Data, formatter: str) -> str:
    """Returns `value`, which `formatter` takes if it is a text."""
    value = canonical(value)
    if isinstance(value, str):
        return value
    raise FieldError(f"{formatter} takes a text, not {named(value)}")


def number_of(value: Data, formatter: str) -> Decimal | int:
    """Returns a number, or a text that is one (as tables have them)."""
    value = canonical(value)
    if kind(value) == "number":
        return bounded(value)
    if isinstance(value, str):
        try:
            number = Decimal(value.strip())
        except InvalidOperation:
            number = Decimal("NaN")
        if number.is_finite():
            return bounded(number)
        raise FieldError(f'{formatter} takes a number, and "{value[:40]}" is none')
    raise FieldError(f"{formatter} takes a number, not {named(value)}")


def _number_pattern(settings: Settings, pattern: Data, decimals: int | None, name: str, symbol: str = "") -> Apply:
    """Returns a CLDR number pattern as a function of a number; `decimals` None shows those the number has."""
    from babel import numbers

    locale = settings.babel
    point = numbers.get_decimal_symbol(locale)
    group = numbers.get_group_symbol(locale)
    minus = numbers.get_minus_sign_symbol(locale)
    primary, secondary = pattern.grouping
    unit = None if decimals is None else Decimal(1).scaleb(-decimals)
    before, after = (_affix(side, symbol) for side in (pattern.prefix[0], pattern.suffix[0]))
    below_before, below_after = (_affix(side, symbol, minus) for side in (pattern.prefix[1], pattern.suffix[1]))
    # Where a symbol of letters would touch the digits, CLDR's currency spacing puts a no-break space.
    if symbol and before.endswith(symbol) and symbol[-1].isalpha():
        before, below_before = before + "\u00a0", below_before + "\u00a0"
    if symbol and after.startswith(symbol) and symbol[0].isalpha():
        after, below_after = "\u00a0" + after, "\u00a0" + below_after
    usual = (primary, secondary) == (3, 3)
    separators = str.maketrans({",": group, ".": point})
    as_written = (group, point) == (",", ".")
    quantize = _ROUNDING.quantize
    after_whole = (point + "0" * decimals if decimals else "") + after

    def apply(value: Data) -> Data:
        # Most numbers are below a thousand: they have no groups and no sign.
        if value.__class__ is Decimal:
            try:
                is_small = _ZERO < value < _THREE_FIGURES
            except InvalidOperation:  # it is none
                return any_number(value)
            if is_small:
                figures = str(value if unit is None else quantize(value, unit))
                if "E" not in figures:
                    return f"{before}{figures if as_written else figures.replace('.', point)}{after}"
        elif value.__class__ is int and 0 <= value < 1000:
            return f"{before}{value}{after_whole}"
        return any_number(value)

    def any_number(value: Data) -> Data:
        if value.__class__ is not Decimal:
            if value is NOTHING:
                return NOTHING
            value = Decimal(number_of(value, name))
        if not value.is_finite():
            number_of(value, name)  # says what is wrong with it
        if unit is not None:
            value = quantize(value, unit)
        if not -_OUTSIDE < value.adjusted() < _OUTSIDE:
            bounded(value)
        if usual:
            figures = f"{value:,f}"
            if not as_written:
                figures = figures.translate(separators)
        else:
            whole, _, fraction = f"{value:f}".removeprefix("-").partition(".")
            figures = _grouped(whole, primary, secondary, group) + (point + fraction if fraction else "")
        if value < 0:
            return f"{below_before}{figures.removeprefix('-')}{below_after}"
        return f"{before}{figures.removeprefix('-')}{after}"

    if is_harmless(f"{before}{after}{below_before}{below_after}{group}{point}"):
        vars(apply)[FIGURES] = True
    return apply


def _affix(affix: str, symbol: str, minus: str = "-") -> str:
    return affix.replace("-", minus).replace("¤¤¤", symbol).replace("¤¤", symbol).replace("¤", symbol)


def _grouped(whole: str, primary: int, secondary: int, separator: str) -> str:
    """Returns digits in groups: the last of `primary` digits, those before of `secondary`."""
    head, groups = whole, []
    size = primary
    while len(head) > size:
        head, tail = head[:-size], head[-size:]
        groups.append(tail)
        size = secondary
    return separator.join([head, *reversed(groups)])


def _decimals(value: Data, formatter: str) -> int | None:
    if value is None:
        return None
    number = whole_number(value, 0, MOST_DECIMALS) if kind(value) == "number" else None
    if number is not None:
        return number
    raise FieldError(f"{formatter} takes a number of decimals from 0 to {MOST_DECIMALS}")


def number(settings: Settings, decimals: int | None = None) -> Apply:
    """Writes a number as the locale does, rounded half up to `decimals`; by default with the decimals that it has."""
    return _number_pattern(settings, settings.babel.decimal_formats[None], _decimals(decimals, "number"), "number")


def money(settings: Settings, currency: str) -> Apply:
    """Writes an amount in a currency (ISO 4217), with the decimals of the currency."""
    from babel import numbers

    code = text_of(currency, "money")
    if not numbers.is_currency(code):
        raise FieldError(f'"{code}" is no currency', hint='currencies have three letters: "EUR"')
    symbol = numbers.get_currency_symbol(code, settings.babel)
    pattern = settings.babel.currency_formats["standard"]
    return _number_pattern(settings, pattern, numbers.get_currency_precision(code), "money", symbol)


def percent(settings: Settings, decimals: int = 0) -> Apply:
    """Writes a fraction as a percentage: 0.5 is 50 %."""
    apply = _number_pattern(settings, settings.babel.percent_formats[None], _decimals(decimals, "percent"), "percent")
    return lambda value: apply(number_of(value, "percent") * Decimal(100))


_BYTE_UNITS = ("byte", "kilobyte", "megabyte", "gigabyte", "terabyte", "petabyte")


def bytesize(settings: Settings) -> Apply:
    """Writes a number of bytes in the unit that suits it, by thousands: 1536 is 1.5 kB."""
    from babel import units

    shown = number(settings, 1)
    whole = number(settings, 0)
    patterns = [
        str(units.format_unit(0, f"digital-{unit}", length="short", locale=settings.babel)) for unit in _BYTE_UNITS
    ]
    zero = str(whole(0))

    def apply(value: Data) -> str:
        size = Decimal(number_of(value, "bytesize"))
        unit = 0
        while abs(size) >= Decimal("999.95") and unit < len(_BYTE_UNITS) - 1:
            size, unit = size / 1000, unit + 1
        figures = shown(size) if unit and abs(size) < 100 else whole(size)
        return patterns[unit].replace(zero, str(figures), 1)

    return apply


def round_(settings: Settings, decimals: int = 0) -> Apply:
    """Rounds a number half up to `decimals`, to compute with: an invoice adds rounded lines."""
    unit = Decimal(1).scaleb(-(_decimals(decimals, "round") or 0))
    return lambda value: _ROUNDING.quantize(Decimal(number_of(value, "round")), unit)


def padded_digits(settings: Settings, size: int) -> Apply:
    """Writes a whole number with zeros before it, so that it has at least `size` digits."""
    least = whole_number(size, 1, LARGEST_EXPONENT) if kind(size) == "number" else None
    if least is None:
        raise FieldError(f"digits takes a whole number from 1 to {LARGEST_EXPONENT}")

    def apply(value: Data) -> str:
        number = number_of(value, "digits")
        if number != (made := int(number)):
            raise FieldError("digits takes a whole number, and this one has decimals")
        return f"{'-' * (made < 0)}{abs(made):0{least}}"

    return apply


def decimal(settings: Settings, locale: str | None = None) -> Apply:
    """Reads a text, as tables have it, as a number; with a `locale`, as that locale writes numbers."""
    if locale is None:
        return lambda value: number_of(value, "decimal")
    name = text_of(locale, "decimal")
    if not is_locale(name):
        raise FieldError(f'decimal: "{name[:40]}" is no locale that is known', hint='one is written "de" or "en_GB"')
    read = number_reader(Settings.checked(name, settings.timezone), "decimal")

    def apply(value: Data) -> Decimal | int:
        value = canonical(value)
        return read(value) if isinstance(value, str) else number_of(value, "decimal")

    return apply


def plural(
    settings: Settings,
    *,
    other: str,
    one: str | None = None,
    zero: str | None = None,
    two: str | None = None,
    few: str | None = None,
    many: str | None = None,
) -> Apply:
    """Chooses the word that goes with a number, by the plural categories of the locale (CLDR); gives the word alone."""
    words = {"zero": zero, "one": one, "two": two, "few": few, "many": many}
    category = settings.babel.plural_form

    def apply(value: Data) -> str:
        word = words.get(category(number_of(value, "plural")))
        return text_of(other if word is None else word, "plural")

    of_count = lru_cache(_MOST_KEPT)(apply)
    return lambda value: of_count(value) if value.__class__ is int and 0 <= value < _MOST_KEPT else apply(value)
