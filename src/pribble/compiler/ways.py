"""The functions that show a value in a context: one for what is a text already, one for any value."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache
from typing import Any

from pribble.compiler import saying
from pribble.markup import fragments
from pribble.markup.contexts import Context
from pribble.values import escaping, json, showing, styles, urls
from pribble.values.fit import Fragment

ForText = Callable[[str], str]
ForAny = Callable[[Any], Any]


def _text_only(show: ForText) -> tuple[ForText, ForAny]:
    return show, showing.by_text(show)


_WAYS: dict[str, tuple[ForText, ForAny]] = {
    "markup": (escaping.markup, showing.show_markup),
    "plain": (escaping.plain_text, showing.show_plain),
    "event": (escaping.plain_text, saying.show_event),
    "inline": (saying.inline_text, saying.show_inline),
    "line": (escaping.one_line, showing.show_line),
    "address": (urls.whole, showing.show_address),
    "segment": (urls.segment, showing.show_segment),
    "piece": (urls.encoded, showing.show_encoded),
    "query": (urls.encoded, showing.show_encoded),
    "field": (urls.field, showing.show_field),
    "json": (showing.show_json, showing.show_json),
    "characters": _text_only(lambda text: json.characters(escaping.characters(text))),
    "base": _text_only(urls.base),
    "stem": _text_only(urls.stem),
    "host": _text_only(urls.host),
    "label": _text_only(urls.label),
    "mailbox": _text_only(urls.mailboxes),
    "body": _text_only(urls.body),
    "telephone": _text_only(urls.telephone),
    "digits": _text_only(urls.digits),
    "css": _text_only(styles.declaration),
    "font": _text_only(styles.font),
    "string": _text_only(styles.string),
}
_WRAPPINGS: dict[str, ForText] = {
    "attribute": escaping.markup,
    "function": urls.in_function,
    "candidates": urls.in_candidates,
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
