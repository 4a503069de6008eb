"""Markup from the data (``as html``): whole, and closing and leaking nothing around it.

Parsers are the judges: the page around a fragment has the same tree with it and without it, whatever it is and wherever it
is put.  html5lib, which does not know templates, is asked for those without; Chromium for all.
"""

from __future__ import annotations

import json
import unittest
from functools import cache
from typing import Any

import html5lib
from hypothesis import given
from hypothesis import strategies as st

from pribble import PribbleError, Template
from tests.chromium import browser
from tests.support import FEWER, generated, needs_chromium, proof, slow

# Every element that a fragment may stand in, each with something behind it in the same one.
WITHIN = (
    "<div>%s</div>|<p>%s</p>|<table><tr><td>%s</td><td>2</td></tr></table>|<table><tbody><tr><th>%s<th>b</table>|"
    "<table><caption>%s</caption><tr><td>2</table>|<ul><li>%s<li>b</ul>|<dl><dt>%s<dd>b</dl>|<a href='#'>%s</a>|"
    "<button>%s</button>|<h1>%s</h1>|<b>%s</b>|<nobr>%s</nobr>|<form>%s</form>|<form><div>%s</div></form>|<object>%s</object>|"
    "<select>%s</select>|<select><option>%s<option>b</select>|<select><optgroup><option>%s</optgroup></select>|"
    "<ruby>a<rt>%s</rt></ruby>|<ruby>a<rp>%s<rt>b</ruby>|<fieldset><legend>%s</legend></fieldset>|<svg>%s</svg>|"
    "<svg><foreignObject>%s</foreignObject></svg>|<math><mtext>%s</mtext></math>|<math><mi>%s</mi></math>|<svg><desc>%s</desc></svg>|"
    "<p><table><tr><td><p>%s</table>|<ul><li><table><tr><td>%s</table></ul>|<a href='#'><table><tr><td>%s</table></a>"
).split("|")
PIECES = (
    "x|<b>|</b>|<i>|</i>|<font>|</font>|<a href='/'>|</a>|<p>|</p>|<div>|</div>|<ul>|</ul>|<li>|<table>|</table>|<tbody>|<tr>|"
    "<td>|</td>|<th>|<col>|<caption>|</caption>|<select>|</select>|<option>|<optgroup>|<hr>|<input>|<br>|<img alt=''>|<button>|"
    "</button>|<h2>|</h2>|<dd>|<dt>|<ruby>|</ruby>|<rt>|<rp>|<fieldset>|</fieldset>|<svg>|</svg>|<g>|</g>|<desc>|</desc>|<math>|"
    "</math>|<mtext>|</mtext>|<mi>|</mi>|<annotation-xml encoding='text/html'>|</annotation-xml>|<![CDATA[|]]>|<a/>|<!--|-->|--!>|"
    '<!-->|<!--->|<!--!>|<!|<?|</|<a b="|"|\'|<!--<script>|<script>|</script>|<style>|</style>|<title>|</title>|<textarea>|</textarea>|<template>|</template>|<noscript>|'
    "</noscript>|<iframe>|</iframe>|<form>|</form>|<nobr>|</nobr>|<object>|</object>|<applet>|</applet>|<frame>|<image>|<listing>|"
    "</listing>|</br>|<body>|</body>|</html>|<plaintext>|<xmp>|</xmp>|<span/>|<circle/>|</x>|<x>|&lt;|<|"
).split("|")
TAGS = sorted(
    {piece[2:-1] for piece in PIECES if piece.startswith("</")}
    | set("td tr tbody li dd dt rt rp option optgroup".split())
)
# Pieces in any order, and elements that are closed, with some pieces in them.
FRAGMENTS = st.one_of(
    st.lists(st.sampled_from(PIECES), min_size=1, max_size=6).map("".join),
    st.recursive(
        st.sampled_from(PIECES),
        lambda inner: st.tuples(st.sampled_from(TAGS), st.lists(inner, max_size=3)).map(
            lambda made: f"<{made[0]}>{''.join(made[1])}</{made[0]}>"
        ),
        max_leaves=5,
    ),
)
LEFT, RIGHT = "⟦", "⟧"  # what a fragment is put between, to find it again

# (what it stands in, what is taken there)
TAKEN = [
    ("<div>%s</div>", "<p>One<p>Two<ul><li>a<li>b</ul><table><tr><td>1<td>2</table>"),
    ("<div>%s</div>", "<h2>A</h2><hr><a href='/'>b</a> <form><input><select><option>a<option>b</select></form>"),
    (
        "<p>%s</p>",
        "a <b>bold</b> <i>word</i>, <a href='/'>a link</a><br><img alt=''> &amp; <!-- this --> <span>more</span>",
    ),
    ("<table><tr><td>%s</td><td>2</td></tr></table>", "<p>a</p><table><caption>c</caption><tr><th>h<td>1</table>"),
    ("<ul><li>%s<li>b</ul>", "a<ul><li>within</ul>"),
    ("<select>%s</select>", "<option>a<option>b<optgroup label=x><option>c</optgroup>"),
    ("<select><option>%s</select>", "a &amp; b"),
    ("<ruby>a<rt>%s</rt></ruby>", "<b>x</b>"),
    ("<svg>%s</svg>", "<g><title>t</title></g>"),
    ("<div>%s</div>", "<ruby>a<rp>(<rt>b<rp>)</ruby><svg><desc><p>x</p></desc></svg><math><mi>x</mi></math>"),
    ("<a href='#'><table><tr><td>%s</table></a>", "<b>x</b>"),
]
# (what it stands in, what is refused there, and why)
REFUSED = [
    ("<table><tr><td>%s</table>", "<td>x", "<td> in no table"),
    ("<table><tr><td>%s</table>", "<p><td>", "<td> in no table"),
    ("<table><tr><td>%s</table>", "<tr><td>x", "<tr> in no table"),
    ("<table><tr><td>%s</table>", "<tbody>", "<tbody> in no table"),
    ("<table><tr><td>%s</table>", "<col>", "<col> in no table"),
    ("<table><tr><td>%s</table>", "<caption>x</caption>", "<caption> in no table"),
    ("<ruby>a<rt>%s</ruby>", "<rt>x", "<rt> in this markup would end the <rt> around it"),
    ("<ruby>a<rt>%s</ruby>", "<rp>x", "<rp> in this markup would end the <rt> around it"),
    ("<select><option>%s</select>", "<hr>", "<hr> in this markup has no place in a <option>"),
    ("<select><option>%s</select>", "<input>", "<input> in this markup has no place in a <option>"),
    ("<div>%s</div>", "<fieldset><font></fieldset>", "<font> is not closed before </fieldset>"),
    ("<div>%s</div>", "<table><b></table>", "<b>"),
    ("<div>%s</div>", "<table>x</table>", "text in a table but in no cell"),
    ("<p>%s</p>", "<!--!>", "a comment is not closed"),
    ("<math><mtext>%s</mtext></math>", "<![CDATA[<a/>", "a CDATA section is not closed"),
    ("<svg>%s</svg>", "<p>x</p>", "<p> in this markup would end the <svg> around it"),
    ("<form><div>%s</div></form>", "<form></form>", "<form> in this markup would end the <form> around it"),
    ("<a href='#'>%s</a>", "<a href='/'>x</a>", "<a> in this markup would end the <a> around it"),
    ("<p>%s</p>", "<div>x</div>", "<div> in this markup would end the <p> around it"),
]  # fmt: skip


def page(within: str, fragment: str) -> str:
    return f"<!DOCTYPE html><body><div>A{within.replace('%s', LEFT + fragment + RIGHT)}Z<p>end</div>"


@cache
def template(within: str) -> Template:
    return Template.from_text(page(within, "{{ v as html }}"))


def rendered(within: str, fragment: str) -> str | None:
    """The page with the fragment, or None where it is refused."""
    try:
        return str(template(within).render({"v": fragment}).html)
    except PribbleError as error:
        assert error.place is not None, fragment
        return None


def around(tree: str) -> str:
    """What is around the fragment."""
    return tree[: tree.index(LEFT)] + tree[tree.rindex(RIGHT) :]


def serialised(element: Any) -> str:
    if not isinstance(element.tag, str):
        return f"<!--{element.text or ''}-->{element.tail or ''}"
    inner = "".join(map(serialised, element))
    names = "".join(sorted(f" {name}" for name, _ in element.items()))
    return f"<{element.tag}{names}>{element.text or ''}{inner}</{element.tag}>{element.tail or ''}"


def by_html5lib(html: str) -> str:
    return serialised(html5lib.parse(html, treebuilder="etree", namespaceHTMLElements=False))


class Fragments(unittest.TestCase):
    def test_what_is_taken(self) -> None:
        for within, fragment in TAKEN:
            with self.subTest(fragment, within=within):
                made = rendered(within, fragment)
                assert made is not None
                self.assertEqual(around(by_html5lib(made)), around(by_html5lib(page(within, ""))))

    def test_what_is_refused(self) -> None:
        for within, fragment, why in REFUSED:
            with self.subTest(fragment, within=within), self.assertRaises(PribbleError) as caught:
                template(within).render({"v": fragment})
            self.assertIn(why, str(caught.exception))

    @slow
    def test_generated_ones_by_html5lib(self) -> None:
        taken = 0

        @generated(3000)
        @given(st.sampled_from(WITHIN), FRAGMENTS)
        def check(within: str, fragment: str) -> None:
            nonlocal taken
            if "<template" not in fragment and (made := rendered(within, fragment)) is not None:
                taken += 1
                self.assertEqual(around(by_html5lib(made)), around(by_html5lib(page(within, ""))))

        check()
        self.assertTrue(taken > 300 or FEWER, taken)

    @slow
    def test_each_piece_in_each_element_by_html5lib(self) -> None:
        for within in WITHIN:
            expected = around(by_html5lib(page(within, "")))
            for piece in PIECES:
                if "<template" not in piece and (made := rendered(within, piece)) is not None:
                    with self.subTest(piece, within=within):
                        self.assertEqual(around(by_html5lib(made)), expected)


# Each page as Chromium reads it, its scripts not run.
READ = """
return PAGES.map(html => new DOMParser().parseFromString(html, "text/html").documentElement.outerHTML);
"""


@proof
@needs_chromium
class InChromium(unittest.TestCase):
    def test_generated_ones(self) -> None:
        pairs: list[tuple[str, str]] = [(within, piece) for within in WITHIN for piece in PIECES]

        @generated(3000)
        @given(st.sampled_from(WITHIN), FRAGMENTS)
        def collect(within: str, fragment: str) -> None:
            pairs.append((within, fragment))

        collect()
        made = [(within, fragment, html) for within, fragment in pairs if (html := rendered(within, fragment))]
        self.assertGreater(len(made), 500)
        pages = [html for _, _, html in made] + [page(within, "") for within in WITHIN]
        trees = browser().evaluate(READ.replace("PAGES", json.dumps(pages).replace("<", "\\u003c")))
        expected = {within: around(tree) for within, tree in zip(WITHIN, trees[len(made) :], strict=True)}
        for (within, fragment, _), tree in zip(made, trees, strict=False):
            with self.subTest(fragment, within=within):
                self.assertEqual(around(tree), expected[within])


if __name__ == "__main__":
    unittest.main()
