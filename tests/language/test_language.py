"""The language: what marks show, how blocks run, what layouts and parts do."""

from __future__ import annotations

import copy
import json
import threading
import unittest
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from enum import Enum
from typing import NamedTuple
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st
from jsonschema import Draft202012Validator

from pribble import FieldError, Template
from pribble.language.data_paths import at_first_items, outer_paths, path_steps, write_path
from pribble.language.field_schema import field_schema
from pribble.language.samples import data_skeleton
from pribble.review.cases import leaf_paths, value_at
from tests.support import Case, generated, html_of

DATA = {
    "name": "Ana",
    "void": None,
    "empty": "",
    "blank": "  ",
    "zero": 0,
    "yes": True,
    "no": False,
    "price": Decimal("12.50"),
    "n": 3,
    "half": 0.5,
    "day": "2026-07-03",
    "later": date(2026, 7, 7),
    "list": ["a", "b", "c"],
    "nothing_in": [],
    "rec": {"x": 1, "in": "reserved", "Unit price": "4"},
    "lines": [{"what": "rope", "price": Decimal("2.5")}, {"what": "paint", "price": 10}],
}

# (mark, what it shows)
SHOWN = [
    ("name", "Ana"),
    ("rec.x", "1"),
    ('rec["Unit price"]', "4"),
    ("rec.in", "reserved"),
    ('all["name"]', "Ana"),
    ("list[0]", "a"),
    ("lines[1].what", "paint"),
    ("(list)[2]", "c"),
    ("missing?", ""),
    ("void?", ""),
    ("missing?.deeper.still", ""),
    ("rec.nope? else 'x'", "x"),
    ("rec.nope?", ""),
    ("list[9]?", ""),
    ('"a" + "b"', "ab"),
    ("'it\\'s'", "it&#39;s"),
    ('"\\u00e9\\n"', "é\n"),
    ('"{{"', "{{"),
    ('"}}"', "}}"),
    ("12", "12"),
    ("12.50", "12.50"),
    ("price", "12.50"),
    ("half", "0.5"),
    ("-n", "-3"),
    ("2 * 3 + 1", "7"),
    ("2 + 3 * 2", "8"),
    ("(2 + 3) * 2", "10"),
    ("7 % 3", "1"),
    ("-7 % 3", "-1"),
    ("1 / 4", "0.25"),
    ("0.1 + 0.2", "0.3"),
    ("price * 2", "25.00"),
    ("n - 1", "2"),
    ("later - later", "0"),
    ("-2 - -3", "1"),
    ("2 - 3 - 4", "-5"),
    ('"late" if n > 2 else "on time"', "late"),
    ('"late" if n > 3', ""),
    ('"a" if no else "b" if no else "c"', "c"),
    ('empty else "d"', "d"),
    ('blank else "d"', "d"),
    ('nothing_in else "d"', "d"),
    ("zero else 5", "0"),
    ('missing? else name else "x"', "Ana"),
    ('"yes" if n == 3 else "no"', "yes"),
    ('"y" if 3 == 3.00 else "n"', "y"),
    ('"y" if name == "Ana" and n >= 3 else "n"', "y"),
    # Each order, of each kind that has one: less, equal, more.
    *[
        (f'"y" if ({one}) {operator} ({other}) else "n"', "y" if holds else "n")
        for low, high in [
            ("2", "3"),
            ("2.5", "2.50 + 0.01"),
            ('"a"', '"b"'),
            ("'2026-07-03' as day", "'2026-07-04' as day"),
            ("'2026-07-03T10:00' as moment", "'2026-07-03T10:01' as moment"),
            ("'2026-07-03T10:00+02:00' as moment", "'2026-07-03T09:00+00:00' as moment"),
        ]
        for one, other, order in [(low, high, -1), (low, low, 0), (high, low, 1)]
        for operator, holds in [("<", order < 0), ("<=", order <= 0), (">", order > 0), (">=", order >= 0)]
    ],
    ('"y" if not no or missing? else "n"', "y"),
    ('"y" if "b" in list else "n"', "y"),
    ('"y" if "z" not in list else "n"', "y"),
    ('"y" if "n" in name else "n"', "y"),
    ('"y" if "x" in rec else "n"', "y"),
    ('"y" if name in ["Ana", "Bo"] else "n"', "y"),
    ('"y" if none == missing? else "n"', "y"),
    ('"y" if void == none else "n"', "y"),
    ('"y" if zero else "n"', "n"),
    ('"y" if "0" else "n"', "y"),
    ('"y" if list else "n"', "y"),
    ("name as upper", "ANA"),
    ("name as upper as lower", "ana"),
    ('list as join("-")', "a-b-c"),
    ("list as join", "a, b, c"),
    ('"ann-marie o’neil" as title', "Ann-Marie O’neil"),
    ('price as money("EUR")', "€12.50"),
    ('"7" as money("JPY")', "¥7"),
    ("1234567.891 as number(2)", "1,234,567.89"),
    ("0.125 as number(2)", "0.13"),
    ("-0.004 as number(2)", "0.00"),
    ("1234.50 as number", "1,234.50"),
    ('day as date("long")', "July 3, 2026"),
    ("day as date", "Jul 3, 2026"),
    ('day as date("EEEE, d MMM yy")', "Friday, 3 Jul 26"),
    ('n as plural(one = "night", other = "nights")', "nights"),
    ('1 as plural(one = "night", other = "nights")', "night"),
    ('missing? as money("EUR")', ""),
    ('price as money("E" + "UR")', "€12.50"),
    ('2 * 3 + 1 as money("EUR")', "€7.00"),
    ('"free" if zero == 0 else price as money("EUR")', "free"),
    ("name &nbsp; as&#32;upper", "ANA"),
    ('"x" if n &gt; 2', "x"),
    ("name\n  as\tupper", "ANA"),
    ("# a remark that don't count", ""),
    ('remark: }} {{ anything " {{ :remark', ""),
]

# (template, what comes of it)
BLOCKS = [
    ("{{ if yes: }}a{{ :if }}b", "ab"),
    ("{{ if no: }}a{{ :elif n == 3: }}b{{ :else: }}c{{ :if }}", "b"),
    ("{{ if no: }}a{{ :elif no: }}b{{ :else: }}c{{ :if }}", "c"),
    ("{{ for x in list: }}{{ x }}{{ :for }}", "abc"),
    ("{{ for x at p in list: }}{{ p.number }}/{{ p.count }}{{ ',' if not p.last }}{{ :for }}", "1/3,2/3,3/3"),
    ("{{ for x at p in list: }}{{ p.index }}{{ 'F' if p.first }}{{ :for }}", "0F12"),
    ("{{ for x in nothing_in: }}{{ x }}{{ :else: }}none{{ :for }}", "none"),
    ("{{ for x in missing?: }}{{ x }}{{ :else: }}none{{ :for }}", "none"),
    ("{{ for k, v in rec: }}{{ k }}={{ v }};{{ :for }}", "x=1;in=reserved;Unit price=4;"),
    ("{{ for l in lines: }}{{ let p = l.price * 2 }}{{ l.what }} {{ p }} {{ :for }}", "rope 5.0 paint 20 "),
    ("{{ for x in list: }}{{ for y in list: }}{{ x + y }} {{ :for }}{{ :for }}", "aa ab ac ba bb bc ca cb cc "),
    ("{{ let a = n + 1 }}{{ let b = a * 2 }}{{ b }}", "8"),
    ("{{ let let = 1 }}{{ let }}", "1"),
    ("a\n  {{ if yes: }}\n  b\n  {{ :if }}\nc\n", "a\n  b\nc\n"),
    ("a {{ if yes: }}\n b\n{{ :if }}\nc", "a \n b\nc"),
    ("{{ let a = 1 }}\n{{ # remark }}\n\n{{ a }}\n", "\n1\n"),
    (
        "<table><!-- {{ for x in list: }} --><tr><td>{{ x }}</td></tr><!-- {{ :for }} --></table>",
        "<table><tr><td>a</td></tr><tr><td>b</td></tr><tr><td>c</td></tr></table>",
    ),
    ("a<!-- {{ name }} and more -->b<!-- plain -->c", "ab<!-- plain -->c"),
    (
        "<style>p { color: red } a{}{b} /* <!-- {{ */</style>".replace("{{", "{"),
        "<style>p { color: red } a{}{b} /* <!-- { */</style>",
    ),
    ("<p>{ name } }} {% if %} ${name}", "<p>{ name } }} {% if %} ${name}"),
    ("<ul>{{ for x in list: }}<li>{{ x }}{{ :for }}</ul>", "<ul><li>a</li><li>b</li><li>c</li></ul>"),
    ('<td bgcolor="{{ "#fee" if no }}" title="{{ name }}">', '<td title="Ana">'),
    ('<img alt="{{ missing? }}">', '<img alt="">'),
    ("a \U000f0001 {{ name }} \U0010fffd b", "a \U000f0001 Ana \U0010fffd b"),
]


class Marks(Case):
    def test_what_marks_show(self) -> None:
        for mark, expected in SHOWN:
            with self.subTest(mark):
                self.assertEqual(self.html(f"{{{{ {mark} }}}}", DATA), expected)

    def test_blocks(self) -> None:
        for template, expected in BLOCKS:
            with self.subTest(template):
                self.assertEqual(self.html(template, DATA), expected)

    def test_values_of_many_types(self) -> None:
        class Colour(Enum):
            RED = "red"

        class Text(str):
            __slots__ = ()

            def __html__(self) -> str:
                return "<b>"

            def __str__(self) -> str:
                return "<b>"

        class Point(NamedTuple):
            x: int
            y: int

        @dataclass
        class Boat:
            name: str
            _secret: str = "hidden"

            def sail(self) -> str:
                return "away"

        data = {
            "colour": Colour.RED,
            "id": UUID(int=1),
            "text": Text("a<b"),
            "point": Point(1, 2),
            "boat": Boat("Tern"),
        }
        for mark, expected in [
            ("colour", "red"),
            ("id", "00000000-0000-0000-0000-000000000001"),
            ("text", "a&lt;b"),
            ("point.y", "2"),
            ("boat.name", "Tern"),
        ]:
            with self.subTest(mark):
                self.assertEqual(self.html(f"{{{{ {mark} }}}}", data), expected)
        for closed in ("boat._secret", "boat.sail", "boat.__class__", "text.upper", "point.count", "boat.name.join"):
            with self.subTest(closed), self.assertRaises(FieldError):
                self.html(f"{{{{ {closed} }}}}", data)

    def test_the_data_may_be_a_record_of_any_type(self) -> None:
        @dataclass
        class Booking:
            name: str

        self.assertEqual(self.html("{{ name }}", Booking("Ana")), "Ana")


LAYOUT = "<html><head><title>{{ slot subject }}</title></head><body>{{ slot content }}|{{ foot? }}</body></html>"


class Files(Case):
    def test_a_layout_takes_in_the_page(self) -> None:
        folder = self.folder(
            {
                "page.html": '{{ layout "layouts/l.html" }}\n{{ let a = 2 }}\n{{ subject: }} Hi  {{ name }},\n {{ a }} {{ :subject }}\n'
                "<p>{{ a }} {{ name }}</p>\n",
                "layouts/l.html": LAYOUT,
            }
        )
        rendering = folder["page"].render({"name": "A & B", "foot": "f"})
        self.assertEqual(
            rendering.html,
            "<html><head><title> Hi  A &amp; B,\n 2 </title></head><body><p>2 A &amp; B</p>\n|f</body></html>",
        )
        self.assertEqual(rendering.subject, "Hi A & B, 2")
        self.assertEqual(list(folder), ["page"])
        self.assertIn("page", folder)

    def test_subject_from_the_title(self) -> None:
        template = Template.from_text("{{ let a = 1 }}<title>Tom &amp; {{ name }} {{ a }}</title>x")
        self.assertEqual(template.render({"name": "<Jo>\r\nBcc: x"}).subject, "Tom & <Jo> Bcc: x 1")
        self.assertIsNone(Template.from_text("<p>x").render({}).subject)

    def test_preheader(self) -> None:
        text = "{{ preheader: }} {{ name }} &amp; more {{ :preheader }}<body><p>x</p></body>"
        rendering = Template.from_text(text).render({"name": "<A>"})
        self.assertEqual(rendering.preheader, "<A> & more")
        self.assertRegex(
            html_of(rendering), r'^<body><div style="display:none;[^"]*">&lt;A&gt; &amp; more</div><p>x</p></body>$'
        )
        self.assertEqual(rendering.text, "x\n")

    def test_a_part_sees_what_it_is_given_and_the_data(self) -> None:
        folder = self.folder(
            {
                "t.html": '{{ let mine = 1 }}{{ put "parts/b.html", label = name + "!", n = mine }}{{ put "parts/b.html", label = "2", n = 5 }}',
                "parts/b.html": "[{{ label }} {{ n }} {{ other }}]",
            }
        )
        self.assertEqual(folder["t"].render({"name": "A", "other": "o"}).html, "[A! 1 o][2 5 o]")

    def test_a_part_does_not_see_the_pages_names(self) -> None:
        said = self.complaint('{{ let mine = 1 }}{{ put "p.html" }}', files={"p.html": "{{ mine }}"})
        self.assertIn('p.html:1:4: no field "mine" in the data', said)
        self.assertIn("put at t.html:1:19", said)

    def test_a_template_is_shared_by_threads(self) -> None:
        template = Template.from_text("{{ for x at p in xs: }}{{ p.number }}:{{ x as money('EUR') }} {{ :for }}")
        made: list[str] = []

        def work(seed: int) -> None:
            for n in range(50):
                data = {"xs": [Decimal(seed * n + k) for k in range(20)]}
                if template.render(data).html != "".join(f"{k + 1}:€{v:,.2f} " for k, v in enumerate(data["xs"])):
                    made.append(f"{seed} {n}")

        threads = [threading.Thread(target=work, args=(seed,)) for seed in range(1, 9)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(made, [])


class Fields(Case):
    def test_fields_with_kinds_and_optionality(self) -> None:
        text = (
            "{{ name? else 'you' }} {{ total as money(currency) }} {{ if note?: }}{{ note }}{{ :if }}"
            "{{ for l in lines: }}{{ l.price * 2 }} {{ l.what }} {{ l.day as date }}{{ :for }}"
            "{{ for t in tags?: }}{{ t }}{{ :for }}{{ 'x' if paid }}{{ let m = a.b }}{{ m }}"
        )
        found = [(f.path, f.kind, f.optional) for f in Template.from_text(text).fields()]
        self.assertEqual(
            found,
            [
                ("name", "text", True),
                ("total", "number", False),
                ("currency", "text", False),
                ("note", "text", True),
                ("lines[].price", "number", False),
                ("lines[].what", "text", False),
                ("lines[].day", "day", False),
                ("tags[]", "text", True),
                ("paid", "flag", False),
                ("a.b", "text", False),
            ],
        )

    def test_problems_lists_all_at_once(self) -> None:
        template = Template.from_text(
            "{{ a }} {{ b.c }} {{ for l in lines: }}{{ l.x as money('EUR') }}{{ l.y }}{{ :for }}"
        )
        data = {"b": {"d": 1}, "lines": [{"x": "1"}, {"y": 2, "x": "many"}]}
        found = [str(problem).splitlines()[0] for problem in template.problems(data)]
        self.assertEqual(
            found,
            [
                'template:1:4: no field "a" in the data (there is "b", "lines")',
                'template:1:14: no field "c" in b (there is "d")',
                'template:1:70: no field "y" in lines[0] (there is "x")',
                'template:1:50: lines[1].x: money takes a number, and "many" is none',
            ],
        )
        self.assertEqual(template.problems(json.loads('{"a": 1, "b": {"c": 2}, "lines": []}')), [])
        with self.assertRaises(FieldError) as caught:
            template.render({**data, "a": 1, "b": {"c": 1}})
        self.assertEqual(caught.exception.path, "lines[0].y")

    def test_names_that_no_path_could_hold_as_they_are(self) -> None:
        template = Template.from_text(
            '{{ c["net.price"] }} {{ c.net.price }} {{ c["[0]"] }} {{ c[""] }} {{ c["in \\"quotes\\""] }}'
            '{{ for line in c["l.i"]: }}{{ line["a]b"] }}{{ :for }}'
        )
        paths = [field.path for field in template.fields()]
        names = ['c["net.price"]', "c.net.price", 'c["[0]"]', 'c[""]', 'c["in \\"quotes\\""]', 'c["l.i"][]["a]b"]']
        self.assertEqual(paths, names)
        # What is said of the data fits the template, and the data of the schema.
        data = data_skeleton(template.fields())
        self.assertEqual(template.problems(data), [])
        judge = Draft202012Validator(field_schema(template.fields(), "t"))
        self.assertTrue(judge.is_valid(data))
        self.assertEqual([value_at(data, at_first_items(path)) for path in paths], ["text"] * len(paths))
        self.assertEqual(set(leaf_paths(data)), set(paths))
        for path in paths:
            with self.subTest(path):
                *outer, last = path_steps(at_first_items(path))
                less = copy.deepcopy(data)
                del value_at(less, write_path(outer))[last]
                self.assertEqual(
                    [getattr(one, "path", None) for one in template.problems(less)], [at_first_items(path)]
                )
                self.assertFalse(judge.is_valid(less))

    @generated(200)
    @given(st.lists(st.text(max_size=6) | st.integers(0, 999_999_999) | st.none(), min_size=1, max_size=6))
    def test_paths_are_read_as_they_are_written(self, steps: list[str | int | None]) -> None:
        path = write_path(steps)
        self.assertEqual(path_steps(path), steps)
        outer = [write_path(steps[:end]) for end in range(1, len(steps))]
        self.assertEqual(outer_paths(path), outer)


if __name__ == "__main__":
    unittest.main()
