"""The addresses in a piece of CSS: ``url(…)`` in declarations, which name pictures (CSS Values 4, 4.5), the strings of
``image-set(…)`` (CSS Images 4, 2.4), and those of fonts (CSS Fonts 4, 4.3).

The addresses of imports are no matter of this module: what is imported is read in.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple
from urllib.parse import urljoin

from pribble.cascade.syntax import Node, StyleSheet
from pribble.edits import Edit, replaced
from pribble.regexes import regex

# At-rules whose addresses name neither picture nor font.
_OTHERS = frozenset({"import", "namespace", "document", "-moz-document"})
_SETS = frozenset({"image-set", "-webkit-image-set"})
_BARE = regex(r"[^\s\"'()\\]*")
# What names no file beside the one that holds it: a scheme, a host, a place on the page.
_ELSEWHERE = regex(r"(?:[a-z][a-z0-9+.-]*:|//|#)", re.IGNORECASE)
_ON_DISK = regex(r"file:|[a-z]:[\\/]|\\\\", re.IGNORECASE)
_PATH = regex(r"[^?#]*")


class CssUrl(NamedTuple):
    """An address: where the whole of it stands, and whether it is that of a font."""

    start: int
    end: int
    address: str
    font: bool = False


def find_urls(css: str) -> Iterator[CssUrl]:
    """Yields the addresses of pictures and fonts."""
    if "url(" not in (lower := css.lower()) and "image-set(" not in lower:
        return
    sheet = StyleSheet(css)
    if not sheet.text.startswith(css.rstrip("\\")):
        return  # line ends that are not counted as they stand
    # What its end cuts off, a mark perhaps, is no address.
    yield from (each for each in _in(sheet, sheet.nodes, len(sheet.text)) if each.end <= len(css))


def _in(
    sheet: StyleSheet, nodes: Sequence[Node], end: int, *, font: bool = False, in_set: bool = False
) -> Iterator[CssUrl]:
    keyword = ""
    for index, node in enumerate(nodes):
        after = sheet.offset(nodes[index + 1]) if index + 1 < len(nodes) else end
        if node.type == "at-keyword":
            keyword = node.lower_value
        ends = node.type == "{} block" or (node.type == "literal" and node.value == ";")
        if keyword in _OTHERS:
            keyword = "" if ends else keyword
        elif node.type == "url" or (in_set and node.type == "string"):
            yield CssUrl(sheet.offset(node), after, node.value, font)
        elif node.type == "function" and node.lower_name == "url":
            named = next((each.value for each in node.arguments if each.type == "string"), None)
            if named is not None:
                yield CssUrl(sheet.offset(node), after, named, font)
        else:
            inner = node.arguments if node.type == "function" else getattr(node, "content", None)
            if inner:
                in_font = font or (keyword == "font-face" and node.type == "{} block")
                is_set = node.type == "function" and node.lower_name in _SETS
                yield from _in(sheet, inner, after - 1, font=in_font, in_set=is_set)
            keyword = "" if ends else keyword


def replace_urls(css: str, resolve: Callable[[CssUrl], str | None]) -> str:
    """Returns `css` with its addresses replaced; None leaves one as it is."""
    resolved = ((named, resolve(named)) for named in find_urls(css))
    return replaced(css, [Edit(url.start, url.end, (url_function(new),)) for url, new in resolved if new is not None])


def is_elsewhere(address: str) -> bool:
    """Returns whether an address names no file beside the one that holds it."""
    return not address or _ELSEWHERE.match(address) is not None


def is_on_disk(address: str) -> bool:
    """Returns whether an address is a path on somebody's disk: by its scheme, by a drive's letter, or by a host's
    name."""
    return _ON_DISK.match(address) is not None


def rebase(address: str, base: str) -> str:
    """Returns an address that a style sheet has, as the page would write it; `base` is the address of the sheet, as the
    page writes it (RFC 3986 5.2.4, but for dots that lead out of the page's folder: they stay)."""
    if base.startswith(("http:", "https:")):
        return urljoin(base, address)
    found = _PATH.match(address)
    path = found[0] if found else ""
    if is_elsewhere(address) or path.startswith("/"):
        return address
    if not path:
        return re.split("[?#]", base, maxsplit=1)[0] + address
    joined = posixpath.normpath(posixpath.join(posixpath.dirname(base), path))
    if _ELSEWHERE.match(joined):  # a name with a colon (RFC 3986 4.2)
        joined = f"./{joined}"
    is_folder = path.rpartition("/")[2] in ("", ".", "..") and joined != "/"
    return joined + "/" * is_folder + address[len(path) :]


def url_function(address: str) -> str:
    """Returns an address as a CSS function."""
    if _BARE.fullmatch(address):
        return f"url({address})"
    escaped = address.replace("\\", "\\5c ").replace("'", "\\27 ").replace("\n", "")
    return f"url('{escaped}')"
