"""What a template may go through: shared lists, huge numbers, steps."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import FieldError, LimitReached, Limits, PribbleError, Template, TemplateFolder
from pribble.graphemes import column_count
from tests.support import Case, generated, html_of, slow


@dataclass
class Pair:
    left: object
    right: object


def shared(make: Any, levels: int = 40) -> Any:
    """Something made of itself twice, and of that twice, so that nobody sees the end of it."""
    value: Any = 1
    for _ in range(levels):
        value = make(value)
    return value


SHARED = {
    "lists": lambda value: [value, value],
    "tuples": lambda value: (value, value),
    "records": lambda value: {"a": value, "b": value},
    "dataclasses": lambda value: Pair(value, value),
    "lists of records": lambda value: [{"a": value}, value],
}


def folder(**limits: Any) -> TemplateFolder:
    made = TemplateFolder.nowhere()
    made.world = replace(made.world, limits=Limits(**limits))
    return made


def shown(text: str, data: Any, **limits: Any) -> str:
    """The HTML of a template under limits."""
    return html_of(Template.from_text(text, folder=folder(**limits)).render(data))


class Going(Case):
    """What is gone through counts, wherever the same stands twice."""

    @slow
    def test_values_that_share_their_parts(self) -> None:
        for name, make in SHARED.items():
            data = {"a": shared(make), "b": shared(make), "l": [{"k": shared(make)}, {"k": shared(make)}]}
            for mark in (
                "{{ if a == b: }}x{{ :if }}",
                "{{ if a != b: }}x{{ :if }}",
                "{{ if a in [b]: }}x{{ :if }}",
                "{{ if a not in [b]: }}x{{ :if }}",
                "{{ a as json }}",
                '<script type="application/ld+json">{{ a }}</script>',
                '{{ for key, group in l as by("k"): }}x{{ :for }}',
                '{{ for one in l as keep("k == k and k in [k]"): }}x{{ :for }}',
            ):
                with self.subTest(name, mark=mark):
                    try:
                        made = shown(f"<p>{mark}", data, turns=3_000)
                    except LimitReached as error:
                        self.assertTrue("than are permitted" in str(error) or "json" in str(error))
                    else:  # what is the same object is equal, at once
                        self.assertTrue("keep" in mark and "x" in made)

    def test_lists_that_a_template_makes(self) -> None:
        for comma in (", ", " if c else "):
            lets = "".join(f"{{{{ let a{i + 1} = [{comma.join([f'a{i}'] * 2)}] }}}}" for i in range(60))
            text = "{{ let a0 = 1 }}" + lets + "<p>{{ if [a60] == [b]: }}x{{ :if }}"
            with self.subTest(comma):
                if comma == ", ":
                    with self.assertRaises(LimitReached):
                        shown(text, {"b": shared(SHARED["lists"], 60), "c": True}, turns=3_000)
                else:
                    self.assertIn("x", shown(text, {"b": shared(lambda value: [value], 60), "c": True}))

    def test_records_are_equal_where_their_fields_are(self) -> None:
        one = {"a": 1, "b": [1, {"c": None}], "d": date(2026, 7, 1)}
        for other, same in (
            ({"d": date(2026, 7, 1), "b": [1, {"c": None}], "a": Decimal("1.0")}, True),
            ({"a": 1, "b": [1, {"c": 2}], "d": date(2026, 7, 1)}, False),
            ({"a": 1, "b": [1, {"c": "x"}], "d": date(2026, 7, 1)}, False),
            ({"a": 1, "b": [1]}, False),
            ({}, False),
        ):
            with self.subTest(other):
                self.assertEqual("x" in shown("<p>{{ if v == w: }}x{{ :if }}", {"v": one, "w": other}), same)
        self.assertIn("x", shown("<p>{{ if v == w: }}x{{ :if }}", {"v": Pair(1, 2), "w": {"left": 1, "right": 2}}))
        with self.assertRaises(FieldError):
            shown("<p>{{ if v == w: }}x{{ :if }}", {"v": [1], "w": ["a"]})

    def test_groups_by_lists_and_records(self) -> None:
        rows = [
            {"k": k, "n": n} for n, k in enumerate(([1], (1,), {"a": [1]}, [Decimal(1)], {"a": (1,)}, True, 1, "1"))
        ]
        text = '<p>{{ for key, group in rows as by("k"): }}{{ for one in group: }}{{ one.n }}{{ :for }};{{ :for }}'
        self.assertIn("013;24;5;6;7;", shown(text, {"rows": rows}))

    def test_an_expression_over_items_may_look_through_lists(self) -> None:
        rows = [{"tags": ["a", "b"], "n": 1}, {"tags": [], "n": 2}]
        text = "<p>{{ for one in rows as keep(\"'a' in tags and tags == tags\"): }}{{ one.n }}{{ :for }}"
        self.assertIn("<p>1", shown(text, {"rows": rows}))


NUMBERS = (
    Decimal("1e300000"),
    Decimal("-1e300000"),
    Decimal("1e-300000"),
    Decimal("1e999999999"),
    10**5000,
    -(10**5000),
    Decimal("0." + "1" * 5000),
    1e308,
)


class Huge(Case):
    @slow
    def test_no_big_number_is_made_before_its_bound(self) -> None:
        data = {"l": [1, 2], "t": "abc def", "d": date(2026, 7, 1), "m": datetime(2026, 7, 1)}
        for mark in (
            "l[x]|l[x]?|d + x|d - x|x + d|l as rows(x)|t as shorten(x)|x as json|[x] as json|x + 1|x * x|x / 3|7 % x|-x|"
            "x|x as number|x as number(x)|x as percent|x as bytesize|[x, x] as sum|t as number(x)|x as duration|d + 1 + x"
        ).split("|"):
            for place in (
                "<p>{{ %s }}",
                '<script type="application/ld+json">{{ %s }}</script>',
                "{{ if %s: }}x{{ :if }}",
            ):
                template = Template.from_text(place % mark)
                for number in NUMBERS:
                    with self.subTest(mark, place=place):
                        try:
                            made = template.render({**data, "x": number}).html or ""
                        except PribbleError as error:
                            self.assertLess(len(str(error)), 6_000)
                        else:
                            self.assertLess(len(made), 12_000)

    def test_positions(self) -> None:
        for key, says in (
            (Decimal("1e300000"), "no item so far on"),
            (Decimal("0.5"), "whole numbers from 0"),
            (-1, "counts from 0"),
            (2, "no [2]"),
        ):
            with self.subTest(key), self.assertRaises(FieldError) as caught:
                shown("<p>{{ l[x] }}", {"l": [1, 2], "x": key})
            self.assertIn(says, str(caught.exception))
        self.assertIn("<p>2", shown("<p>{{ l[x] }}", {"l": [1, 2], "x": Decimal("1.0")}))


class Steps(Case):
    LOOPS = "{{ for i in l: }}{{ for j in l: }}%s{{ :for }}{{ :for }}"

    def test_work_that_makes_nothing_is_bounded(self) -> None:
        data = {"l": list(range(1000)), "t": "abc def " * 5_000, "n": 3, "r": [{"a": n, "b": "x"} for n in range(300)]}
        for inner in (
            '{{ if (t as title) == "": }}x{{ :if }}',
            '{{ if (t as shorten(5)) == "": }}x{{ :if }}',
            '{{ if (t + t) == "": }}x{{ :if }}',
            '{{ if "zz" in t: }}x{{ :if }}',
            '{{ if (r as json) == "": }}x{{ :if }}',
            '{{ if (r as sort("b") as count) == 1: }}x{{ :if }}',
            '{{ if (r as by("b") as count) == 7: }}x{{ :if }}',
            "{{ let q = t as upper }}",
            "{{ if n * n + n == 1: }}x{{ :if }}",
            "",
        ):
            with self.subTest(inner):
                template = Template.from_text(self.LOOPS % inner, folder=folder(steps=20_000))
                with self.assertRaisesRegex(LimitReached, "than are permitted"):
                    template.render(data)
                self.assertIsInstance(template.problems(data)[0], LimitReached)

    def test_a_template_within_its_steps_is_what_it_is_without(self) -> None:
        text = (
            '<title>{{ t }}</title><p title="{{ t }}">{{ n as number(2) }} {{ n + 1 }} {{ d as date("short") }}'
            '{{ for r in rows as sort("a"): }}{{ r.a }}{{ r.b? }},{{ :for }}{{ rows as sum("a") }}'
        )
        data = {"t": "Ana & Bo", "n": 3, "d": date(2026, 7, 1), "rows": [{"a": 2, "b": "x"}, {"a": 1}]}
        free, counted = (Template.from_text(text, folder=folder(steps=steps)).render(data) for steps in (None, 5_000))
        self.assertEqual((free.html, free.text, free.subject), (counted.html, counted.text, counted.subject))
        with self.assertRaises(FieldError) as caught:
            Template.from_text("<p>{{ missing }}", folder=folder(steps=50)).render({})
        self.assertIn('no field "missing"', str(caught.exception))

    def test_twice_the_text_takes_twice_the_steps(self) -> None:
        """The least limit under which a template renders, for a text and for one twice as long."""

        def least(size: int) -> int:
            low, high = 1, 1_000_000
            while low < high:
                middle = (low + high) // 2
                try:
                    shown("<p>{{ v as upper }}", {"v": "x" * size}, steps=middle)
                    high = middle
                except LimitReached:
                    low = middle + 1
            return low

        one, two = least(10_000), least(20_000)
        self.assertGreater(two, 1.8 * one)
        self.assertLess(two, 2.2 * one)


class Columns(Case):
    @generated(300)
    @given(st.text(alphabet="a漢é\u0301\u200d\ufe0f\U0001f1e9\U0001f1ea\U0001f468\U0001f469\U0001f3fd", max_size=12))
    def test_columns_are_those_of_the_tables_of_unicode(self, text: str) -> None:
        from wcwidth import wcswidth

        # A joiner before a flag joins nothing, and releases of the package count such a pair in different ways.
        text = re.sub("\u200d+(?=[\U0001f1e6-\U0001f1ff])", "", text)
        self.assertEqual(column_count(text), wcswidth(text))
