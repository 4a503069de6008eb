"""How many columns of a terminal a text takes."""

from __future__ import annotations

import re

# A pair of regional indicators is one flag.  The package that knows widths counts them back from each: their square.
_FLAG = re.compile("[\U0001f1e6-\U0001f1ff]{2}")
_AS_WIDE = "\U0001f44d"  # to which the same can be joined as to a flag


def column_count(text: str) -> int | None:
    """The columns that `text` takes, by the widths of Unicode (UAX 11); None for one with control characters."""
    if text.isascii():
        return len(text) if text.isprintable() else None
    from wcwidth import wcswidth  # loaded when first needed

    width = int(wcswidth(_FLAG.sub(_AS_WIDE, text)))
    return width if width >= 0 else None
