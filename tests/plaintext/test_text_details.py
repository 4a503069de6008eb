"""The plain text in detail: what hides, how white space counts, how lists, tables, links and lines are set."""

from __future__ import annotations

import random
import re
import textwrap
import unittest

from hypothesis import given
from hypothesis import strategies as st

from pribble import Template, compare, plain_text
from pribble.graphemes import graphemes
from pribble.plaintext.line_breaking import terminal_columns
from tests.chromium import browser
from tests.support import TEST_DATA, generated, needs_chromium

TEXTS = TEST_DATA / "texts"

# A style sheet, what stands in the page, and what is said of it.
HIDING = [
    (".x { display: none }", "<p class=x>a<p>b", "b\n"),
    (".x { display: none } #y { display: block }", "<p class=x id=y>a", "a\n"),
    (".x { display: none !important }", '<p class=x style="display:block">a<p>b', "b\n"),
    (".x { display: none; display: nonsense }", "<p class=x>a<p>b", "b\n"),
    ("@media (max-width: 9em) { p { display: none } } @media print { p { display: none } }", "<p>a", "a\n"),
    ("p:hover, p:focus { display: none }", "<p>a", "a\n"),
    (":root { --d: none } p { display: var(--d) }", "<p>a<div>b</div>", "b\n"),
    ("@layer a { p { display: none } } @layer b { p { display: block } }", "<p>a", "a\n"),
    ("[hidden] { color: red }", "<p hidden>a<p>b", "b\n"),
    ("[hidden] { display: inline }", "<p hidden>a</p>", "a\n"),
    ("div { visibility: hidden } b { visibility: visible }", "<div>a <b>b</b> c</div>", "b\n"),
    ("div { visibility: hidden }", '<div><img alt="Map" src="m.png"></div>x', "x\n"),
    ("div { font-size: 0 } b { font-size: 12px }", "<div>a <b>b</b><i>c</i></div>", "b\n"),
    ("div { font-size: 0 } b { font-size: 2em } i { font-size: 1rem }", "<div>a <b>b</b><i>c</i></div>", "c\n"),
    ("div { font: 0/0 a } b { font: bold 12px/1 'A B', serif }", "<div>a <b>b</b></div>", "b\n"),
    ("div { font-size: 0 }", '<div><img alt="Map" src="m.png"></div>', "[Map]\n"),
    ("p { opacity: 0 } b { opacity: 1 }", "<p>a <b>b</b></p>c", "c\n"),
    ("p { opacity: 0.01 }", "<p>a", "a\n"),
    ("p { max-height: 0; overflow: hidden }", "<p>a</p>b", "b\n"),
    ("p { height: 0px; overflow-y: clip }", "<p>a</p>b", "b\n"),
    ("p { height: 0 }", "<p>a", "a\n"),
    ("p { height: 0; overflow: visible }", "<p>a", "a\n"),
    ("b, td { max-height: 0; overflow: hidden }", "<b>a</b><table><tr><td>b</table>", "a\n\nb\n"),
    ("b { display: block; max-height: 0; overflow: hidden }", "<b>a</b>b", "b\n"),
    ("p { all: unset }", "<p hidden>a</p><p>b", "ab\n"),
    ("", '<p style="mso-hide:all">a', "a\n"),
    ("", '<p style="display:none;display:block">a', "a\n"),
    ("p { display: inline }", "<p>a</p><p>b</p>", "ab\n"),
    ("span { display: block }", "<span>a</span><span>b</span>", "a\nb\n"),
    ("a { display: inline-block }", "<a>a</a><a>b</a>", "a b\n"),
    ("li { display: inline }", "<ul><li>a</li><li>b</li></ul>", "a b\n"),
]
SPACES = [
    ("", "<p>a <b> b</b>\n<i>\tc </i> d", "a b c d\n"),
    ("", "a<br> b <br>c<br><br><br><br>d", "a\nb\nc\n\nd\n"),
    ("", "<p>a&nbsp;&nbsp;b&#8239;c", "a  b c\n"),
    ("", "<p>a\u3000b", "a\u3000b\n"),
    ("", "<p>\u3000</p><p>&nbsp;</p><p>&#8203;&#8288;</p>x", "x\n"),
    ("", "a&shy;b&#65279;c&#847;d&#8203;e&#8288;f", "abcdef\n"),
    ("", "a\u0001\u001b[1mb", "a[1mb\n"),
    ("", "x\u200dy \u200d z 1\u200c2 👩\u200d🚀", "x\u200dy  z 12 👩\u200d🚀\n".replace("  ", " ")),
    ("", "<pre>\n a\n\n  b \n\n</pre>", " a\n\n  b\n"),
    ("", "<pre>a<b>\n b</b></pre>", "a\n b\n"),
    ("p { white-space: pre }", "<p>\n a  b\n  c\n</p>", " a  b\n  c\n"),
    ("p { white-space: pre-line }", "<p>\n a  b\n  c\n</p>", "a b\nc\n"),
    ("p { white-space-collapse: preserve }", "<p>a  b", "a  b\n"),
    ("b { white-space: nowrap }", "<p>" + "word " * 13 + "<b>kept in one piece</b>", "word " * 12 + "word\nkept in one piece\n"),
    ("", "<nobr>" + "kept " * 20 + "</nobr>", "kept " * 13 + "kept\n" + "kept " * 5 + "kept\n"),
    ("", "<div>a</div><div>b</div><div><br></div><div>c</div>", "a\nb\n\nc\n"),
    ("p { margin: 0 }", "<p>a<p>b<p>&nbsp;<p>c", "a\nb\n\nc\n"),
    ("div { margin-top: 1em }", "<div>a</div><div>b</div>", "a\n\nb\n"),
    ("div { padding: 2px }", "<div>a</div><div>b</div>", "a\nb\n"),
]  # fmt: skip
SET = [
    ("<h1>a</h1><h2>b</h2><h3>c</h3>d", "a\n===\n\nb\n---\n\nc\n\nd\n"),
    ("<h2>日本</h2>", "日本\n----\n"),
    ("<ol type=I start=3><li>a<li>b</ol>", "III. a\nIV. b\n"),
    ("<ol type=a start=26><li>a<li>b</ol>", "z. a\naa. b\n"),
    ("<ol style='list-style: decimal-leading-zero inside'><li>a</ol>", "01. a\n"),
    ("<ol start=0><li>a<li value=-5>b<li>c</ol>", "0. a\n-5. b\n-4. c\n"),
    ("<ol reversed><li>a<li hidden>b<li>c</ol>", "2. a\n1. c\n"),
    ("<ul><li>a<li type=circle>b</ul>", "- a\n- b\n"),
    ("<ul><li><p>a<p>b</li><li>c</ul>", "- a\n\n  b\n\n- c\n"),
    ("<ul><li></li><li>b</ul>", "- b\n"),
    ("<ul>a<li>b</ul>", "a\n\n- b\n"),
    ("<blockquote><ul><li>a</ul></blockquote>", "> - a\n"),
    ("<ul><li>a<blockquote>b</blockquote></ul>", "- a\n\n>   b\n"),
    ("<blockquote>a</blockquote><blockquote>b</blockquote>", "> a\n\n> b\n"),
    ("<p>a<sup>2</sup> <sup>a b</sup> <sub>low text</sub> <sup></sup>x", "a² a b low text x\n"),
    ("<p>a<sup>[5]</sup> b<sup>(a)</sup> c<sup><a href='#n'>[6]</a>,[7]</sup> d<sup>(x+1)</sup> e<sup>x+1</sup>", "a[5] b(a) c[6],[7] d^(x+1) e^(x+1)\n"),
    ("<q>a <q>b</q></q>", "“a “b””\n"),
    ('<abbr title="By The Way">BTW</abbr>, <abbr title="By The Way">BTW</abbr>, <abbr>X</abbr>', "BTW (By The Way), BTW, X\n"),
    ("<details><summary>a</summary>b</details>", "a\nb\n"),
    ("<a href='https://x.example/é b'>l</a>", "l <https://x.example/é%20b>\n"),
    ("<a href='HTTPS://X.example/a/'>x.example/a</a>", "x.example/a\n"),
    ("<a href='mailto:a%40b@x.example?subject=y'>a@b@x.example</a>", "a@b@x.example <mailto:a%40b@x.example?subject=y>\n"),
    ("<a href='mailto:a@x.example?'>a@x.example</a> <a href='mailto:a@x.example?subject=y'>mailto:a@x.example?subject=y</a>", "a@x.example mailto:a@x.example?subject=y\n"),
    ("<a href='tel:+44-1;ext=3'>+44 1</a>, <a href='tel:+441;ext=3'>+44 1 (ext. 3)</a>", "+44 1 <tel:+44-1;ext=3>, +44 1 (ext. 3)\n"),
    ("<a href='tel:+441;ext=3'>+44 13</a>, <a href='tel:1;phone-context=+44'>1</a>", "+44 13 <tel:+441;ext=3>, 1 <tel:1;phone-context=+44>\n"),
    ("<a href='mailto:a@x.example'>us</a>, <a href='tel:+44-1'>+44 1</a>", "us <mailto:a@x.example>, +44 1\n"),
    ("<a href='https://x.example/'><img alt='' src=x><b>Go</b></a>", "Go <https://x.example/>\n"),
    ("<a href='https://x.example/'></a><a href='https://y.example/'><span hidden>no</span></a>z", "z\n"),
    ("<a href='https://x.example/a'>one</a><a href='https://x.example/b'>two</a>.", "one <https://x.example/a> two <https://x.example/b>.\n"),
    ("<a href='https://x.example/'><h2>Head</h2><p>body</p></a>", "Head\n----\n\nbody <https://x.example/>\n"),
    ("<a href='https://x.example/'><table><tr><td><img alt='' src=x></table></a>", "<https://x.example/>\n"),
    ("<img alt='  two   words ' src=x><img src=x><input type=image alt=Go src=x>", "[two words][Go]\n"),
    ("<table><tr><th>a</th><th>b</th></tr></table>", "a  b\n"),
    ("<table role=none><tr><th>a<th>b<tr><td>c<td>d</table>", "a  b\nc  d\n"),
    ("<table><thead><tr><td>a<td>b</thead><tr><td>c<td>1</table>", "a  b\n----\nc  1\n"),
    ("<table><tr><th>a<th>b<tr><td>5 kg<td>1,50<tr><td>12 kg<td>-</table>", "    a     b\n-----------\n 5 kg  1,50\n12 kg     -\n"),
    ("<table><tr><th>a<th>b<tr><td>EUR 5<td>1 Jan<tr><td>EUR 12<td>2 Jan</table>", "     a  b\n-------------\n EUR 5  1 Jan\nEUR 12  2 Jan\n"),
    ("<table><tr><th>a<th><th>c<tr><td>1<td><td>x</table>", "a  c\n----\n1  x\n"),
    ("<table><tr><th>a<th>b<tr><td>x<br>y<td>z<tr><td>v<td>w</table>", "a  b\n----\nx  z\ny\n\nv  w\n"),
    ("<table><tr><td>Sum<td>2<tr><td>All of it<td>40 €</table>", "Sum           2\nAll of it  40 €\n"),
    ("<table><tr><td>a<td></td><td>b<tr><td>c<td></td><td>d</table>", "a  b\nc  d\n"),
    ("<table><tr><td><table><tr><td>a</table><td><div><p>b</div></table>", "a  b\n"),
    ("<table><tr><td>" + "long " * 12 + "<td>b</table>", ("long " * 12).strip() + "\n\nb\n"),
    ("<table><tr><td>Name<td>" + "x " * 25 + "<tr><td>b<td>c</table>", "Name  " + ("x " * 25).strip() + "\nb     c\n"),
    ("<table><caption>C</caption><tr><td>a<td>b<tr><td>c<td>d</table>", "C\n\na  b\nc  d\n"),
    ("<table><tr><td>a<tfoot><tr><td>z</tfoot><tbody><tr><td>b</table>", "a\n\nb\n\nz\n"),
]  # fmt: skip


class Details(unittest.TestCase):
    def test_cells_that_stand_in_no_row(self) -> None:
        for page in ("<table><y><td>a<td>b", "<table><p><td>a<td>b"):
            self.assertEqual(plain_text(page), "a  b\n")
            self.assertEqual(Template.from_text(page).render({}).text, "a  b\n")

    def test_what_hides(self) -> None:
        for sheet, body, said in [*HIDING, *SPACES]:
            with self.subTest(sheet, body=body):
                page = f"<!DOCTYPE html><style>{sheet}</style><body>{body}"
                self.assertEqual(plain_text(page), said)

    def test_how_it_is_set(self) -> None:
        for body, said in SET:
            with self.subTest(body):
                self.assertEqual(plain_text(body), said)

    def test_the_same_of_a_template(self) -> None:
        pages = [f"<!DOCTYPE html><style>{sheet}</style><body>{body}" for sheet, body, _ in HIDING + SPACES]
        for page in [*pages, *(body for body, _ in SET)]:
            page = page.replace("src=x", "src='data:,'").replace('src="m.png"', 'src="data:,"')
            with self.subTest(page):
                self.assertEqual(Template.from_text(page).render({}).text, plain_text(page))

    def test_a_text_never_drifts_from_its_own_page(self) -> None:
        for page in sorted(TEXTS.glob("*.html")):
            with self.subTest(page.name):
                html = page.read_text(encoding="utf-8")
                drift = compare(html, plain_text(html, width=1000))
                self.assertFalse(drift.numbers or drift.addresses, drift)
                # Of words, the text has more: headers of records, what an abbreviation stands for.
                self.assertEqual(drift.words.text, (), drift)


class Lines(unittest.TestCase):
    @generated(300)
    @given(st.lists(st.text("abc-,", min_size=1, max_size=30), max_size=60), st.integers(20, 90))
    def test_words_wrap_as_the_standard_library_wraps_them(self, words: list[str], width: int) -> None:
        words = [word for word in words if word != "--" and not word.startswith(",")]
        expected = textwrap.wrap(" ".join(words), width, break_long_words=False, break_on_hyphens=False, tabsize=1)
        self.assertEqual(plain_text(" ".join(words), width=width).split("\n")[:-1], expected)

    @generated(200)
    @given(st.text("漢かなカー、。「」（）a1 é👩\u200d🚀ท่เ", max_size=300), st.integers(20, 60))
    def test_no_character_is_lost_and_no_line_too_wide(self, text: str, width: int) -> None:
        said = plain_text(f"<p>{text}", width=width)
        squeezed = [re.sub(r"[\s\u200d]", "", each) for each in (said, text)]
        self.assertEqual(squeezed[0], squeezed[1])
        lines = said.split("\n")[:-1]
        for line in lines[1:]:
            self.assertNotIn(line[0], tuple("、。」）ー"), said)
        for line in lines[:-1]:
            self.assertNotIn(line[-1], tuple("「（"), said)
        for line in lines:
            if terminal_columns(line) > width:  # nothing in it may be broken
                self.assertNotRegex(line, r"[漢かなカ][漢かなカ]", said)

    def test_widths_are_those_of_a_terminal(self) -> None:
        for text, width in (("abc", 3), ("é", 1), ("e\u0301", 1), ("漢", 2), ("ｱ", 1), ("Ａ", 2), ("👩\u200d🚀", 2), ("ท่า", 2),
                            ("\u200b", 0), ("a\u00a0b", 3), ("Жλ", 2), ("£–“”", 4)):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(terminal_columns(text), width)

    def test_thai_is_broken_only_where_a_line_has_no_space(self) -> None:
        short = plain_text("<p>" + "สวัสดี " * 30)
        self.assertEqual(set(short.split()), {"สวัสดี"})
        run = "กรุณาติดต่อทางช่องก่อนเข้าท่าเรือ" * 4
        lines = plain_text(f"<p>{run}").split()
        self.assertGreater(len(lines), 1)
        self.assertEqual("".join(lines), run)
        self.assertTrue(all(line[0] in "เแโใไ" for line in lines[1:]), lines)

    @needs_chromium
    def test_han_and_kana_are_broken_where_a_browser_may_break_them(self) -> None:
        """Each place where a line ends is one that Chromium's own line breaker permits (UAX 14)."""
        chance = random.Random(14)
        pieces = [
            "漢字",
            "かな",
            "カタカナ",
            "ー",
            "、",
            "。",
            "「",
            "」",
            "（",
            "）",
            "っ",
            "ゃ",
            "々",
            "！",
            "？",
            "・",
            "…",
            "12",
            "abc",
            " ",
        ]
        page = browser()
        for _ in range(60):
            text = "".join(chance.choices(pieces, k=80)).strip()
            said = plain_text(f"<p>{text}", width=30).removesuffix("\n")
            allowed = page.evaluate(
                "const breaker = new Intl.v8BreakIterator(['ja'], {type: 'line'}); const found = [];"
                f"breaker.adoptText({' '.join(text.split())!r}); breaker.first();"
                "for (let at = breaker.next(); at !== -1; at = breaker.next()) found.push(at); return found;"
            )
            at = 0
            whole = " ".join(text.split())
            for line in said.split("\n")[:-1]:
                at += len(line)
                at += whole[at : at + 1] == " "
                self.assertIn(at, allowed, (whole[:at][-6:], whole[at:][:6]))

    def test_graphemes_stay_whole(self) -> None:
        text = "👩\u200d🚀が゛e\u0301" * 40
        for line in plain_text(f"<p>{text}", width=20).split("\n"):
            self.assertEqual("".join(graphemes(line)), line)
            self.assertFalse(line.startswith(("\u200d", "\u0301", "゛")), line)


if __name__ == "__main__":
    unittest.main()
