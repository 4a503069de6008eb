"""What an author perhaps meant as a mark and is none: half a mark, or one in the brackets of another notation.

It is text, and stays as it is; but who reads the message would wonder, so it is a finding.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice

from pribble.findings import MOST_OF_A_RULE, Finding
from pribble.language.linked_source import LinkedSource
from pribble.regexes import regex

# Comments, style sheets and scripts have brackets of their own.
_OWN = regex(r"<(?:(?P<comment>!--)|(?P<style>style)(?=[\s/>])|(?P<script>script)(?=[\s/>]))", re.IGNORECASE)
_ENDS = {name: regex(end, re.IGNORECASE) for name, end in (("style", "</style"), ("script", "</script"))}
_ENDS["comment"] = regex("-->")
_NAME = r"[^\W\d][\w.\-]{0,60}"
# What stands in them is of one line, and no mark.
_REST = r"[^\n{end}\U000f0000-\U0010ffff]{{0,100}}"
_BRACKETS = (
    (r"\{%", "%", r"%\}"),
    (r"(?:<|&lt;)%", "%", r"%(?:>|&gt;)"),
    (r"\[%", "%", r"%\]"),
    (r"\[\[", r"\[\]", r"\]\]"),
    (r"\*\|", "|", r"\|\*"),
    (r"[$#@%]\{", "{}", r"\}"),
    (r"\{[#/]", "{}", r"\}"),
    (r"(?:<<|&lt;&lt;)", "<>&", r"(?:>>|&gt;&gt;)"),
)
_FOREIGN = "|".join(
    (
        *(rf"{opens}[\s=:$@#.-]{{0,4}}{_NAME}{_REST.format(end=end)}{closes}" for opens, end, closes in _BRACKETS),
        rf"\{{\s?[$!@#]?{_NAME}\s?[!#]?\}}(?!\}})",
        r"(?<![\w%])%%?[^\W\d]\w{2,40}%%?(?!\w)",
    )
)
_STRAY = regex(rf"(?P<foreign>{_FOREIGN})|(?P<half>\{{\s?{_NAME}\s?\}}\}})|\}}\}}")
_FIRST = regex(_NAME)
_BLOCKS = frozenset("if for foreach each unless else elif elseif elsif end endif endfor".split())


def find_stray_marks(linked: LinkedSource, *, html: bool = True) -> Iterator[Finding]:
    """Yields what looks like a mark and is none, of a page and of what was taken out of it; of a text with `html`
    off."""
    for one in linked.with_extracted:
        yield from islice(_find(one, html), MOST_OF_A_RULE)


def _find(linked: LinkedSource, html: bool) -> Iterator[Finding]:
    for start, end in _looked_at(linked.text) if html else ((0, len(linked.text)),):
        for found in _STRAY.finditer(linked.text, start, end):
            message, fix = _finding(found)
            place = linked.place(found.start(), found.end())
            yield Finding("placeholder.left", "warning", place, message, fix, "Pribble, docs/language.md")


def _looked_at(text: str) -> Iterator[tuple[int, int]]:
    """Yields the stretches of a page outside comments, style sheets and scripts."""
    position = 0
    while own := _OWN.search(text, position):
        yield position, own.start()
        end = _ENDS[str(own.lastgroup)].search(text, own.end())
        if end is None:
            return
        position = end.end()
    yield position, len(text)


def _finding(found: re.Match[str]) -> tuple[str, str]:
    written = " ".join(found[0].replace("&lt;", "<").replace("&gt;", ">").split())
    name = _FIRST.search(written)
    as_it_is = f"{{{{ '{written}' }}}} shows it as it is" if "'" not in written else ""
    if found["foreign"] is None and name is None:
        return '"}}" closes no mark', f"write {{{{ where the mark begins; {as_it_is}"
    meant = f"write {{{{ {name[0] if name else '…'} }}}}"
    if name and name[0].lower() in _BLOCKS:
        meant = "a block is written {{ if paid: }} … {{ :if }}"
    return (
        f"{written} is no mark" if found["foreign"] else f"{written} is half a mark",
        f"{meant}; {as_it_is}" if as_it_is else meant,
    )
