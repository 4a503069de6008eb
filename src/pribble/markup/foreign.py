"""Where a page is in svg or math, and so is read by other rules (WHATWG HTML 13.2.6, 13.2.6.5).

There `title` and `style` hold tags, `/>` closes, and `<![CDATA[` begins text.  Within an integration point
(`foreignObject`, `desc`, `title`, `mi` …) HTML's own rules hold again; and an HTML start tag such as `<p>` breaks
out of svg altogether.
"""

from __future__ import annotations

from collections import Counter

from pribble.markup.elements import VOID

ROOTS = frozenset({"svg", "math"})
INTEGRATION = frozenset("foreignobject desc title mi mo mn ms mtext".split())
_BREAKING_OUT = frozenset(
    "b big blockquote body br center code dd div dl dt em embed h1 h2 h3 h4 h5 h6 head hr i img li listing menu meta "
    "nobr ol p pre ruby s small span strong strike sub sup table tt u ul var".split())
_FONT_ATTRIBUTES = frozenset({"color", "face", "size"})


class Foreign:
    """Follows the tags of a page from the outermost svg or math inwards; outside, it does nothing."""

    def __init__(self) -> None:
        self._open: list[tuple[str, bool]] = []  # names of open elements, and whether each is foreign
        self._count: Counter[str] = Counter()  # spares the search for what is not open: it would be quadratic

    @property
    def active(self) -> bool:
        """Whether the next tag is read by the rules for foreign content."""
        return bool(self._open) and self._open[-1][1] and self._open[-1][0] not in INTEGRATION

    def start(self, name: str, *, self_closing: bool, attributes: frozenset[str] = frozenset()) -> bool:
        """Take in a start tag; returns whether its element is foreign."""
        if self.active and (name in _BREAKING_OUT or (name == "font" and attributes & _FONT_ATTRIBUTES)):
            while self.active:
                self._count[self._open.pop()[0]] -= 1
        foreign = self.active or name in ROOTS
        if not self_closing if foreign else self._open and name not in VOID:
            self._open.append((name, foreign))
            self._count[name] += 1
        return foreign

    def end(self, name: str) -> None:
        """Take in an end tag."""
        while self._count[name]:
            closed, _ = self._open.pop()
            self._count[closed] -= 1
            if closed == name:
                return
