"""The formatters that make markup: ``html`` says that a value is markup to be trusted, ``table`` shows
records.

Both stand between tags only.  Trusted or not, markup must be whole: it may close only what it opened, and
nothing in it may reach out into the page.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal
from itertools import groupby

from pribble.errors import FieldError, did_you_mean
from pribble.markup.fragments import close_fragment
from pribble.records import record, replace
from pribble.values import dates, numbers
from pribble.values.counting import CELL, Turns, count_items, join_counted
from pribble.values.escaping import markup
from pribble.values.formatters import MARKUP, Formatter, by_name
from pribble.values.kinds import NOTHING, AlreadyReported, Data, canonical, is_of_pandas, kind, named
from pribble.values.lookup import MISSING, names, record_field
from pribble.values.numbers import Apply, text_of
from pribble.values.safe_text import Fragment
from pribble.values.settings import Settings
from pribble.values.showing import MOST_BARE_DECIMALS
from pribble.values.showing import text as shown


def html(settings: Settings) -> Apply:
    """Trusts a text as markup, which must be whole: it is shown as it is, and as its own text in the plain text."""
    return lambda value: fragment(text_of(value, "html"))


def fragment(text: str) -> Fragment:
    """Returns a text as markup; raises `UnsafeValue` where it would reach out into the page around it."""
    closed = close_fragment(text)
    return Fragment.of(closed, closed, trusted=True)


# ---- tables -----------------------------------------------------------------------------------------------------

# No table that a message could hold is longer.
_LONGEST = 5_000_000
_CELL = "padding:4px 8px;border-bottom:1px solid #cccccc;text-align:"
_TO_THE_RIGHT = frozenset({"number", "nothing", "none"})
# A flag, in every language.
_FLAGS = {True: "\u2713", False: "\u2013"}

# Shows the cells of a column, given as a list.
PerCell = Callable[[Sequence[Data]], list[Data]]


@record(frozen=True, slots=True)
class _Column:
    """A column: what it is called (a name in several rows of heads, the last its own), its head, its cells and what
    shows them."""

    name: tuple[str, ...]
    head: tuple[str, ...]
    cells: list[Data]
    format: PerCell | None = None

    @property
    def is_right(self) -> bool:
        try:
            return bool(self.cells) and all(kind(canonical(cell)) in _TO_THE_RIGHT for cell in self.cells)
        except FieldError:  # of which its cell tells
            return False


def table(settings: Settings, *, columns: Data = None, heads: Data = None, formats: Data = None) -> Apply:
    """Shows a list of records, or a DataFrame, as a table; numbers stand at the right.

    `columns` are the names of those that are shown, in this order, `heads` what stands above them, and `formats` what
    each cell is shown by, none for the plain way; each is a list as long as there are columns.
    """
    plain_way = _plain_format(settings)

    def apply(value: Data, turns: Turns) -> Fragment:
        found = _of_frame(value) if is_of_pandas(value, "DataFrame") else _of_records(value)
        count_items(turns, sum(len(column.cells) for column in found))
        chosen = _chosen_columns(found, columns)
        for what, given in (("heads", heads), ("formats", formats)):
            if given is not None and (kind(given) != "list" or len(given) != len(chosen)):
                size = f"{len(given)}" if kind(given) == "list" else named(given)
                raise FieldError(
                    f"table has {len(chosen)} columns, and {what} {size}", hint="a list as long as columns"
                )
        if heads is not None:
            chosen = [replace(column, head=(shown(head),)) for column, head in zip(chosen, heads, strict=True)]
        if formats is not None:
            chosen = [replace(column, format=each) for column, each in zip(chosen, formats, strict=True)]
        made = join_counted(_table_pieces(chosen, plain_way), "table", _LONGEST)
        return Fragment.of(made, made, trusted=True)

    return apply


# ---- what is shown --------------------------------------------------------------------------------------------


def _of_records(value: Data) -> list[_Column]:
    listed = canonical(value)
    if kind(listed) != "list":
        raise FieldError(f"table takes a list of records, not {named(listed)}")
    records = [canonical(one) for one in listed]
    for number, one in enumerate(records):
        if kind(one) != "record":
            raise FieldError(f"table takes a list of records, and item {number} is {named(one)}")
    found = dict.fromkeys(name for one in records for name in names(one))
    return [
        _Column((name,), (name,), [None if (cell := record_field(one, name)) is MISSING else cell for one in records])
        for name in found
    ]


def _of_frame(frame: Data) -> list[_Column]:
    """Returns the columns of a DataFrame, before them those of an index that says something."""
    levels = frame.columns.nlevels
    made = []
    index = frame.index
    if any(name is not None for name in index.names) or type(index).__name__ != "RangeIndex":
        for level, name in enumerate(index.names):
            head = "" if name is None else str(name)
            made.append(_Column((head,), ("",) * (levels - 1) + (head,), index.get_level_values(level).tolist()))
    for position, name in enumerate(frame.columns):
        called = tuple(map(str, name)) if isinstance(name, tuple) else (str(name),)
        made.append(_Column(called, called, frame.iloc[:, position].tolist()))
    return made


def _chosen_columns(found: list[_Column], columns: Data) -> list[_Column]:
    if columns is None:
        return found
    if kind(columns) != "list":
        raise FieldError(f"columns is a list of names, not {named(columns)}")
    by_name = {column.name: column for column in found}
    chosen = []
    for given in map(canonical, columns):
        name = tuple(map(shown, given)) if kind(given) == "list" else (shown(given),)
        if name not in by_name:
            known = [" ".join(column.name) for column in found]
            raise FieldError(
                f'table has no column "{" ".join(name)[:60]}"', hint=did_you_mean(" ".join(name)[:60], known)
            )
        chosen.append(by_name[name])
    return chosen


# ---- how it is shown ------------------------------------------------------------------------------------------


def _plain_format(settings: Settings) -> Callable[[Data], str]:
    """Returns how a cell is shown that has no format: texts as they are, numbers with the locale's decimal sign, and at
    most six decimals, days, times and moments in the locale's medium form and the reader's time zone, spans in words,
    flags as a tick or a dash, what is missing as nothing."""
    babel = settings.babel
    point = str(babel.number_symbols["latn"]["decimal"])
    ways: dict[str, Apply] = {
        "day": dates.date(settings),
        "moment": dates.datetime(settings),
        "time": dates.time(settings, "short"),
        "span": dates.duration(settings),
    }
    rounded = numbers.round_(settings, MOST_BARE_DECIMALS)

    def way(value: Data) -> str:
        is_float = isinstance(value, float)
        value = canonical(value)
        if value is None or value is NOTHING:
            return ""
        if isinstance(value, bool):
            return _FLAGS[value]
        if isinstance(value, Decimal):
            exponent = value.as_tuple().exponent
            is_long = is_float or (isinstance(exponent, int) and -exponent > MOST_BARE_DECIMALS)
            return shown(_without_zeros(rounded(value)) if is_long else value).replace(".", point)
        known = ways.get(kind(value))
        return shown(value) if known is None else str(known(value))

    return way


def _without_zeros(number: Decimal) -> Decimal:
    return number.quantize(Decimal(1)) if number == number.to_integral_value() else number.normalize()


def _table_pieces(columns: list[_Column], plain_way: Callable[[Data], str]) -> Iterator[str]:
    right = [column.is_right for column in columns]
    yield '<table cellpadding="0" cellspacing="0" border="0" style="border-collapse:collapse"><thead>'
    yield from _heads(columns, right)
    yield "</thead><tbody>"
    for number in range(len(columns[0].cells) if columns else 0):
        yield "<tr>"
        for column, is_right in zip(columns, right, strict=True):
            yield _cell_tag("td", _cell_markup(column, number, plain_way), is_right)
        yield "</tr>"
    yield "</tbody></table>"


def _heads(columns: list[_Column], right: list[bool]) -> Iterator[str]:
    """Yields the rows of heads: in all but the last, what several columns share stands once above them."""
    rows = max((len(column.head) for column in columns), default=1)
    for row in range(rows):
        yield "<tr>"
        is_last, position = row + 1 == rows, 0
        # In the last row each column has its own.
        shared = [(column.head[: row + 1], number * is_last) for number, column in enumerate(columns)]
        for (head, _), same in groupby(shared):
            size = sum(1 for _ in same)
            yield _cell_tag("th", markup(head[row] if row < len(head) else ""), right[position] and is_last, size)
            position += size
        yield "</tr>"


def _cell_markup(column: _Column, number: int, plain_way: Callable[[Data], str]) -> str:
    """Returns a cell as markup; what is wrong with it names its row and column."""
    cell, where = column.cells[number], f'row {number + 1}, column "{" ".join(column.name)}"'
    try:
        if column.format is None or canonical(cell) is None:
            return markup(plain_way(cell))
        told = CELL.set(where)
        try:
            made = column.format([cell])[0]
        finally:
            CELL.reset(told)
        return made.markup if isinstance(made, Fragment) else markup(shown(made))
    except AlreadyReported:
        return ""
    except FieldError as error:
        raise FieldError(f"{where}: {error.problem}", hint=error.hint) from None


def _cell_tag(tag: str, content: str, right: bool, width: int = 1) -> str:
    side = "center" if width > 1 else "right" if right else "left"
    span = f' colspan="{width}"' if width > 1 else ""
    return f'<{tag} align="{side}"{span} style="{_CELL}{side}">{content}</{tag}>'


MARKUP_FORMATTERS = by_name(
    [
        Formatter("html", html, MARKUP, takes="text", gives="markup", brings=frozenset({"*"})),
        Formatter(
            "table",
            table,
            MARKUP,
            takes="list",
            gives="markup",
            cell_formats="formats",
            brings=frozenset("table thead tbody tr th td".split()),
            walks="items",
            counts=True,
        ),
    ]
)
