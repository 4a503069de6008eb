"""The formatters that make markup: ``html`` says that a value is markup to be trusted, ``table`` (`tabular.py`) shows
records.

Both stand between tags only.  Trusted or not, markup must be whole: it may close only what it opened, and
nothing in it may reach out into the page.
"""

from __future__ import annotations

from pribble.compiler.table_formatter import table
from pribble.markup.fragments import close_fragment
from pribble.values.formatters import MARKUP, Formatter, by_name
from pribble.values.numbers import Apply, text_of
from pribble.values.safe_text import Fragment
from pribble.values.settings import Settings


def html(settings: Settings) -> Apply:
    """Trusts a text as markup, which must be whole: it is shown as it is, and as its own text in the plain text."""
    return lambda value: fragment(text_of(value, "html"))


def fragment(text: str) -> Fragment:
    """A text as markup; raises `UnsafeValue` where it would reach out into the page around it."""
    closed = close_fragment(text)
    return Fragment.of(closed, closed, trusted=True)


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
