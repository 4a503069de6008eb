"""The demo and whole pages: pictures, plain text, and what a browser sees of them."""

from __future__ import annotations

import io
import re
import unittest
from email import message_from_bytes, policy
from typing import Any

import html5lib
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from pribble import PictureError, Template, TemplateFolder
from pribble.demo import defects
from tests.chromium import PAINTED, browser
from tests.support import DEMO, Case, generated, html_of, needs_chromium


def png(width: int, height: int, colour: str = "red", kind: str = "PNG") -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (width, height), colour).save(out, kind)
    return out.getvalue()


def words(text: str) -> list[str]:
    return text.split()


def is_said(wanted: list[str], text: str) -> str | None:
    """The first of `wanted` that does not occur in `text` after the one before it, or None."""
    position = 0
    for word in wanted:
        found = text.find(word, position)
        if found < 0:
            return word
        position = found + len(word)
    return None


class Demo(Case):
    def demo(self) -> list[tuple[Template, Any]]:
        folder = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        self.assertEqual(
            list(folder),
            ["berth-confirmed", "desk-copy", "gale-warning", "gate-code", "mooring-statement", "season-notice"],
        )
        return [
            (folder[name], data) for name in folder for data in folder[name].samples.values() if name != "gate-code"
        ]

    def test_messages_are_read_without_defects_and_pictures_resolve(self) -> None:
        for template, data in self.demo():
            with self.subTest(template.name):
                rendering = template.render(data)
                message = message_from_bytes(
                    bytes(rendering.message(sender="a@x.example", to="b@x.example")), policy=policy.default
                )
                self.assertEqual(list(defects(message)), [])
                ids = [str(p["Content-ID"]).strip("<>") for p in message.walk() if p["Content-ID"]]
                page = message.get_body(("html",))
                assert page is not None
                used = re.findall(r"cid:([^\"']+)", page.get_content())
                self.assertEqual(list(dict.fromkeys(used)), ids)
                self.assertEqual(message["Subject"], rendering.subject)

    def test_no_mark_is_left(self) -> None:
        template, data = self.demo()[0]
        html = html_of(template.render(data))
        self.assertNotRegex(html, r"\{\{|\}\}|[\U000f0000-\U0010ffff]")

    def test_the_german_confirmation_and_the_gate_code(self) -> None:
        folder = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        german = folder["berth-confirmed"].render(folder["berth-confirmed"].samples[""], locale="de")
        self.assertEqual(german.subject, "Ihr Liegeplatz B 14 ab 3. Juli")
        for said in ("von Freitag, 3. Juli 2026", "114,00 £", "Hafenbüro", "geöffnet"):
            self.assertIn(said, german.text.replace("\n", " "))
        code = folder["gate-code"].render(folder["gate-code"].samples[""])
        self.assertEqual((code.html, code.subject), (None, "Your gate code for pier B: 4 7 1 9"))
        self.assertIn(
            "It opens until Saturday 23:00 and for 3 entries.\n\nLent to: Tōru Hoshino, Nkechi Ø.\n\nNever", code.text
        )

    @needs_chromium
    def test_a_browser_paints_every_picture_at_its_size(self) -> None:
        template, data = self.demo()[0]
        browser().load(html_of(template.render(data, embed="data")))
        painted = browser().evaluate(PAINTED)
        self.assertEqual(painted, [[True, 1120, 536, 249], [True, 112, 56, 56]])


class Pictures(Case):
    def test_sources_and_sizes(self) -> None:
        files: dict[str, str | bytes] = {
            "a.png": png(40, 30),
            "deep/b.gif": png(8, 4, kind="GIF"),
            "c.png": png(10, 10, kind="JPEG"),
            "s.svg": '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 20 10"/>',
        }
        cases = [
            ('<img src="a.png">', 'width="40" height="30"'),
            ('<img src="a.png" width="20">', 'height="15"'),
            ("<img src='a.png' height=15>", 'width="20"'),
            ('<img src="a.png" width="100%">', ""),
            ('<img src="a.png" width=1 height=2>', ""),
            ('<img src="a.png" style="max-width:100%">', 'width="40"'),
            ("<img src=deep/b.gif>", 'width="8" height="4"'),
            ('<img src="{{ name }}">', 'width="8" height="4"'),
            ('<img src="deep/{{ letter }}.gif" height="2">', 'width="4"'),
            ('<img src="s.svg">', 'width="20" height="10"'),
        ]
        for page, size in cases:
            with self.subTest(page):
                template = self.folder({"t.html": page, **files})["t"]
                rendering = template.render({"name": "deep/b.gif", "letter": "b"})
                picture = rendering.pictures[0]
                written = re.search(r"<img src=[\"']cid:[^\"']*[\"'](.*)>", html_of(rendering))
                assert written
                self.assertIn(size, written[1])
                self.assertEqual(
                    written[1].count("width") + written[1].count("height"),
                    (page + size).count("width") + (page + size).count("height"),
                )
                self.assertIn(f"cid:{picture.content_id('pribble.invalid')}", html_of(rendering))
                self.assertTrue(
                    html_of(template.render({"name": "deep/b.gif", "letter": "b"}, embed="data")).find(
                        f"data:{picture.type};base64,"
                    )
                    > 0
                )

    def test_other_places_of_pictures(self) -> None:
        page = (
            '<table background=\'a.png\'></table><video poster="{{ name }}"></video><!--[if mso]><v:fill SRC="a.png" />'
            '<v:imagedata src="{{ name }}"/><![endif]--><p style="background:url({{ name }});top:0">x'
        )
        rendering = self.folder({"t.html": page, "a.png": png(4, 3)})["t"].render({"name": "a.png"})
        (picture,) = rendering.pictures
        source = f"cid:{picture.content_id('pribble.invalid')}"
        self.assertEqual(rendering.html, page.replace("a.png", source).replace("{{ name }}", source))

    def test_a_picture_is_judged_by_its_content_and_travels_once(self) -> None:
        folder = self.folder(
            {
                "t.html": '<img src="a.png"><img src="b.jpg"><img src="c.png">',
                "a.png": png(9, 9),
                "b.jpg": png(9, 9),
                "c.png": png(9, 9, kind="JPEG"),
            }
        )
        rendering = folder["t"].render({})
        self.assertEqual(
            [(p.type, p.name) for p in rendering.pictures], [("image/png", "a.png"), ("image/jpeg", "c.png")]
        )

    def test_elsewhere_is_left_alone(self) -> None:
        page = '<img src="https://skerrow.example/x.png"><img src="cid:x"><img src="data:image/png;base64,">'
        self.assertEqual(self.html(page), page)

    def test_damaged_pictures(self) -> None:
        for content, expected in [(png(90, 90)[:120], "is damaged"), (b"text", "is no picture")]:
            with self.assertRaises(PictureError) as caught:
                self.folder({"t.html": '<p>\n <img src="x.png">', "x.png": content})["t"]
            self.assertRegex(str(caught.exception).splitlines()[0], rf't\.html:2:12: the picture "x\.png" {expected}')

    def test_links_do_not_lead_out(self) -> None:
        outside = self.folder({"x.png": png(1, 1)})
        folder = self.folder({"t.html": '<img src="x.png">'})
        (folder.path / "x.png").symlink_to(outside.path / "x.png")
        with self.assertRaises(PictureError):
            folder["t"]


# (page, the text it says)
TEXTS = [
    ("<h1>Big</h1><p>One  two\n three</p><h2>S</h2>x", "Big\n===\n\nOne two three\n\nS\n---\n\nx\n"),
    ("<p>a <b>b</b><i> c</i> d</p>", "a b c d\n"),
    ("<p>a<br>b <br/> c", "a\nb\nc\n"),
    ('<a href="https://x.example/a b">label</a>', "label <https://x.example/a%20b>\n"),
    (
        '<a href="https://x.example/">https://x.example</a> <a href="mailto:a@x.example">a@x.example</a>',
        "https://x.example a@x.example\n",
    ),
    ('<a href="#x">top</a> <a href="about:x">blank</a> <a>none</a>', "top blank <about:x> none\n"),
    (
        '<a href="https://x.example"><img src="data:," alt="Home"></a> <img alt=""><img alt="Map">',
        "Home <https://x.example> [Map]\n",
    ),
    ('<a href="https://x.example"><div>Block</div></a>after', "Block <https://x.example>\nafter\n"),
    ("<ul><li>one<li>two<ul><li>deep</ul></ul>", "- one\n- two\n  - deep\n"),
    ("<ol start=9><li>a<li>b<li value=20>c</ol>", "9. a\n10. b\n20. c\n"),
    ("<ol reversed start=2><li>a<li>b</ol>", "2. a\n1. b\n"),
    ("<blockquote>a<blockquote>b</blockquote></blockquote>", "> a\n>\n>> b\n"),
    ("<pre>  a\n b  </pre>c", "  a\n b\n\nc\n"),
    ("a<hr>b", "a\n\n" + "-" * 40 + "\n\nb\n"),
    ("<dl><dt>t<dd>d</dl>", "t\n    d\n"),
    (
        '<p hidden>x</p><p style="color:red; DISPLAY : none">y</p><p style="display:none"><b>z</b></p>w<style>q</style><!-- c -->',
        "w\n",
    ),
    ("<title>t</title><p>&nbsp;</p><p>a&shy;b\ufeff &amp; &lt;c&gt;</p>", "ab & <c>\n"),
    ("<table><tr><td>a<td>b</table>", "a  b\n"),
    (
        "<table><tr><td>Berth<td>B 14<tr><td>To<td>7 July<tr><td><p>one<p>two<tr><td>x<td>y</table>",
        "Berth  B 14\nTo     7 July\n\none\n\ntwo\n\nx  y\n",
    ),
    ("<table role=presentation><tr><td><h1>A</h1></td></tr><tr><td><p>b<p>c</table>", "A\n===\n\nb\n\nc\n"),
    (
        "<table><tr><th>Item<th>Price<tr><td>Rope<td>2.50<tr><td>Paint<td>10.00<tfoot><tr><td>All<td>12.50</table>",
        "Item   Price\n------------\nRope    2.50\nPaint  10.00\n------------\nAll    12.50\n",
    ),
    ("<table><caption>C</caption><tr><td>a<td>b</table>", "C\n\na  b\n"),
    ("<q>said</q>", "“said”\n"),
    ("", ""),
]


class PlainText(Case):
    def test_texts(self) -> None:
        for page, expected in TEXTS:
            with self.subTest(page):
                self.assertEqual(Template.from_text(page).render({}).text, expected)

    def test_wrapping(self) -> None:
        text = Template.from_text(f"<p>{'word ' * 100}{'x' * 100} {'日本' * 10} {'長い ' * 40}").render({}).text
        for line in text.splitlines():
            from pribble.plaintext.line_breaking import terminal_columns

            self.assertTrue(terminal_columns(line) <= 72 or line == "x" * 100, line)
        self.assertEqual("".join(text.split()), "word" * 100 + "x" * 100 + "日本" * 10 + "長い" * 40)

    def test_an_authors_own_private_use_characters(self) -> None:
        page = '<img src="data:," alt="a\U000f0007 {{ x }}"><img src="data:," alt="\U0010fffd">'
        rendering = Template.from_text(page).render({"x": 1})
        self.assertEqual(rendering.text, "[a\U000f0007 1][\U0010fffd]\n")
        self.assertIn('alt="a\U000f0007 1"', str(rendering.html))

    def test_values_flow_in(self) -> None:
        page = (
            '<a href="{{ link }}">{{ label }}</a> <img src="data:,x" alt="{{ label }}">'
            "{{ for x in xs: }}<li>{{ x }}{{ :else: }}none{{ :for }}"
        )
        data = {"link": "https://x.example/é?a=1&b", "label": "A & B", "xs": ["<1>", "2"]}
        self.assertEqual(
            Template.from_text(page).render(data).text, "A & B <https://x.example/%C3%A9?a=1&b> [A & B]\n- <1>\n- 2\n"
        )

    @generated(200)
    @given(
        st.lists(
            st.tuples(
                st.sampled_from(["p", "b", "div", "li", "h2", "span", "blockquote", "a"]),
                st.text("abc &<é\n", max_size=12),
            ),
            max_size=10,
        )
    )
    def test_every_word_of_generated_pages(self, pieces: list[tuple[str, str]]) -> None:
        template = "".join(f"<{name}>{{{{ v[{n}] }}}}</{name}> " for n, (name, _) in enumerate(pieces))
        rendering = Template.from_text(f"<table><tr><td>{template}</table>").render({"v": [text for _, text in pieces]})
        page = html5lib.parse(rendering.html, namespaceHTMLElements=False)
        seen = words(" ".join(page.itertext()))
        self.assertIsNone(is_said(seen, rendering.text))


if __name__ == "__main__":
    unittest.main()
