"""Values in style sheets (CSS Syntax 3): what a declaration's value, a font family and a string accept."""

from __future__ import annotations

import re

from pribble.errors import UnsafeValue
from pribble.regexes import regex

_DECLARATION = regex(r"[A-Za-z0-9#%., +/_()-]*")
_FONTS = regex(r"(?:[A-Za-z0-9#%., +/_-]|\"[\w ,.&+/-]*\"|'[\w ,.&+/-]*')*")
_BRACKET = regex(r"[A-Za-z0-9_-]+\(?|[()]")
FUNCTIONS = frozenset("rgb rgba hsl hsla calc min max clamp var".split())
_KEPT = regex(r"[^\w .,:;!?+*/=@$%^|~-]|[\x00-\x1f\x7f-\x9f\u202a-\u202e\ud800-\udfff]")


def declaration(text: str) -> str:
    """Returns the value of a declaration, or a piece of it: ``#036``, ``12px``, ``1px solid red``, ``rgb(0, 51,
    102)``."""
    text = _accepted(_DECLARATION, text)
    _check_functions(text)
    return text


def font(text: str) -> str:
    """Returns font families: a declaration's value that may hold names in quotes."""
    return _accepted(_FONTS, text)


def _accepted(pattern: re.Pattern[str], text: str) -> str:
    """Returns `text`, if `pattern`, which may match nothing, matches all of it."""
    text = text.strip()
    found = pattern.match(text)
    assert found is not None
    if found.end() < len(text):
        raise _unsafe(text, found.end())
    return text


def _check_functions(text: str) -> None:
    depth = 0
    for found in _BRACKET.finditer(text):
        name, bracket = found[0][:-1], found[0][-1]
        depth += (bracket == "(") - (bracket == ")")
        if depth < 0:
            raise UnsafeValue('a ")" in a style closes nothing')
        if bracket == "(" and name.lower() not in FUNCTIONS and (name or depth == 1):
            name = f"{name}()" if name else 'a bare "("'
            raise UnsafeValue(
                f"{name} may not come from data into a style", hint=f"functions are {', '.join(sorted(FUNCTIONS))}"
            )
    if depth:
        raise UnsafeValue('a "(" in a style is not closed')


def _unsafe(text: str, position: int) -> UnsafeValue:
    character = text[position]
    shown = f'"{character}"' if character.isprintable() else f"U+{ord(character):04X}"
    return UnsafeValue(
        f"{shown} at position {position} may not come from data into a style",
        hint="it may hold letters, digits and # % . , + - / _ ( )",
    )


def string(text: str) -> str:
    """Returns a text in a CSS string: what means something in CSS or HTML is written as an escape."""
    return _KEPT.sub(_escaped, text)


def _escaped(found: re.Match[str]) -> str:
    code = ord(found[0])
    if 0xD800 <= code <= 0xDFFF:
        raise UnsafeValue(f"a lone surrogate at position {found.start()} is no character")
    if 0x202A <= code <= 0x202E or (code < 0x20 and code not in (9, 10, 13)) or 0x7F <= code <= 0x9F:
        return ""  # nothing shows them
    return f"\\{code:x} "
