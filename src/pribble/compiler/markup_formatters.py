"""The formatters that make markup: ``html`` says that a value is markup to be trusted, ``table`` (`tabular.py`) shows
records.

Both stand between tags only.  Trusted or not, markup must be whole: it may close only what it opened, and
nothing in it may reach out into the page.
"""

from __future__ import annotations

from pribble.compiler.table_formatter import table
from pribble.markup.fragments import close_fragment
from pribble.values.numbers import Apply, text_of
from pribble.values.safe_text import Fragment
from pribble.values.settings import Settings


def html(settings: Settings) -> Apply:
    """A text that is markup, trusted and whole; shown as it is between tags, and as its plain text says in the text."""
    return lambda value: fragment(text_of(value, "html"))


def fragment(text: str) -> Fragment:
    """A text as markup; raises `UnsafeValue` where it would reach out into the page around it."""
    closed = close_fragment(text)
    return Fragment.of(closed, closed, trusted=True)


MARKUP_FORMATTERS = {"html": html, "table": table}
