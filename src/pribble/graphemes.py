"""What a reader takes for one character (the cases of UAX 29 that matter for not tearing text)."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator


def belongs(cluster: str, character: str) -> bool:
    """Whether `character` continues `cluster`: a mark, a joiner, a skin tone, the second half of a flag."""
    if character < "\u0300":
        return False
    if unicodedata.category(character) in ("Mn", "Me", "Mc") or character == "\u200d":
        return True
    if "\U0001f3fb" <= character <= "\U0001f3ff" or cluster[-1] == "\u200d":
        return True
    flags = "\U0001f1e6" <= character <= "\U0001f1ff"
    return flags and len(cluster) == 1 and "\U0001f1e6" <= cluster <= "\U0001f1ff"


def graphemes(text: str) -> Iterator[str]:
    """The characters of `text` as a reader counts them."""
    cluster = ""
    for character in text:
        if cluster and not belongs(cluster, character):
            yield cluster
            cluster = ""
        cluster += character
    if cluster:
        yield cluster
