"""The addresses in a piece of CSS: ``url(…)`` in declarations, which name pictures (CSS Values 4, 4.5)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from pribble.cascade.syntax import Sheet

# At-rules whose addresses name no picture.
_OTHERS = frozenset({"import", "font-face", "namespace", "document", "-moz-document"})
_BARE = re.compile(r"[^\s\"'()\\]*")


def found(css: str) -> Iterator[tuple[int, int, str]]:
    """The addresses of pictures: where the whole ``url(…)`` begins and ends, and what it names."""
    if "url(" not in css.lower():
        return
    sheet = Sheet(css)
    if not sheet.text.startswith(css.rstrip("\\")):
        return  # line ends that are not counted as they stand
    # What its end cuts off, a mark perhaps, is no address.
    yield from (each for each in _in(sheet, sheet.nodes, len(sheet.text)) if each[1] <= len(css))


def _in(sheet: Sheet, nodes: Sequence[Any], end: int) -> Iterator[tuple[int, int, str]]:
    skipping = False
    for index, node in enumerate(nodes):
        after = sheet.offset(nodes[index + 1]) if index + 1 < len(nodes) else end
        if node.type == "at-keyword":
            skipping = node.lower_value in _OTHERS
        elif skipping and (node.type == "{} block" or (node.type == "literal" and node.value == ";")):
            skipping = False
        elif skipping:
            continue
        elif node.type == "url":
            yield sheet.offset(node), after, node.value
        elif node.type == "function" and node.lower_name == "url":
            named = next((each.value for each in node.arguments if each.type == "string"), None)
            if named is not None:
                yield sheet.offset(node), after, named
        else:
            inner = node.arguments if node.type == "function" else getattr(node, "content", None)
            if inner:
                yield from _in(sheet, inner, after - 1)


def resolved(css: str, resolve: Callable[[str, int, int], str | None]) -> str:
    """`css` with its addresses replaced: `resolve` has the address and where it stands, None leaves it."""
    made, position = [], 0
    for start, end, address in found(css):
        new = resolve(address, start, end)
        if new is not None:
            made += [css[position:start], function(new)]
            position = end
    return "".join((*made, css[position:])) if made else css


def function(address: str) -> str:
    """An address as a CSS function."""
    if _BARE.fullmatch(address):
        return f"url({address})"
    escaped = address.replace("\\", "\\5c ").replace("'", "\\27 ").replace("\n", "")
    return f"url('{escaped}')"
