"""Compiling a page with 300 style rules: twice the page may take little more than twice the time."""

from __future__ import annotations

from time import perf_counter

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


def compiling(text: str) -> float:
    """The seconds that compiling a page takes."""
    began = perf_counter()
    Template.from_text(text)
    return perf_counter() - began


def growth() -> tuple[float, float]:
    """How many times as long twice the page takes, and the seconds for 100 kB: the best of a few runs of each."""
    once, twice = page(100_000), page(200_000)
    compiling(page(5_000))  # what is loaded when first needed
    times = [(compiling(once), compiling(twice)) for _ in range(4)]
    return min(b for _, b in times) / min(a for a, _ in times), min(a for a, _ in times)
