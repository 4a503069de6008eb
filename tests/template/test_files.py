"""Templates of several files: layouts, slots, parts, locales, text-only templates; and what a folder keeps."""

from __future__ import annotations

import os
import time
import unittest
from decimal import Decimal
from typing import Any

from pribble import LimitReached, Limits, PribbleError, Template, TemplateError, TemplateFolder
from tests.support import Case, html_of, large, slow

# (files, data, what comes of t)
PAGES: list[tuple[dict[str, str], dict[str, Any], str]] = [
    # layouts of layouts, slots with defaults, what goes into them
    (
        {
            "t.html": '{{ layout "l.html" }}{{ let a = 1 }}{{ into aside: }}[{{ a }}]{{ :into }}page',
            "l.html": "<{{ slot aside: }}none{{ :slot }}|{{ slot content }}>".replace("<", "(").replace(">", ")"),
        },
        {},
        "([1]|page)",
    ),
    (
        {"t.html": '{{ layout "l.html" }}page', "l.html": "({{ slot aside: }}none{{ :slot }}|{{ slot content }})"},
        {},
        "(none|page)",
    ),
    (
        {
            "t.html": '{{ layout "l.html" }}{{ into top: }}T{{ :into }}{{ into low: }}L{{ :into }}page',
            "l.html": '{{ layout "m.html" }}l{{ slot low }}({{ slot content }})',
            "m.html": "m{{ slot top }}<{{ slot content }}>".replace("<", "[").replace(">", "]"),
        },
        {},
        "mT[lL(page)]",
    ),
    (
        {
            "t.html": '{{ layout "l.html" }}page',
            "l.html": '{{ layout "m.html" }}{{ into top: }}from l{{ :into }}{{ slot content }}',
            "m.html": "{{ slot top }}/{{ slot content }}",
        },
        {},
        "from l/page",
    ),
    (
        {
            "t.html": '{{ layout "l.html" }}{{ subject: }}S{{ :subject }}x',
            "l.html": "{{ subject: }}[{{ slot subject }}]{{ :subject }}<title>{{ slot subject }}</title>{{ slot content }}",
        },
        {},
        "<title>S</title>x",
    ),
    ({"t.html": '{{ layout "l.html" }}x', "l.html": "{{ if a: }}{{ slot content }}{{ :if }}"}, {"a": True}, "x"),
    # a page that is a document of its own
    (
        {
            "t.html": '{{ layout "l.html" }}<html><head><title>no</title><meta charset=x><style>a{}</style>{{ let a = 1 }}<link rel=x></head><BODY class="{{ a }}">in{{ a }}</BODY></html>',
            "l.html": "<html><head><meta charset=utf-8></head><body>{{ slot content }}</body></html>",
        },
        {},
        '<html><head><meta charset="utf-8"><style>a{}</style><link rel=x></head><body>in1</body></html>',
    ),
    ({"t.html": '{{ layout "l.html" }}<body>x', "l.html": "({{ slot content }})"}, {}, "(x)"),
    # parts: names, defaults, content in the page's own scope
    (
        {
            "t.html": '{{ let n = 2 }}{{ put "p.html", title = "A": }}<b>{{ n }}</b>{{ :put }}',
            "p.html": "{{ title }}({{ slot content }})",
        },
        {},
        "A(<b>2</b>)",
    ),
    (
        {"t.html": '{{ put "p.html", a = 1 }}', "p.html": "{{ takes a, b = 2, c = a + b }}\n{{ a }}{{ b }}{{ c }}"},
        {"b": 9},
        "123",
    ),
    (
        {"t.html": '{{ put "p.html" }}', "p.html": "{{ slot content: }}default{{ :slot }}{{ d }}"},
        {"d": "D"},
        "defaultD",
    ),
    (
        {
            "t.html": '{{ for x in xs: }}{{ put "p.html", x = x: }}{{ x }}!{{ :put }}{{ :for }}',
            "p.html": "<{{ x }}:{{ slot content }}>".replace("<", "[").replace(">", "]"),
        },
        {"xs": [1, 2]},
        "[1:1!][2:2!]",
    ),
    (
        {
            "t.html": '{{ put "a/p.html" }}',
            "a/p.html": '{{ put "q.html" }}{{ put "../r.html" }}',
            "a/q.html": "q",
            "r.html": "r",
        },
        {},
        "qr",
    ),
    (
        {"t.html": '{{ put "p.html": }}{{ put "p.html": }}x{{ :put }}{{ :put }}', "p.html": "({{ slot content }})"},
        {},
        "((x))",
    ),
    # only html; lines
    ({"t.html": "a{{ only html: }}<b>h</b>{{ :only }}{{ only text: }}t{{ :only }}b"}, {}, "a<b>h</b>b"),
    ({"t.html": "a\n{{ only html: }}\nh\n{{ :only }}\n{{ locale 'de': }}\nb\n{{ :locale }}\n"}, {}, "a\nh\nb\n"),
]

WRONG: list[tuple[dict[str, str], str]] = [
    ({"t.html": '{{ layout "t.html" }}'}, "1:11: a layout is its own layout"),
    (
        {"t.html": '{{ layout "l.html" }}', "l.html": '{{ layout "t.html" }}{{ slot content }}'},
        "l.html:1:11: a layout is its own layout",
    ),
    ({"t.html": '{{ layout "l.html" }}', "l.html": "no slot"}, "1:11: the layout has no place for the page"),
    (
        {"t.html": '{{ layout "l.html" }}{{ into asid: }}x{{ :into }}', "l.html": "{{ slot aside }}{{ slot content }}"},
        '1:30: no layout has a slot "asid" (did you mean "aside"?)',
    ),
    (
        {
            "t.html": '{{ layout "l.html" }}{{ into a: }}x{{ :into }}{{ into a: }}x{{ :into }}',
            "l.html": "{{ slot a }}{{ slot content }}",
        },
        '1:55: the slot "a" is filled already',
    ),
    ({"t.html": "{{ into a: }}x{{ :into }}"}, '1:1: "into" fills a slot of a layout, and there is none'),
    ({"t.html": '{{ put "p.html" }}', "p.html": "{{ takes a }}{{ a }}"}, '1:1: the part takes "a", which is not given'),
    (
        {"t.html": '{{ put "p.html", a = 1, bb = 2 }}', "p.html": "{{ takes a, b = 1 }}"},
        '1:25: the part takes no "bb" (did you mean "b"?)',
    ),
    (
        {"t.html": '{{ put "p.html", a = 1 }}', "p.html": "{{ takes a }}{{ colour }}"},
        'p.html:1:17: this part takes no "colour"',
    ),
    ({"t.html": '{{ put "p.html": }}x{{ :put }}', "p.html": "none"}, "1:1: the part has no place for this content"),
    (
        {"t.html": '{{ put "p.html" }}', "p.html": '{{ put "q.html" }}', "q.html": '{{ put "p.html" }}'},
        "q.html:1:8: a part puts itself",
    ),
    (
        {"t.html": '{{ put "p.html" }}', "p.html": "{{ subject: }}x{{ :subject }}"},
        'p.html:1:1: "subject" stands in a page or layout, not in a part',
    ),
    (
        {"t.html": '{{ put "p.html" }}', "p.html": "x{{ if a: }}{{ takes b }}{{ :if }}"},
        'p.html:1:13: "takes" stands in no block',
    ),
    ({"t.html": "{{ a }}{{ takes b }}"}, '1:8: "takes" is the first thing in a part'),
    ({"t.html": "{{ takes b }}"}, "1:1: a part takes names; a page or layout does not"),
    ({"t.html": "{{ only css: }}{{ :only }}"}, '1:9: only "css" means nothing (it is html or text)'),
    (
        {"t.html": '{{ layout "l.html" }}<style>b{}</style><body>x', "l.html": "({{ slot content }})"},
        "1:22: the layout has no </head> that this could join",
    ),
    ({"t.html": "{{ slot content }}"}, "1:1: a slot stands in a layout or part only"),
    ({"t.html": "{{ text: }}a{{ :text }}{{ text: }}b{{ :text }}"}, '1:24: "text" stands twice'),
]


class Files(Case):
    def test_pages(self) -> None:
        for files, data, expected in PAGES:
            with self.subTest(files["t.html"]):
                self.assertEqual(self.folder(dict(files))["t"].render(data).html, expected)

    def test_what_is_wrong(self) -> None:
        for files, expected in WRONG:
            with self.subTest(files["t.html"]):
                said = self.complaint(files["t.html"], files=dict(files))
                self.assertTrue(
                    said.startswith(expected if ".html" in expected.partition(":")[0] else f"t.html:{expected}"), said
                )

    def test_the_way_round_a_circle(self) -> None:
        said = self.complaint(
            '{{ put "p.html" }}', files={"p.html": '\n{{ put "q.html" }}', "q.html": '{{ put "p.html" }}'}
        )
        self.assertEqual(
            [line.strip() for line in said.splitlines() if "html:" in line],
            [
                "q.html:1:8: a part puts itself",
                "which is put at p.html:2:8",
                "which is put at t.html:1:8",
                "put at p.html:2:1",
                "put at t.html:1:1",
            ],
        )

    def test_a_layouts_subject_takes_in_the_pages(self) -> None:
        folder = self.folder(
            {
                "t.html": '{{ layout "l.html" }}{{ let n = 2 }}{{ subject: }}S {{ n }}{{ :subject }}{{ text: }}\n   by hand {{ n }}\n{{ :text }}x',
                "l.html": "{{ subject: }}[{{ slot subject }}]{{ :subject }}{{ text: }}{{ slot text }}\n-- \nOffice{{ :text }}{{ slot content }}",
            }
        )
        rendering = folder["t"].render({})
        self.assertEqual(
            (rendering.subject, rendering.text, rendering.html), ("[S 2]", "   by hand 2\n\n-- \nOffice\n", "x")
        )

    def test_text_stretches(self) -> None:
        text = "<p>a {{ only text: }}<b> &amp; {{ x }}{{ :only }} b</p>\n{{ only text: }}\n    one <3\n      {{ x }}\n\n    three\n{{ :only }}\n<p>c"
        rendering = Template.from_text(text).render({"x": "<X>"})
        self.assertEqual(rendering.text, "a <b> & <X> b\n\none <3\n  <X>\n\nthree\n\nc\n")
        self.assertNotIn("three", html_of(rendering))
        by_hand = Template.from_text(
            "{{ text: }}\n  Dear {{ x }}, &lt;3  \n\n    pay {{ 5 as money('EUR') }}\n  {{ :text }}<p>x"
        ).render({"x": "<X>"})
        self.assertEqual(by_hand.text, "Dear <X>, <3\n\n  pay €5.00\n")

    def test_lifted_blocks_have_lines_of_their_own(self) -> None:
        text = "a\n{{ text: }}\none\n{{ if x: }}\ntwo\n{{ :if }}\nthree\n{{ :text }}\nb\n"
        rendering = Template.from_text(text).render({"x": True})
        self.assertEqual((rendering.text, rendering.html), ("one\ntwo\nthree\n", "a\nb\n"))
        folder = self.folder(
            {
                "t.html": '{{ layout "l.html" }}\n{{ into s: }}x{{ :into }}\npage\n',
                "l.html": "{{ slot s }}|{{ slot content }}",
            }
        )
        self.assertEqual(folder["t"].render({}).html, "x|page\n")

    def test_text_only_templates(self) -> None:
        folder = self.folder(
            {
                "t.txt": "{{ subject: }}Code {{ code }}{{ :subject }}\nYour code is {{ code }} &amp; <b>.\n{{ if late: }}\nHurry.\n{{ :if }}\n{{ put 'p.txt' }}",
                "p.txt": "-- office",
                "both.html": "",
                "both.txt": "",
            }
        )
        rendering = folder["t"].render({"code": "<12>", "late": True})
        self.assertEqual(
            (rendering.subject, rendering.html, rendering.text),
            ("Code <12>", None, "Your code is <12> &amp; <b>.\nHurry.\n-- office\n"),
        )
        self.assertEqual(
            [
                p
                for p in bytes(rendering.message(sender="a@x.example", to="b@x.example")).split(b"\r\n")
                if p.startswith(b"Content-Type")
            ],
            [b"Content-Type: text/plain; charset=utf-8; format=flowed"],
        )
        with self.assertRaises(TemplateError):
            folder["both"]


class Folders(Case):
    def test_locale_variants(self) -> None:
        folder = self.folder(
            {
                "t.html": '{{ put "parts/p.html" }} {{ n as number(1) }}',
                "t.de.html": '{{ put "parts/p.html" }} de {{ n as number(1) }}',
                "t.de-CH.html": "ch {{ n as number(1) }}",
                "t.fr.html": '{{ put "parts/p.html" }}',
                "parts/p.html": "P{{ n as number(1) }}",
                "parts/p.de.html": "Pde{{ n as number(1) }}",
                "notes.v2.html": "x",
            },
            locale="en",
        )
        self.assertEqual(list(folder), ["notes.v2", "t"])
        made = {
            locale: folder["t"].render({"n": Decimal("12.5")}, locale=locale).html
            for locale in ("en", "de", "de_AT", "de-CH", "fr", "sv")
        }
        self.assertEqual(
            made,
            {
                "en": "P12.5 12.5",
                "de": "Pde12,5 de 12,5",
                "de_AT": "Pde12,5 de 12,5",
                "de-CH": "ch 12.5",
                "fr": "P12.5",
                "sv": "P12.5 12.5",
            },
        )

    def test_problems_are_those_of_the_file_for_a_locale(self) -> None:
        template = self.folder({"t.html": "{{ a }}", "t.de.html": "{{ b }}"})["t"]
        self.assertEqual([p.problem for p in template.problems({}, locale="de-AT")], ['no field "b" in the data'])
        with self.assertRaises(ValueError):
            template.problems({}, locale="xx")

    def test_common_values(self) -> None:
        folder = self.folder(
            {
                "t.html": '{{ office.phone }} {{ tone }} {{ put "p.html" }}',
                "p.html": "{{ takes x = 1 }}{{ office.phone }}{{ x }}",
            },
            common={"office": {"phone": "123"}, "tone": "calm"},
        )
        self.assertEqual(folder["t"].render({"tone": "loud"}).html, "123 loud 1231")
        again = Template.from_text("{{ office?.phone }} {{ tone? else 'x' }}", folder=folder)
        self.assertEqual(again.render({}).html, "123 calm")
        self.assertEqual(folder["t"].fields(), [])
        self.assertIn("no field", self.complaint("{{ office.fax }}", {"office": {}}))

    def test_version_and_reload(self) -> None:
        folder = self.folder({"t.html": '{{ put "p.html" }}', "p.html": "1", "t.de.html": "x", "u.html": "u"})
        changing = TemplateFolder(folder.path, reload=True)
        before = changing["t"]
        self.assertIs(changing["t"], before)
        versions = {before.version, folder["u"].version}
        for name, content in (("p.html", "22"), ("t.de.html", "yy")):
            (folder.path / name).write_text(content)
            os.utime(folder.path / name, (time.time() + 5, time.time() + 5))
            versions.add(TemplateFolder(folder.path)["t"].version)
        self.assertEqual(len(versions), 4)
        self.assertEqual(
            (changing["t"].render({}).html, folder["t"].render({}).html), ("22", folder["t"].render({}).html)
        )
        self.assertIsNot(changing["t"], before)
        self.assertEqual(before.render({}).html, "1")


LIMITS = [
    (
        "twenty times the text",
        "{{ let a0 = '0123456789' * 1 }}".replace(" * 1", "")
        + "".join(f"{{{{ let a{n + 1} = a{n} + a{n} }}}}" for n in range(20)),
        {},
    ),
    (
        "a loop in a loop in a loop",
        "{{ for a in xs: }}{{ for b in xs: }}{{ for c in xs: }}x{{ :for }}{{ :for }}{{ :for }}",
        {"xs": list(range(400))},
    ),
    (
        "a list walked in a loop",
        "{{ for a in xs: }}{{ for b in xs: }}{{ xs as sum }}{{ :for }}{{ :for }}",
        {"xs": list(range(150))},
    ),
    (
        "a member sought in a loop",
        "{{ for a in xs: }}{{ for b in xs: }}{{ 'x' if -1 in xs }}{{ :for }}{{ :for }}",
        {"xs": list(range(150))},
    ),
    ("a long text in a loop", "{{ for a in xs: }}{{ t }}{{ :for }}", {"xs": list(range(5000)), "t": "<" * 50_000}),
    ("a long literal in a loop", "{{ for a in xs: }}" + "y" * 100_000 + "{{ :for }}", {"xs": list(range(5000))}),
    (
        "a long text kept by many names",
        "".join(f"{{{{ let a{n} = t + 'x' }}}}" for n in range(300)),
        {"t": "z" * 100_000},
    ),
    ("a large number", "{{ n * n }}", {"n": 10**20}),
    ("a number of many digits", "{{ n }}", {"n": 10**50}),
]


class Bounds(Case):
    @slow
    def test_nothing_multiplies_without_end(self) -> None:
        for name, template, data in LIMITS:
            with self.subTest(name), self.assertRaises(LimitReached) as caught:
                Template.from_text(template).render(data)
            self.assertIsNotNone(caught.exception.place)

    def test_limits_are_the_folders(self) -> None:
        files: dict[str, str | bytes] = {"t.html": "{{ for x in xs: }}{{ t + t }}{{ :for }}"}
        data = {"xs": [1] * 10, "t": "x" * 10}
        self.assertEqual(len(str(self.folder(files)["t"].render(data).html)), 200)
        for limits in (Limits(text=19), Limits(turns=9), Limits(output=199), Limits(characters=2)):
            with self.subTest(limits), self.assertRaises(LimitReached):
                self.folder(files, limits=limits)["t"].render(data)

    @slow
    def test_parts_that_multiply(self) -> None:
        files: dict[str, str | bytes] = {f"p{n}.html": f'{{{{ put "p{n + 1}.html" }}}}' * 2 for n in range(19)}
        for last, limits in (("", Limits()), ("x" * 10_000, Limits(parts=10**9))):
            folder = self.folder({**files, "p19.html": last, "t.html": '{{ put "p0.html" }}'}, limits=limits)
            with self.assertRaises(LimitReached):
                folder["t"]
        deep = self.folder(
            {
                **{f"p{n}.html": f'{{{{ put "p{n + 1}.html" }}}}' for n in range(30)},
                "p30.html": "",
                "t.html": '{{ put "p0.html" }}',
            }
        )
        with self.assertRaises(LimitReached):
            deep["t"]

    @slow
    def test_nothing_nests_without_end(self) -> None:
        nested = {
            "blocks": "{{ if a: }}" * 2000 + "{{ :if }}" * 2000,
            "loops": "".join(f"{{{{ for x{n} in a: }}}}" for n in range(19)) + "{{ :for }}" * 19,
            "branches": "{{ if a: }}" + "{{ :elif a: }}" * 2000 + "{{ :if }}",
            "brackets": "{{ " + "(" * 2000 + "1" + ")" * 2000 + " }}",
            "lists": "{{ " + "[" * 2000 + "]" * 2000 + " as count }}",
            "minus signs": "{{ " + "- " * 2000 + "1 }}",
            "operations": "{{ 1" + " + 1" * 2000 + " }}",
            "choices": "{{ 1" + " else 1" * 2000 + " }}",
            "steps": "{{ a" + ".b" * 2000 + " }}",
        }
        for name, text in nested.items():
            with self.subTest(name), self.assertRaises(LimitReached):
                Template.from_text(text)
        deep = (
            "".join(f"{{{{ if a: }}}}{{{{ for x{n} in xs: }}}}" for n in range(13))
            + "{{ 1"
            + " + 1" * 95
            + " }}"
            + "{{ :for }}{{ :if }}" * 13
        )
        self.assertEqual(Template.from_text(deep).render({"a": True, "xs": [1]}).html, "96")
        chain = (
            "{{ let b0 = a }}"
            + "".join(f"{{{{ let b{n + 1} = b{n} }}}}" for n in range(3000))
            + "{{ subject: }}{{ b3000 }}{{ :subject }}"
        )
        template = Template.from_text(chain)
        self.assertEqual(template.render({"a": "x"}).subject, "x")
        self.assertEqual([f.path for f in template.fields()], ["a"])

    @slow
    def test_many_formatters(self) -> None:
        text = "".join(f"{{{{ 'abc' as shorten({n + 1}) }}}}" for n in range(2000))
        self.assertTrue(str(Template.from_text(text).render({}).html).startswith("…a…abcabc"))

    def test_hostile_templates_end_at_once(self) -> None:
        for text in (
            "{{" * large(500_000),
            "{{ '" * large(200_000),
            "<" * large(1_000_000),
            "<!--" * large(250_000),
            "{{ a }}" * large(5_000),
            "{{ if a: }}" * large(50_000),
            "<p title='" * large(100_000),
            "{{ " + "(" * large(100_000),
            "{{ a" + ".b" * large(100_000) + " }}",
            "{{ " + "-" * large(100_000),
            "{{ # " * large(200_000),
            " " * large(1_000_000),
            "&" * large(1_000_000),
        ):
            with self.subTest(text[:10]):
                try:
                    Template.from_text(text)
                except PribbleError as error:
                    self.assertLess(len(str(error)), 1000)


if __name__ == "__main__":
    unittest.main()
