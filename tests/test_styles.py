"""Styles: the cascade of a browser is the judge of what is written into the elements."""

from __future__ import annotations

from typing import Any

from tests.support import ROOT, chromium

PAGES = sorted((ROOT / "tests/data/pages").glob("*.html"))

# The computed style of the body and all in it, and of html, in several states of the reader.
_MEASURE = """
const all = [document.documentElement, document.body, ...document.body.querySelectorAll('*')]
  .filter(e => !e.closest('style, script, #judge'));
return all.map(e => { const s = getComputedStyle(e), m = {}; for (const name of s) m[name] = s.getPropertyValue(name);
  return [e.localName, m]; });
"""


def measured(pages: dict[str, str]) -> Any:
    """For each page, by its name, the computed styles in each state: wide, narrow, dark, print, hover, focus, active."""
    return chromium.computed_styles(pages, _MEASURE)


def differences(one: Any, other: Any) -> list[str]:
    """What is computed differently."""
    found = []
    for state in one:
        before, after = one[state], other[state]
        if [name for name, _ in before] != [name for name, _ in after]:
            return [f"{state}: other elements"]
        for index, ((name, first), (_, second)) in enumerate(zip(before, after, strict=True)):
            found += [
                f"{state}: <{name}> number {index}: {key} is {second.get(key)}, was {value}"
                for key, value in first.items()
                if second.get(key) != value
            ]
    return found
