"""Traced renderings: each stretch that shows a value is named with its mark, its turn and its data, and nothing else is."""

from __future__ import annotations

import html
import re
import unittest
from itertools import combinations
from typing import Any

from hypothesis import given

from pribble import PribbleError, Template, TemplateError, TemplateFolder
from pribble.rendering.traced import TracedRendering, TracedText
from pribble.review.cases import value_at
from pribble.template_tracing import trace
from tests.compiler.test_walker import DATA, TEMPLATES
from tests.compiler.walker import ShownText, Wrong, walk_pieces
from tests.review.mutating import DESIGNS
from tests.support import DEMO, Case, generated, html_of, slow


def literals(traced: TracedText) -> list[str]:
    """What is left of a text without what its values show."""
    made, position = [], 0
    for one in traced.shown:
        made.append(traced.text[position : one.start])
        position = one.end
    return [*made, traced.text[position:]]


class Traces(Case):
    @slow
    def test_the_demo_and_the_designs(self) -> None:
        for folder in (TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London"), TemplateFolder(DESIGNS)):
            for name, template in folder.items():
                for label, data in template.samples.items():
                    with self.subTest(name, sample=label):
                        self.check_forms(template, data)

    def check_forms(self, template: Template, data: Any) -> None:
        traced = trace(template, data)
        made = template.render(data)
        forms = (traced.html, made.html), (traced.subject, made.subject), (traced.preheader, made.preheader)
        for form, text in forms:
            self.assertEqual(form and form.text, text)
        if traced.text is not None:
            self.assertEqual(traced.text.text, made.text)
        for form in traced.texts:
            ends = 0
            for one in form.shown:
                self.assertLessEqual(ends, one.start)
                ends = one.end
                mark = one.place.source.text[one.place.start : one.place.end]
                named = re.fullmatch(r"\{\{ ([\w.]+) \}\}", mark)
                if named and one.paths == (named[1],):  # a field that is shown as it is
                    text = form.text[one.start : one.end]
                    value = value_at(data, one.paths[0])
                    text = html.unescape(text) if form is traced.html else text
                    self.assertEqual(text if text.startswith("cid:") else str(value), text)

    @generated(400)
    @given(TEMPLATES, DATA)
    def test_generated_templates(self, text: str, data: dict[str, Any]) -> None:
        try:
            template, pieces = Template.from_text(text), walk_pieces(text, data)
            traced = trace(template, data)
        except (TemplateError, Wrong, PribbleError):
            return
        assert traced.html is not None
        self.assertEqual(traced.html.text, "".join(pieces))
        # Beside the values what is left is what the author wrote, in the order of the second implementation.
        self.assertEqual("".join(literals(traced.html)), "".join(p for p in pieces if not isinstance(p, ShownText)))
        walked = [(one.mark, one.turns, str(one)) for one in pieces if isinstance(one, ShownText)]
        told = [
            (one.place.start, tuple(turn for _, turn in source.turns), traced.html.text[one.start : one.end])
            for one, source in self.sources(traced)
        ]
        self.assertEqual(told, walked)

    @staticmethod
    def sources(traced: TracedRendering) -> Any:
        assert traced.html is not None
        ranges = [one.source for one in traced.html.ranges if hasattr(one.source, "turns")]
        return zip(traced.html.shown, ranges, strict=True)

    def test_places_of_what_is_written_and_shown(self) -> None:
        page = (
            '<div class="a">\n{{ for line in lines: }}<p title="{{ line.t }}">Sum: {{ line.sum }}!</p>{{ :for }}</div>'
        )
        template = Template.from_text(page)
        traced = trace(template, {"lines": [{"t": "x", "sum": 7}, {"t": "y", "sum": 8}]}).html
        assert traced is not None
        self.assertEqual(
            [one.paths for one in traced.shown],
            [("lines[0].t",), ("lines[0].sum",), ("lines[1].t",), ("lines[1].sum",)],
        )
        for wanted in ('<div class="a">', "Sum: ", "!</p>", "</div>"):
            at = traced.text.rindex(wanted)
            place = traced.place(at, at + len(wanted))
            assert place is not None
            self.assertEqual(page[place.start : place.end], wanted)
        place = traced.place(traced.text.index("8"), traced.text.index("8") + 1)
        assert place is not None
        self.assertEqual(page[place.start : place.end], "{{ line.sum }}")

    def test_what_is_shown_within_a_stretch(self) -> None:
        template = Template.from_text("<p>{{ a }}b{{ c }}{{ d }}e{{ f }}</p>")
        traced = trace(template, {"a": "A", "c": "", "d": "DD", "f": "F"}).html
        assert traced is not None
        for start, end in combinations(range(len(traced.text) + 1), 2):
            expected = [one for one in traced.shown if one.start < end and one.end > start]
            self.assertEqual(list(traced.shown_within(start, end)), expected, (start, end))

    def test_a_page_that_is_styled_when_it_is_rendered(self) -> None:
        page = (
            "<style>tr:nth-child(2n) td { color: red } .b { font-weight: bold }</style><table>{{ for r in rows: }}"
            '<tr><td class="{{ r.c }}" style="margin: 0">{{ r.n }} pieces</td></tr>{{ :for }}</table>'
        )
        template = Template.from_text(page)
        self.assertFalse(template.explain().compiled)
        data = {"rows": [{"c": "b", "n": 1}, {"c": "", "n": "<2>"}]}
        traced = trace(template, data).html
        assert traced is not None
        self.assertEqual(traced.text, html_of(template.render(data)))
        shown = [(traced.text[one.start : one.end], one.paths[0]) for one in traced.shown]
        self.assertEqual(shown, [("b", "rows[0].c"), ("1", "rows[0].n"), ("", "rows[1].c"), ("&lt;2&gt;", "rows[1].n")])
        at = traced.text.rindex(" pieces")
        place = traced.place(at, at + 7)
        assert place is not None
        self.assertEqual(page[place.start : place.end], " pieces")

    def test_the_ways_that_were_taken(self) -> None:
        page = (
            "{{ if a: }}A{{ :elif b: }}B{{ :if }}{{ for x in xs: }}{{ x.n? else 0 }}{{ :for }}{{ 'y' if a else 'n' }}"
        )
        template = Template.from_text(page)
        traced = trace(template, {"a": False, "b": False, "xs": [{}, {"n": 1}]})
        forks = {fork.kind: dict(zip(fork.ways, counts, strict=True)) for fork, counts in traced.forks()}
        self.assertEqual(forks["branch"], {"branch 1": 0, "branch 2": 0, "no branch": 1})
        self.assertEqual(forks["loop"], {"empty": 0, "once": 0, "more than once": 1})
        self.assertEqual(forks["optional"], {"there": 1, "left out": 1})
        self.assertEqual(forks["choice"], {"where it holds": 0, "where it does not": 1})

    def test_pictures_and_attributes_that_may_be_left_out(self) -> None:
        page = '<img src="pier-{{ p }}.png" alt="x"><a title="{{ t? }}" style="color: {{ c? }}" href="https://e.example/{{ p }}">{{ p }}</a>'
        folder = TemplateFolder(DESIGNS)
        page = page.replace("pier-{{ p }}.png", "pictures/{{ p }}.png")
        traced = trace(Template.from_text(page, folder=folder), {"p": "seal", "c": None}).html
        assert traced is not None
        found = [(traced.text[one.start : one.end], one.paths) for one in traced.shown]
        self.assertEqual([paths for _, paths in found], [("p",), ("t",), ("c",), ("p",), ("p",)])
        self.assertTrue(found[0][0].startswith("cid:"))
        self.assertEqual([text for text, _ in found[1:]], ["", "", "seal", "seal"])


if __name__ == "__main__":
    unittest.main()
