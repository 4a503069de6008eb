"""Character references in text and attribute values (WHATWG HTML 13.2.5.72 to 13.2.5.80)."""

from __future__ import annotations

import html
import re
from html.entities import html5

from pribble.regexes import regex

# What may be a character reference: a pattern.
REFERENCE = r"&(?:#[xX][0-9a-fA-F]+;?|#[0-9]+;?|[A-Za-z][A-Za-z0-9]*;?)"
_REFERENCE = regex(REFERENCE)
_LONGEST = max(map(len, html5))
_MOST_DIGITS = 7  # U+10FFFF is 1114111
_UNFINISHED = regex(r"&(?:#[xX]?[0-9a-fA-F]*|[A-Za-z0-9]*)\Z")


def decode_references(text: str, *, attribute: bool = False) -> str:
    """Returns `text` with its references replaced by what they stand for.

    In an attribute, a name without its semicolon stands for itself where ``=`` or a letter follows, so that
    ``?a=1&copy=2`` is no copyright sign.
    """
    if "&" not in text:
        return text
    return _REFERENCE.sub(lambda found: _meant(found, attribute), text)


def has_unfinished_reference(text: str, end: int) -> int:
    """Returns where a reference begins that what follows `end` could go on with; `end` where there is none."""
    found = _UNFINISHED.search(text, max(0, end - _LONGEST), end)
    return found.start() if found else end


def _meant(found: re.Match[str], attribute: bool) -> str:
    written = found[0]
    if written[1] == "#":
        # A reference may not smuggle in what stands for a mark in a linked source, nor what is no character.
        base, digits = ("x", written[3:]) if written[2] in "xX" else ("", written[2:])
        digits = digits.rstrip(";").lstrip("0") or "0"
        if len(digits) > _MOST_DIGITS:
            return "\ufffd"
        character = html.unescape(f"&#{base}{digits};")
        return "\ufffd" if character >= "\U000f0000" else character
    name = written[1:]
    if name in html5 and name.endswith(";"):
        return html5[name]
    for length in range(min(len(name), _LONGEST), 1, -1):
        if (value := html5.get(name[:length])) is None:
            continue
        rest = name[length:]
        following = rest[:1] or found.string[found.end() : found.end() + 1]
        if attribute and (following == "=" or (following.isalnum() and following.isascii())):
            return written
        return value + rest
    return written
