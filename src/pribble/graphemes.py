"""Characters as a reader counts them (the cases of UAX 29 that matter for not tearing text), and how wide text is."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator

from pribble.regexes import regex


def belongs(cluster: str, character: str) -> bool:
    """Returns whether `character` continues `cluster`: a mark, a joiner, a skin tone, the second half of a flag."""
    if character < "\u0300":
        return False
    if unicodedata.category(character) in ("Mn", "Me", "Mc") or character == "\u200d":
        return True
    if "\U0001f3fb" <= character <= "\U0001f3ff" or cluster[-1] == "\u200d":
        return True
    flags = "\U0001f1e6" <= character <= "\U0001f1ff"
    return flags and len(cluster) == 1 and "\U0001f1e6" <= cluster <= "\U0001f1ff"


def graphemes(text: str) -> Iterator[str]:
    """Yields the characters of `text` as a reader counts them."""
    cluster = ""
    for character in text:
        if cluster and not belongs(cluster, character):
            yield cluster
            cluster = ""
        cluster += character
    if cluster:
        yield cluster


# A pair of regional indicators is one flag.  The package that knows widths counts them back from each: their square.
_FLAG = regex("[\U0001f1e6-\U0001f1ff]{2}")
_AS_WIDE = "\U0001f44d"  # to which the same can be joined as to a flag


def column_count(text: str) -> int | None:
    """Returns the columns that `text` takes, by the widths of Unicode (UAX 11); None for one with control
    characters."""
    if text.isascii():
        return len(text) if text.isprintable() else None
    from wcwidth import wcswidth  # loaded when first needed

    width = int(wcswidth(_FLAG.sub(_AS_WIDE, text)))
    return width if width >= 0 else None
