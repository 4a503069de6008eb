"""The tables of CSS properties, against what Chromium makes of the same names and values."""

from __future__ import annotations

import unittest
from itertools import product

from pribble.cascade.longhands import _LOGICAL, _SHORTHANDS, longhands
from pribble.cascade.plain_values import is_plain_value
from tests.chromium import browser
from tests.support import needs_chromium

PROPERTIES = (
    "color background-color background border border-top border-left border-color border-width border-style "
    "border-radius border-collapse border-spacing margin margin-left padding padding-top width height min-width "
    "max-width max-height font-size font-weight font-style font-family line-height letter-spacing word-spacing "
    "text-indent text-align text-decoration text-transform display vertical-align white-space float clear visibility "
    "overflow list-style-type direction table-layout opacity top outline-color"
).split()
VALUES = (
    "0|1|-1|.5|2.|1e3|12px|-3px|1.5em|20%|-5%|1px 2px|1px 2px 3px 4px|1px 2px 3px 4px 5px|auto|auto 0|none|normal|"
    "bold|700|750|italic|red|#036|#14364f|#0365|#12|transparent|currentColor|nonsense|inherit|left|justify|middle|"
    "sub|underline|uppercase|block|table-cell|nowrap|pre-line|collapse|both|hidden|solid|1px solid red|"
    "1px solid #036|solid 1px red|1px red|0 none|disc|ltr|fixed|Arial|Georgia, serif|'Segoe UI', Arial|\"A B\"|"
    "'A\\\\'|Segoe UI, Arial|1px solid nonsense|rgb(1, 2, 3)|calc(1px + 2px)|url(x)|"
).split("|")


@needs_chromium
class InChromium(unittest.TestCase):
    def test_a_plain_value_is_one_that_browsers_accept(self) -> None:
        plain = [(name, value) for name, value in product(PROPERTIES, VALUES) if value and is_plain_value(name, value)]
        self.assertGreater(len(plain), 200)
        page = browser()
        pairs = [[name, value] for name, value in plain]
        accepted = page.evaluate(f"return {pairs!r}.map(([name, value]) => CSS.supports(name, value))")
        refused = [pair for pair, taken in zip(plain, accepted, strict=True) if not taken]
        self.assertEqual(refused, [])

    def test_some_values_are_not_plain(self) -> None:
        """Values that some receivers do not read, or that name no colour: what is below them must stay."""
        for name, value in (
            ("color", "nonsense"),
            ("color", "rgb(1, 2, 3)"),
            ("color", "12px"),
            ("color", "#0365"),
            ("background", "url(x)"),
            ("width", "calc(1px + 2px)"),
            ("padding", "-3px"),
            ("border", "1px solid nonsense"),
            ("font-weight", "750"),
            ("font-family", "'A\\"),
            ("display", "grid"),
            ("filter", "none"),
        ):
            with self.subTest(f"{name}: {value}"):
                self.assertFalse(is_plain_value(name, value))

    def test_a_shorthand_sets_what_chromium_says(self) -> None:
        names = sorted({*_SHORTHANDS, *_LOGICAL})
        script = (
            f"const e = document.createElement('p'); return {names!r}.map(name => "
            "{ e.style.cssText = name + ': inherit'; return [...e.style]; })"
        )
        page = browser()
        page.show("<p>x")
        found = dict(zip(names, page.evaluate(script), strict=True))
        self.assertGreater(sum(map(bool, found.values())), 50)
        for name, theirs in found.items():
            ours = set(longhands(name))
            # A side that depends on the direction of writing is one of several physical ones to us.
            physical = {one for their in theirs for one in (longhands(their) if their in _LOGICAL else [their])}
            with self.subTest(name):
                self.assertLessEqual(physical, ours)
