"""The formatters that make markup: ``html`` says that a value is markup to be trusted, ``table`` shows records.

Both stand between tags only.  Trusted or not, markup must be whole: it may close only what it opened, and
nothing in it may reach out into the page.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from pribble.errors import FieldError
from pribble.markup.fragments import whole
from pribble.values.counting import Turns, counted, together
from pribble.values.escaping import markup
from pribble.values.fit import Fragment
from pribble.values.kinds import kind, named, plain
from pribble.values.lookup import MISSING, field, names
from pribble.values.numbers import Apply, text_of
from pribble.values.settings import Settings
from pribble.values.showing import text as shown


def html(settings: Settings) -> Apply:
    """A text that is markup, trusted and whole; shown as it is between tags, and as its plain text says in the text."""
    return lambda value: fragment(text_of(value, "html"))


def fragment(text: str) -> Fragment:
    """A text as markup; raises `UnsafeValue` where it would reach out into the page around it."""
    closed = whole(text)
    return Fragment.of(closed, closed, trusted=True)


# No table that a message could hold is longer.
_LONGEST_TABLE = 5_000_000
_CELL = "padding:4px 8px;border-bottom:1px solid #cccccc;text-align:"


def table(settings: Settings) -> Apply:
    """A list of records, or a DataFrame, as a table that mail programs show; numbers to the right."""

    def apply(value: Any, turns: Turns) -> Fragment:
        columns, rows = _rows(value, turns)
        right = [
            bool(rows) and all(kind(plain(row[n])) in ("number", "nothing", "none") for row in rows)
            for n in range(len(columns))
        ]
        made = together(_pieces(columns, rows, right), "table", _LONGEST_TABLE)
        return Fragment.of(made, made, trusted=True)

    return apply


def _pieces(columns: list[Any], rows: list[list[Any]], right: list[bool]) -> Iterator[str]:
    yield '<table cellpadding="0" cellspacing="0" border="0" style="border-collapse:collapse"><thead><tr>'
    yield from (_cell("th", str(name), right[n]) for n, name in enumerate(columns))
    yield "</tr></thead><tbody>"
    for row in rows:
        yield "<tr>"
        yield from (_cell("td", _shown(cell), right[n]) for n, cell in enumerate(row))
        yield "</tr>"
    yield "</tbody></table>"


def _cell(tag: str, text: str, right: bool) -> str:
    side = "right" if right else "left"
    return f'<{tag} align="{side}" style="{_CELL}{side}">{markup(text)}</{tag}>'


def _shown(value: Any) -> str:
    return "" if plain(value) is None else shown(value)


def _rows(value: Any, turns: Turns) -> tuple[list[Any], list[list[Any]]]:
    """The names of the columns and the rows of a DataFrame or a list of records; each cell counts."""
    if type(value).__module__.partition(".")[0] == "pandas" and hasattr(value, "columns"):
        counted(turns, int(value.size))
        filled = value.astype(object).where(value.notna(), None)
        return list(value.columns), [list(row) for row in filled.itertuples(index=False, name=None)]
    listed = plain(value)
    if kind(listed) != "list" or any(kind(plain(record)) != "record" for record in listed):
        given = "a list with other things in it" if kind(listed) == "list" else named(listed)
        raise FieldError(f"table takes a list of records, not {given}")
    columns = list(dict.fromkeys(name for record in listed for name in names(record)))
    counted(turns, len(columns) * len(listed))
    return columns, [[_of(record, name) for name in columns] for record in listed]


def _of(record: Mapping[str, Any], name: str) -> Any:
    found = field(record, name)
    return None if found is MISSING else found


MARKUP_FORMATTERS = {"html": html, "table": table}
