"""Renderings that say where each stretch of them comes from: a template's programs that trace, run once."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from pribble.compiler.formatter_results import FORMATTER_RESULTS, POINTED, FormatterResults
from pribble.rendering.traced import TracedPieces, TracedRendering, run_traced
from pribble.rendering.traced_words import WordKey, words_in_text
from pribble.template import Template
from pribble.values.kinds import Data


def trace(template: Template, data: Data, *, locale: str | None = None, timezone: str | None = None) -> TracedRendering:
    """Returns a template filled with `data`, and of each stretch of it which mark shows it, in which turn of a loop and
    from which data.

    The arguments are those of `Template.render`, and so are the errors.  The programs that trace are compiled when they
    are first asked for; others pay nothing for them.
    """
    rendering = template.render(data, locale=locale, timezone=timezone)
    variants = template.variants
    traced, settings = variants.traced(locale), variants.settings_in(timezone)
    with _rendering_once_more():
        return run_traced(traced, rendering, settings, template.folder.world, data)


def trace_derived_text(
    template: Template, data: Data, expected: str, *, locale: str | None = None, timezone: str | None = None
) -> Mapping[WordKey, tuple[int, int]]:
    """Returns where in the derived plain text, `expected`, the words of the page stand, by where they come from.

    The arguments are those of `Template.render`.  Nothing where the text is written by hand.
    """
    variants = template.variants
    compiled = variants.compiled(locale)
    if not template.is_page or any(mark.extracted and mark.extracted.kind == "text" for mark in compiled.linked.marks):
        return {}
    program = variants.traced_text(locale)
    with _rendering_once_more():
        pieces, made = program.bound(variants.settings_in(timezone), template.folder.world)(data)
    page = TracedPieces(pieces, made, program.sites, compiled.linked).as_written()
    return words_in_text(page, variants.late_styler(compiled).plain_text, expected)


@contextmanager
def _rendering_once_more() -> Iterator[None]:
    """A rendering of its own: formatters of an application are called again, and what is noted of numbers is known."""
    noting, issuing = POINTED.set({}), FORMATTER_RESULTS.set(FormatterResults())
    try:
        yield
    finally:
        POINTED.reset(noting)
        FORMATTER_RESULTS.reset(issuing)
