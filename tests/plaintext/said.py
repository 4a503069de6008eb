"""Whether a plain text says what a page shows: a browser is asked for its visible words."""

from __future__ import annotations

import itertools
import re
import unicodedata
from collections import Counter
from urllib.parse import unquote

from pribble import plain_text
from pribble.plaintext.line_breaking import terminal_columns
from tests.chromium import Browser, shown

_UNSEEN = dict.fromkeys(map(ord, "\u00ad\u200b\u2060\ufeff\u034f\x1f"))
_SILENT = ("#", "javascript:", "cid:", "data:")
# What binds words, so that a line may have to be longer.
_BOUND = re.compile(r"white-space|<pre|&nbsp;|\u00a0|nowrap|\u202f")


def numbered(html: str) -> str:
    """A page in which each "word" is another one."""
    count = itertools.count(100)
    return re.sub(r"\bword\b", lambda _: f"w{next(count)}w", html)


def squeezed(text: str) -> str:
    return "".join(unicodedata.normalize("NFKC", text.translate(_UNSEEN)).split())


def complaint(page: Browser, html: str) -> str | None:
    """Why the plain text of a page does not say what the page shows; None where it does."""
    html = numbered(html)
    visible, links = shown(page, html)
    text = plain_text(html, width=10_000)
    return words_lacking(visible, text, html) or links_lacking(links, text) or too_wide(html)


def words_lacking(visible: str, text: str, html: str) -> str | None:
    said = squeezed(re.sub("(?m)^(?:[ ]*(?:-|(?:-?[0-9]{1,3}|[a-z]|[ivxlcIVXLC]{1,5})[.]) )+|^>+", "", text))
    words = [squeezed(word) for word in visible.split()]
    # A table of data has its foot at its end, and may be read as records.
    if re.search("<t[hf]|<caption", html):
        for word, times in Counter(filter(None, words)).items():
            if said.count(word) < times and not spread(word, said, 0):
                return f"{word!r} is not said {times} times: {text!r}"
    else:
        position = 0
        for word in filter(None, words):
            end = follows(word, said, position)
            if not end:
                return f"{word!r} is not said after {said[:position][-40:]!r}: {text!r}\nvisible: {visible!r}"
            position = end
    shown_words = squeezed(visible + " ".join(re.findall(r"(?:alt|href|title)=(?:\"[^\"]*|'[^']*|\S+)", html)))
    for word in re.findall(r"w\d+w", said):
        if word not in shown_words:
            return f"{word!r} is said, and not shown: {text!r}"
    return None


def follows(word: str, said: str, position: int) -> int:
    """Where a word ends that is said from a position on; 0 where it is not.  What has a number is said in one piece."""
    for piece in filter(None, re.split(r"(w\d+w)", word)):
        if re.fullmatch(r"w\d+w", piece):
            found = said.find(piece, position)
            position = found + len(piece) if found >= 0 else 0
        else:
            position = spread(piece, said, position)
        if not position:
            return 0
    return position


def spread(word: str, said: str, position: int) -> int:
    """Where a word ends whose characters are there, with an address or a quotation mark between; 0 where it is not."""
    for character in word:
        position = said.find(character, position) + 1
        if not position:
            return 0
    return position


def links_lacking(links: list[str], text: str) -> str | None:
    said = squeezed(text)
    for link in links:
        address = squeezed(link)
        bare = address.removeprefix("mailto:").removeprefix("tel:").removeprefix("https://").removesuffix("/")
        if (
            not link.strip().lower().startswith(_SILENT)
            and link.strip()
            and not (f"<{address}>" in said or unquote(bare) in unquote(said))
        ):
            return f"{link!r} is not said: {text!r}"
    return None


def too_wide(html: str) -> str | None:
    if not _BOUND.search(html):
        for line in plain_text(html).split("\n"):
            if terminal_columns(line) > 72 and " " in line.strip("> -"):
                return f"{line!r} is too wide"
    return None
