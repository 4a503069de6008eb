"""Showing a text fit for its place: between tags, in a quoted attribute, in a subject, in plain text.

What a value must not do anywhere is change the structure around it; what it cannot do in a place it is
refused for, with an `UnsafeValue` that says why.
"""

from __future__ import annotations

import unicodedata

import markupsafe

from pribble.errors import UnsafeValue
from pribble.regexes import regex

# Control characters but tab and line breaks (nothing shows them), and the bidirectional overrides, which
# make text read as what it is not.
_UNSHOWN = "\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\u202a-\u202e"
_DROPPED = regex(f"[{_UNSHOWN}]")
_SURROGATE = regex("[\ud800-\udfff]")
_SPECIAL = regex(f"[&<>\"'{_UNSHOWN}\ud800-\udfff]")
_UNPLAIN = regex(f"[{_UNSHOWN}\ud800-\udfff]")
_UNFIT_FOR_A_LINE = regex(f"[{_UNSHOWN}\u2066-\u2069\ud800-\udfff]")  # isolates too, which a list of mails mixes
_SPACES = regex(r"\s+")


# Finds what `markup` changes.
find_special = _SPECIAL.search


def markup(text: str) -> str:
    """Returns `text` between tags or in a quoted attribute: ``& < > " '`` as references, control characters dropped."""
    if _SPECIAL.search(text) is None:
        return text
    return str(markupsafe.escape(plain_characters(text)))


def is_harmless(text: str) -> bool:
    """Returns whether `markup` leaves `text` as it is."""
    return _SPECIAL.search(text) is None


def plain_characters(text: str) -> str:
    """Returns `text` in the plain-text part: control characters and bidirectional overrides dropped."""
    if _UNPLAIN.search(text) is None:
        return text
    return _DROPPED.sub("", checked_characters(text))


def one_line(text: str) -> str:
    """Returns `text` in a subject or preheader: every run of white space is one space, nothing else unseen is let
    in."""
    if text.isprintable() and "  " not in text:
        return text
    text = _SPACES.sub(" ", text)
    if found := _UNFIT_FOR_A_LINE.search(text):
        raise UnsafeValue(f"U+{ord(found[0]):04X} at position {found.start()} may not stand in a subject")
    return text


def is_seen(text: str) -> bool:
    """Returns whether a reader sees anything of `text`: more than spaces and characters without a form."""
    return any(unicodedata.category(character) not in ("Zs", "Zl", "Zp", "Cc", "Cf", "Cs") for character in text)


_DASHES = regex("--+|^-|-$")


def in_comment(shown: str) -> str:
    """Returns markup within a conditional comment: no dashes in a row, nor one that could join what stands beside
    it."""
    if "-" not in shown:
        return shown
    if "<!--" in shown:
        raise UnsafeValue("markup that holds a comment may not stand within a conditional comment")
    return _DASHES.sub(
        lambda run: ("-" if run.start() and len(run[0]) > 1 else "&#45;") + "&#45;" * (len(run[0]) - 1), shown
    )


def in_raw_text(shown: str) -> str:
    """Returns text of a style sheet or script within a conditional comment, where a dash cannot be written
    otherwise."""
    if "--" in shown:
        raise UnsafeValue('"--" may not stand in a style sheet or script within a conditional comment')
    return shown


def at_an_edge(shown: str) -> str:
    """Returns the same beside a dash, or beside another value."""
    if shown.startswith("-") or shown.endswith("-"):
        raise UnsafeValue("a dash beside another may not stand in a style sheet within a conditional comment")
    return in_raw_text(shown)


def checked_characters(text: str) -> str:
    """`text`, if it is made of characters; raises `UnsafeValue` for a lone surrogate."""
    if found := _SURROGATE.search(text):
        raise UnsafeValue(f"a lone surrogate U+{ord(found[0]):04X} at position {found.start()} is no character")
    return text
