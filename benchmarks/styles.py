"""Compiling a page of 100 kB with 300 style rules."""

from __future__ import annotations

import html5lib
import tinycss2

from benchmarks.measure import Ratio, compared, doubling, timed
from pribble import Template

_RULES = 300
_PROPERTIES = (
    "color:#14364f",
    "padding:4px 8px",
    "margin:0 0 8px 0",
    "font-size:14px",
    "border-bottom:1px solid #d9d2c3",
)


def sheet() -> str:
    """A style sheet of 300 rules, of many kinds."""
    kinds = (
        ".c{n} {{ {d} }}",
        "td.c{n} {{ {d} }}",
        ".card .c{n} > p {{ {d} }}",
        "#i{n} {{ {d} }}",
        "tr:nth-child(even) .c{n} {{ {d} }}",
        "a.c{n}:hover {{ {d} }}",
        "@media (max-width: 620px) {{ .c{n} {{ {d} }} }}",
    )
    rules = [
        kinds[n % len(kinds)].format(n=n % 60, d="; ".join(_PROPERTIES[(n + k) % 5] for k in range(3)))
        for n in range(_RULES)
    ]
    return "\n".join(rules)


def page(characters: int) -> str:
    """A page of about so many characters, its sheet not counted."""
    rows = []
    size, n = 0, 0
    while size < characters:
        rows.append(
            f'<tr class="c{n % 60}"><td class="c{(n + 7) % 60} card"><div class="c{n % 13}"><p>Berth {n}</p>'
            f'</div><a class="c{n % 31}" href="https://skerrow.example/{n}">{{{{ name }}}}</a></td></tr>\n'
        )
        size += len(rows[-1])
        n += 1
    return (
        f"<!DOCTYPE html><html><head><style>\n{sheet()}\n</style></head><body><table>\n{''.join(rows)}"
        "</table></body></html>"
    )


def compiling(text: str) -> object:
    return Template.from_text(text)


def parsing(text: str) -> object:
    """What two parsers of others take for the page and its sheet, which does no more than read them."""
    return html5lib.parse(text), tinycss2.parse_stylesheet(sheet())


def growth() -> float:
    """How many times as long twice the page takes: by the slope over 4 and 8 times 25 kB."""
    compiling(page(5_000))  # what is loaded when first needed
    sizes = [25_000, 100_000, 200_000]
    pages = {size: page(size) for size in sizes}
    return doubling([(size, min(timed(compiling, pages[size]) for _ in range(4))) for size in sizes])


def against_parsing() -> Ratio:
    """Compiling 100 kB against reading the page and its sheet by others' parsers."""
    return compared(compiling, parsing, [page(100_000)], rounds=6)
