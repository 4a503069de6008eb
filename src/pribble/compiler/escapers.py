"""The functions that show a value in a context: one for what is a text already, one for any value."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache

from pribble.markup import fragments
from pribble.markup.contexts import Context
from pribble.passes import text_values
from pribble.values import css_values, escaping, json_values, showing, url_values
from pribble.values.kinds import Data
from pribble.values.safe_text import Fragment

TextEscaper = Callable[[str], str]
ValueEscaper = Callable[[Data], Data]


def _text_only(show: TextEscaper) -> tuple[TextEscaper, ValueEscaper]:
    return show, showing.by_text(show)


_ESCAPERS: dict[str, tuple[TextEscaper, ValueEscaper]] = {
    "markup": (escaping.markup, showing.show_markup),
    "plain": (escaping.plain_characters, showing.show_plain),
    "event": (escaping.plain_characters, text_values.show_event),
    "inline": (text_values.inline_text, text_values.show_inline),
    "line": (escaping.one_line, showing.show_line),
    "address": (url_values.whole_address, showing.show_address),
    "segment": (url_values.segment, showing.show_segment),
    "piece": (url_values.percent_encode, showing.show_encoded),
    "query": (url_values.percent_encode, showing.show_encoded),
    "field": (url_values.mailto_field, showing.show_field),
    "json": (showing.show_json, showing.show_json),
    "characters": _text_only(lambda text: json_values.json_characters(escaping.checked_characters(text))),
    "base": _text_only(url_values.base),
    "stem": _text_only(url_values.stem),
    "host": _text_only(url_values.host),
    "label": _text_only(url_values.label),
    "mailbox": _text_only(url_values.mailboxes),
    "body": _text_only(url_values.body),
    "telephone": _text_only(url_values.telephone),
    "digits": _text_only(url_values.telephone_digits),
    "css": _text_only(css_values.declaration),
    "font": _text_only(css_values.font),
    "string": _text_only(css_values.string),
}
_WRAPPERS: dict[str, TextEscaper] = {
    "attribute": escaping.markup,
    "function": url_values.in_function,
    "candidates": url_values.in_candidates,
    "comment": escaping.in_comment,
    "raw": escaping.in_raw_text,
    "edge": escaping.at_an_edge,
}


@lru_cache(maxsize=1024)
def escapers(context: Context) -> tuple[TextEscaper, ValueEscaper]:
    """Returns the functions for `context`."""
    if context == Context("plain", ("attribute",)):
        return escaping.markup, showing.show_attribute
    for_text, for_any = _ESCAPERS[context.escaper]
    if context.enclosing:
        for_any = _fitting(for_any, context.enclosing)
    for wrapping in context.wrappers:
        wrap = _WRAPPERS[wrapping]
        for_text, for_any = _chain(for_text, wrap), _chain(for_any, wrap)
    return for_text, for_any


@lru_cache(maxsize=256)
def wrapper(within: tuple[str, ...]) -> TextEscaper:
    """Returns the function for what is shown already, but for what it stands in."""
    wrap: TextEscaper = str
    for name in within:
        wrap = _chain(wrap, _WRAPPERS[name])
    return wrap


def _chain(first: Callable[[Data], str], second: TextEscaper) -> Callable[[Data], str]:
    return lambda value: second(first(value))


def _fitting(show: ValueEscaper, around: tuple[str, ...]) -> ValueEscaper:
    """Returns `show`, for a place where a fragment of markup could close what stands around it."""

    def shown(value: Data) -> Data:
        if isinstance(value, Fragment) and value.trusted:
            fragments.check_within(value.markup, around)
        return show(value)

    return shown
