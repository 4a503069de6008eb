"""The functions that show a value in a context: one for what is a text already, one for any value."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

from pribble.markup import fragments
from pribble.markup.contexts import Context
from pribble.passes import text_events
from pribble.values import css_values, escaping, json_values, showing, url_values
from pribble.values.safe_text import Fragment

ForText = Callable[[str], str]
ForAny = Callable[[Any], Any]


def _text_only(show: ForText) -> tuple[ForText, ForAny]:
    return show, showing.by_text(show)


_WAYS: dict[str, tuple[ForText, ForAny]] = {
    "markup": (escaping.markup, showing.show_markup),
    "plain": (escaping.plain_text, showing.show_plain),
    "event": (escaping.plain_text, text_events.show_event),
    "inline": (text_events.inline_text, text_events.show_inline),
    "line": (escaping.one_line, showing.show_line),
    "address": (url_values.whole, showing.show_address),
    "segment": (url_values.segment, showing.show_segment),
    "piece": (url_values.encoded, showing.show_encoded),
    "query": (url_values.encoded, showing.show_encoded),
    "field": (url_values.field, showing.show_field),
    "json": (showing.show_json, showing.show_json),
    "characters": _text_only(lambda text: json_values.characters(escaping.characters(text))),
    "base": _text_only(url_values.base),
    "stem": _text_only(url_values.stem),
    "host": _text_only(url_values.host),
    "label": _text_only(url_values.label),
    "mailbox": _text_only(url_values.mailboxes),
    "body": _text_only(url_values.body),
    "telephone": _text_only(url_values.telephone),
    "digits": _text_only(url_values.digits),
    "css": _text_only(css_values.declaration),
    "font": _text_only(css_values.font),
    "string": _text_only(css_values.string),
}
_WRAPPINGS: dict[str, ForText] = {
    "attribute": escaping.markup,
    "function": url_values.in_function,
    "candidates": url_values.in_candidates,
    "comment": escaping.in_comment,
    "raw": escaping.in_raw_text,
    "edge": escaping.at_an_edge,
}


@lru_cache(maxsize=1024)
def ways(context: Context) -> tuple[ForText, ForAny]:
    """The functions for `context`."""
    if context == Context("plain", ("attribute",)):
        return escaping.markup, showing.show_attribute
    for_text, for_any = _WAYS[context.way]
    if context.around:
        for_any = _fitting(for_any, context.around)
    for wrapping in context.within:
        wrap = _WRAPPINGS[wrapping]
        for_text, for_any = _after(for_text, wrap), _after(for_any, wrap)
    return for_text, for_any


@lru_cache(maxsize=256)
def wrapping(within: tuple[str, ...]) -> ForText:
    """The function for what is shown already, but for what it stands in."""
    wrap: ForText = str
    for name in within:
        wrap = _after(wrap, _WRAPPINGS[name])
    return wrap


def _after(first: Callable[[Any], str], second: ForText) -> Callable[[Any], str]:
    return lambda value: second(first(value))


def _fitting(show: ForAny, around: tuple[str, ...]) -> ForAny:
    """`show`, for a place where a fragment of markup could close what stands around it."""

    def shown(value: Any) -> Any:
        if isinstance(value, Fragment) and value.trusted:
            fragments.check_within(value.markup, around)
        return show(value)

    return shown
