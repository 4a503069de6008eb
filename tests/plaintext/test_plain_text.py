"""What the plain text says: against a browser, against a reader of format=flowed, against pages judged by reading."""

from __future__ import annotations

import functools
import operator
import re
import unittest
from collections.abc import Iterator
from email import message_from_bytes, policy
from typing import Any, ClassVar
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from pribble import Message, PribbleError, Template, TemplateFolder, compare, plain_text
from pribble.demo import charted
from tests.chromium import Browser, browser
from tests.plaintext import saying
from tests.plaintext.said import complaint
from tests.support import (
    DEMO,
    FEWER,
    TEST_DATA,
    Case,
    examples,
    generated,
    html_of,
    large,
    needs_chromium,
    pribble,
    proof,
    slow,
)

TEXTS = TEST_DATA / "texts"


def demo() -> Iterator[tuple[str, Any]]:
    """The renderings of all demo templates that have HTML, for all their samples."""
    folder = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
    for name, template in folder.items():
        for label, sample in template.samples.items():
            data = charted(sample)[0] if name == "mooring-statement" else sample
            for locale in ("en_GB", "de"):
                rendering = template.render(data, locale=locale)
                if rendering.html is not None:
                    yield f"{name} {label} {locale}", rendering


class Gallery(unittest.TestCase):
    def test_hard_pages(self) -> None:
        """Each text was read, and is one that a person could have typed."""
        pages = sorted(TEXTS.glob("*.html"))
        self.assertGreaterEqual(len(pages), 15)
        for page in pages:
            with self.subTest(page.name):
                expected = page.with_suffix(".txt").read_text(encoding="utf-8")
                self.assertEqual(plain_text(page.read_text(encoding="utf-8")), expected)


@proof
@needs_chromium
class Shown(unittest.TestCase):
    """A browser shows no word that the text does not say, in the same order, and the text says none that it hides."""

    page: ClassVar[Browser]

    @classmethod
    def setUpClass(cls) -> None:
        cls.page = browser()
        cls.page.become()

    def test_generated_pages(self) -> None:
        judged = [0]

        @generated(90)
        @given(saying.templates(), saying.DATUM)
        def check(pair: saying.Pair, data: dict[str, Any]) -> None:
            try:
                template = Template.from_text(pair[0])
                html = str(template.render(data).html)
            except PribbleError:
                return
            if template.findings:  # a browser reads something else than is written
                return
            judged[0] += 1
            self.assertIsNone(complaint(self.page, html), html)

        check()
        self.assertGreater(judged[0], 30)

    def test_the_demo(self) -> None:
        for called, rendering in demo():
            with self.subTest(called):
                self.assertIsNone(complaint(self.page, rendering.html))

    def test_hard_pages(self) -> None:
        # What is not said of these on purpose: what stands in forms and in scripts' stead.
        for page in sorted(TEXTS.glob("*.html")):
            if page.stem not in ("hidden", "wide"):
                with self.subTest(page.name):
                    self.assertIsNone(complaint(self.page, page.read_text(encoding="utf-8")))

    def test_the_judge_can_tell(self) -> None:
        for page, lost in (("<p>one <b>word</b> two", "<b>word</b>"), ("<p>a <i>word</i><p>b", "<p>b")):
            with self.subTest(page):
                self.assertIsNone(complaint(self.page, page))
                incomplete = lambda html, **how: plain_text(re.sub("<[bi]>.*?<", "<", html))  # noqa: E731
                with mock.patch("tests.plaintext.said.plain_text", incomplete):
                    self.assertIn("is not said", str(complaint(self.page, page)), lost)


class Compiled(Case):
    """The text program gives what `plain_text` gives of the rendered page."""

    def test_generated_templates(self) -> None:
        compared, late = [0], [0]

        @generated(150)
        @given(saying.templates(), saying.DATUM)
        def check(pair: saying.Pair, data: dict[str, Any]) -> None:
            try:
                template = Template.from_text(pair[0])
                rendering = template.render(data)
                page = Template.from_text(pair[1]).render(data).html
            except PribbleError:
                return
            compared[0] += 1
            late[0] += template.variants.compiled("en").text_from_page
            self.assertEqual(rendering.text, plain_text(str(page)), pair[0])

        check()
        self.assertGreater(compared[0], examples(100))
        self.assertTrue(late[0] or FEWER)

    @slow
    def test_the_demo(self) -> None:
        for called, rendering in demo():
            if "gale-warning" not in called:  # its text is written by hand
                with self.subTest(called):
                    self.assertEqual(rendering.text, plain_text(rendering.html))

    def test_hiding_that_depends_on_data(self) -> None:
        cases = [
            ("<style>.off { display: none }</style><p class='{{ v }}'>a<p>b", "off", "b\n"),
            ("<style>.off { display: none }</style><p class='{{ v }}'>a<p>b", "on", "a\n\nb\n"),
            ("<p style='display: {{ v }}'>a</p><p>b", "none", "b\n"),
            ("<p {{ if v == 'x': }}hidden{{ :if }}>a</p><p>b", "x", "b\n"),
            ("<p {{ if v == 'x': }}hidden{{ :if }}>a</p><p>b", "y", "a\n\nb\n"),
            ("<style>li + li { display: none }</style><ul>{{ for x in [v, v]: }}<li>{{ x }}{{ :for }}</ul>", "k", "- k\n"),
            ("<style>em { display: none }</style><p>{{ v as html }}", "<em>a</em> b", "b\n"),
            ("<style>th { visibility: hidden }</style><p>{{ [{v: 1}] as table }}" and
             "<style>td:first-child { visibility: hidden }</style><table><tr>{{ if v == 'x': }}<td>a</td>{{ :if }}<td>b<td>c</table>", "x", "b  c\n"),
            ("<p style='visibility: {{ v }}'>a {{ only text: }}t{{ :only }}<b style='visibility: visible'>b", "hidden", "b\n"),
        ]  # fmt: skip
        for page, value, expected in cases:
            with self.subTest(page, v=value):
                template = Template.from_text(page)
                self.assertTrue(template.variants.compiled("en").text_from_page)
                self.assertEqual(template.render({"v": value}).text, expected)

    def test_what_was_found(self) -> None:
        """Templates whose text was once another one than that of their page."""
        for page, data in (
            ('{{ for x in l: }}{{ x }}, {{ :for }}<p style="display:none">n</p>word', {"l": ["1"]}),
            ("{{ if c: }}word {{ :if }}{{ if c: }}word {{ :if }}", {"c": True}),
            ("{{ if c: }}<p>a</p>{{ :if }}b{{ for x in l: }}<p>{{ x }}{{ :for }}", {"c": False, "l": []}),
            ("{{ if c: }}<div></div>{{ :if }}word <b style='display:block'></b>word", {"c": True}),
            ("{{ if c: }}<div></div>{{ :if }}{{ v as breaks }}", {"c": True, "v": ""}),
            ("<pre>{{ v as breaks }}</pre>", {"v": "a\nb"}),
            (
                "<a href='https://x.example/'><b>{{ v }}</b> <img src='data:,' alt=B style='display:block'></a>",
                {"v": "x"},
            ),
            ("<table>{{ if a: }}<tr><td>1{{ :else: }}<tbody><tr><td>2{{ :if }}</table>", {"a": 0}),
            ("<p><br>{{ v }}<div>b</div><div>c</div>", {"v": ""}),
        ):
            with self.subTest(page):
                rendering = Template.from_text(page).render(data)
                self.assertEqual(rendering.text, plain_text(str(rendering.html)))

    def test_values_that_both_forms_show(self) -> None:
        """The HTML's program shows them, and the text's takes them over: the same, whatever they are and wherever."""
        row = (
            "{{ for x in l: }}<tr><td>{{ x }}</td><td>{{ x as upper }}{{ if x == 'b': }} <b>{{ x }}!</b>{{ :if }}"
            "</td></tr>{{ :for }}"
        )
        page = (
            "<h1>{{ v }}</h1><p>{{ a? }}{{ a? as money('EUR') }}{{ only html: }}{{ v }}{{ :only }}{{ v as lower }}"
            f"<table><tr><th>x</th><th>y</th></tr>{row}</table>{{{{ v }}}}<!--[if mso]>{{{{ v }}}}<![endif]-->"
        )
        for value in ("a", "A & <b> \"q\" 'r' &amp; &#38;", "", "a\u00a0b \n c"):
            with self.subTest(value):
                data = {"v": value, "l": ["a&b", "b", " "]}
                said = Template.from_text(page).render(data).text
                whole = Template.from_text(page.replace("{{ only html: }}{{ v }}{{ :only }}", "")).render(data)
                self.assertEqual(said, plain_text(html_of(whole)))

    def test_what_only_the_text_lacks_is_told_too(self) -> None:
        template = Template.from_text("<p>{{ a }} {{ only text: }}{{ b }}{{ :only }}<p>{{ c.d as date }}")
        told = [str(problem).split(": ")[1].split(" in ")[0] for problem in template.problems({"c": {}})]
        self.assertEqual(told, ['no field "a"', 'no field "d"', 'no field "b"'])

    def test_what_has_no_marks_is_laid_out_once(self) -> None:
        template = Template.from_text(
            "<h1>Head</h1><ul><li>one</ul><p>" + "word " * 40 + "<p>{{ v }}<table><tr><th>A<th>B<tr><td>1<td>2</table>"
        )
        first, second = (template.render({"v": v}).text for v in "ab")
        self.assertEqual(first.replace("\na\n", "\nb\n"), second)


# ---- format=flowed ----------------------------------------------------------------------------------------------


def unflowed(body: str, delsp: bool) -> list[tuple[int, str]]:
    """The paragraphs of a text, and how deep each is quoted: a plain reading of RFC 3676, 4.1 to 4.5."""
    paragraphs: list[tuple[int, str]] = []
    going_on = False
    for line in body.removesuffix("\r\n").split("\r\n"):
        depth = len(line) - len(line.lstrip(">"))
        text = line[depth:]
        text = text[1:] if text.startswith(" ") else text
        flows = text.endswith(" ") and text != "-- "
        if flows and delsp:
            text = text[:-1]
        if going_on and paragraphs[-1][0] == depth and text != "-- ":
            paragraphs[-1] = depth, paragraphs[-1][1] + text
        else:
            paragraphs.append((depth, text))
        going_on = flows
    return paragraphs


def sent(text: str, **options: Any) -> tuple[Any, str]:
    """The text part of a message as an independent parser reads it, and its body with CRLF."""
    raw = bytes(Message(sender="a@skerrow.example", to="b@example.org", text=text, **options))
    part = message_from_bytes(raw, policy=policy.SMTP)
    payload = part.get_payload(decode=True)
    assert isinstance(payload, bytes)
    content = payload.decode("utf-8")
    return part, content


class Flowed(Case):
    def check(self, text: str, paragraphs: list[tuple[int, str]]) -> None:
        part, body = sent(text)
        self.assertEqual(part["Content-Type"].params.get("format"), "flowed")
        delsp = part["Content-Type"].params.get("delsp") == "yes"
        self.assertEqual(unflowed(body, delsp), paragraphs)
        for line in body.split("\r\n"):
            self.assertTrue(len(line) <= 78 or " " not in line.strip("> ").removeprefix("-- "), line)

    @generated(200)
    @given(
        st.lists(
            st.lists(
                st.sampled_from(["word", "From", ">", "--", "a" * 30, "x" * 80, "é", "漢字" * 9, "-", ">>", "b,"]),
                min_size=1,
                max_size=40,
            ).map(" ".join),
            min_size=1,
            max_size=5,
        ),
        st.integers(0, 3),
    )
    def test_paragraphs_come_back(self, paragraphs: list[str], depth: int) -> None:
        page = "".join(f"<p>{text.replace('>', '&gt;')}</p>" for text in paragraphs)
        page = "<blockquote>" * depth + page + "</blockquote>" * depth
        expected = [(depth, text) for text in paragraphs]
        between = [(depth, "")]
        self.check(plain_text(page), functools.reduce(operator.iadd, [[one, *between] for one in expected], [])[:-1])

    def test_derived_texts(self) -> None:
        words = " ".join(["word"] * 30)
        self.check(plain_text(f"<p>{words}<pre>  code \n b</pre>{words}"),
                   [(0, words), (0, ""), (0, "  code"), (0, " b"), (0, ""), (0, words)])  # fmt: skip
        self.check(plain_text(f"<h1>{words}</h1>")[:5], [(0, "word ".strip())])
        quoted = plain_text(f"<p>a<blockquote><p>{words}<blockquote>deep</blockquote></blockquote>")
        self.check(quoted, [(0, "a"), (0, ""), (1, words), (1, ""), (2, "deep")])
        self.assertNotIn("> >", quoted)

    def test_han_needs_delsp(self) -> None:
        text = "日本語の文章です。" * 20
        self.assertEqual(sent(plain_text(f"<p>{text}"))[0]["Content-Type"].params.get("delsp"), "yes")
        self.check(
            plain_text(f"<p>{text}<p>" + "two words " * 20), [(0, text), (0, ""), (0, ("two words " * 20).strip())]
        )

    def test_lines_written_by_hand(self) -> None:
        cases = [
            ("a\nb  c\n", [(0, "a"), (0, "b  c")]),
            ("trailing  \nnext", [(0, "trailing"), (0, "next")]),
            ("> not a quote\nFrom me\n  set in", [(0, "> not a quote"), (0, "From me"), (0, "  set in")]),
            ("-- \nAna", [(0, "-- "), (0, "Ana")]),
            ("long " * 30 + "\nnext", [(0, ("long " * 30).strip()), (0, "next")]),
            ("x" * 200, [(0, "x" * 200)]),
            ("a\r\nb\rc\u2028d\x0be", [(0, "a"), (0, "b"), (0, "c\u2028d\x0be")]),
            ("word " * 15 + "-- " + "y" * 78 + "\n", [(0, "word " * 15 + "-- " + "y" * 78)]),
        ]
        for text, paragraphs in cases:
            with self.subTest(text[:30]):
                self.check(text, paragraphs)

    @generated(200)
    @given(st.lists(st.text("a >-é漢 ", max_size=100) | st.sampled_from(["-- ", "From ", "x " * 60]), max_size=8))
    def test_lines_of_any_kind_come_back(self, lines: list[str]) -> None:
        part, body = sent("\n".join(lines))
        expected = [(0, line if line == "-- " else line.rstrip(" ")) for line in lines]
        while len(expected) > 1 and expected[-1] == (0, ""):
            expected.pop()
        found = unflowed(body, part["Content-Type"].params.get("delsp") == "yes")
        while len(found) > 1 and found[-1] == (0, ""):
            found.pop()
        self.assertEqual(found, expected or [(0, "")])

    def test_columns_stay_in_line_where_stuffing_is_unknown(self) -> None:
        table = "<table><tr><th>No.<th>Name<tr><td>8<td>Ana<tr><td>12<td>Ivo</table>"
        _, body = sent(plain_text(f"<p>Rows:{table}<p>end"))
        lines = body.split("\r\n")
        self.assertEqual(lines[2:6], [" No.  Name", " ---------", "   8  Ana", "  12  Ivo"])
        self.assertEqual((lines[0], lines[7]), ("Rows:", "end"))

    def test_the_fixed_form(self) -> None:
        part, body = sent("> as it is  \n" + "long " * 30, text_format="fixed")
        self.assertNotIn("format", part["Content-Type"].params)
        self.assertEqual(body.rstrip("\r\n"), "> as it is  \r\n" + "long " * 30)
        with self.assertRaises(ValueError):
            sent("a", text_format="free")

    def test_the_transfer_encoding_is_not_for_trailing_spaces(self) -> None:
        part, _ = sent(plain_text("<p>" + "word " * 40))
        self.assertEqual(part["Content-Transfer-Encoding"], "7bit")

    def test_a_rendering_is_sent_as_it_was_laid_out(self) -> None:
        rendering = Template.from_text("<p>{{ v }}<p>end").render({"v": "word " * 30})
        message = rendering.message(sender="a@skerrow.example", to="b@example.org")
        self.check(message.text or "", [(0, ("word " * 30).strip()), (0, ""), (0, "end")])


# ---- drift ------------------------------------------------------------------------------------------------------


class Drifting(Case):
    def test_what_either_lacks(self) -> None:
        page = (
            '<style>.h { display: none }</style><p class="h">Hidden 99</p><p>Pay 1&nbsp;250,00 € at the '
            '<a href="https://skerrow.example/pay/">desk</a> by 4 May, or call <a href="tel:+44-1632-960100">us</a>.</p>'
        )
        said = "PAY 1250,00 € at the desk by 4 May: https://skerrow.example/pay, or call us, +44 1632 960100."
        self.assertFalse(compare(page, said), compare(page, said))
        drift = compare(page, "Pay 1250,00 € by 5 May at https://skerrow.example/payment. Call us at +44 1632 960100.")
        self.assertEqual(drift.numbers.text, ("4",))
        self.assertEqual(drift.numbers.html, ("5",))
        self.assertEqual(drift.addresses.text, ("https://skerrow.example/pay/",))
        self.assertEqual(drift.addresses.html, ("https://skerrow.example/payment",))
        self.assertEqual((drift.words.text, drift.words.html), (("the", "desk", "or"), ()))
        self.assertIn("the text lacks the numbers: 4", str(drift))

    def test_forms_that_do_not_matter(self) -> None:
        for page, text in (
            ("<p>It’s m<sup>2</sup>", "it's m²"),
            ('<a href="mailto:a@skerrow.example?subject=x">a@skerrow.example</a>', "A@skerrow.example"),
            ("<ol><li>a<li>b</ol>", "1) a\n2) b"),
            ('<img alt="Map"> <b>10&thinsp;000</b>'.replace("&thinsp;", "&nbsp;"), "map 10 000"),
        ):
            with self.subTest(page):
                self.assertFalse(compare(page, text), compare(page, text))

    def test_a_text_written_by_hand(self) -> None:
        template = TemplateFolder(DEMO, locale="en_GB")["gale-warning"]
        rendering = template.render(template.samples[""])
        drift = compare(html_of(rendering), rendering.text)
        self.assertEqual(drift.addresses, type(drift.addresses)())
        self.assertEqual(drift.numbers.text, ("1", "20"))  # where the office is and until when, which no gale waits for
        self.assertIn("\n-- \nBerth Office", rendering.text)
        storm = template.render(template.samples["storm"]).text
        self.assertIn("DO NOT GO TO YOUR BOAT", storm)
        self.assertNotIn("Double the lines", storm)


# ---- the command line and the call ------------------------------------------------------------------------------


class Asked(Case):
    def test_convert(self) -> None:
        folder = self.folder({
            "page.html": '<link rel="stylesheet" href="s.css"><p class="x">no<p>Yes, <a href="https://x.example/">here</a>',
            "s.css": ".x { display: none }",
        }).path  # fmt: skip
        page = str(folder / "page.html")
        made = pribble("convert", page, "--format", "text")
        self.assertEqual((made.returncode, made.stdout), (0, "Yes, here <https://x.example/>\n"))
        made = pribble("convert", page, "--format", "text", "--links", "notes", "--width", "40")
        self.assertEqual(made.stdout, "Yes, here [1]\n\n[1] <https://x.example/>\n")
        made = pribble("convert", "-", "--format", "text", "--json", stdin="<p>a<b")
        self.assertIn('"content": "a\\n"', made.stdout)
        for wrong in (("--embed", "data"), ("--width", "3"), ("--old-attributes",)):
            made = pribble("convert", page, "--format", "text", *wrong)
            self.assertEqual((made.returncode, made.stdout), (2, ""), made.stderr)
        self.assertEqual(pribble("convert", page, "--width", "40").returncode, 2)

    def test_notes_and_widths(self) -> None:
        page = "<p>" + "".join(f'<a href="https://x.example/{n % 2}">label {n}</a> ' for n in range(4))
        self.assertEqual(
            plain_text(page, links="notes", width=30),
            "label 0 [1] label 1 [2] label\n2 [1] label 3 [2]\n\n[1] <https://x.example/0>\n[2] <https://x.example/1>\n",
        )
        for wrong in ({"width": 10}, {"links": "bare"}):
            with self.assertRaises(ValueError):
                plain_text(page, **wrong)

    @slow
    def test_hostile_pages(self) -> None:
        for page in ("<div>" * large(100_000), "<table><tr><td>" * large(20_000), "<a href=x>" * large(30_000) + "x", "x" * large(1_000_000),
                     "<blockquote>" * large(50_000) + "x", "<ul><li>" * large(30_000) + "x", "<sup>" * large(50_000) + "x", "漢" * large(300_000),
                     "<td>" * large(50_000), "\u200d" * large(500_000), "<pre>" + "\n" * large(500_000) + "x", "a\u200b" * large(200_000),
                     "<table><tr>" + "<th>x" * large(20_000), "<p " * large(50_000)):  # fmt: skip
            with self.subTest(page[:20]):
                self.assertIsInstance(plain_text(page), str)


if __name__ == "__main__":
    unittest.main()
