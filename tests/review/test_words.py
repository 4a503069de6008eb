"""Words of a page and of its derived text: each is found where it stands, and nowhere else."""

from __future__ import annotations

import unittest
from collections.abc import Iterator, Mapping
from typing import Any

from hypothesis import given

from pribble import PribbleError, Template, TemplateError, TemplateFolder
from pribble.rendering.traced import TracedText
from pribble.rendering.traced_words import TracedWord, WordKey, words_of_page
from pribble.template_tracing import trace, trace_derived_text
from tests.compiler.test_walker import DATA, TEMPLATES
from tests.review.mutating import DESIGNS
from tests.support import DEMO, Case, generated, slow

Found = Mapping[WordKey, tuple[int, int]]


def words(template: Template, data: Any, locale: str | None = None) -> tuple[TracedText, list[TracedWord], Found, str]:
    """The page of a template, its words, where they stand in its text, and that text."""
    traced = trace(template, data, locale=locale)
    text = traced.rendering.text
    assert traced.html is not None
    return traced.html, words_of_page(traced.html), trace_derived_text(template, data, text, locale=locale), text


def pages() -> Iterator[tuple[str, Template, Any, str]]:
    for folder in (TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London"), TemplateFolder(DESIGNS)):
        for name, template in folder.items():
            for label, data in template.samples.items():
                for locale in template.locales if template.is_page else ():
                    yield f"{name} {label} {locale}", template, data, locale


class Words(Case):
    def check(self, page: TracedText, found: Found, made: list[TracedWord], text: str) -> None:
        ends = 0
        for word in made:
            if word.key in found:
                start, end = found[word.key]
                self.assertEqual(
                    page.text[word.start : word.end].casefold(), text[start:end].replace("\n", "").casefold()
                )
                self.assertLessEqual(ends, start, "words of the text stand in the order of the page")
                ends = end

    @slow
    def test_the_demo_and_the_designs(self) -> None:
        known = {"gale-warning", "sign-in"}  # whose texts are written by hand
        for name, template, data, locale in pages():
            with self.subTest(name):
                page, made, found, text = words(template, data, locale)
                if template.name in known:
                    self.assertEqual(dict(found), {})
                    continue
                self.check(page, found, made, text)
                # Of the words that are said at all, hidden first lines are not.
                said = [one for one in made if page.text[one.start : one.end].casefold() in text.casefold()]
                self.assertGreater(sum(one.key in found for one in said), 0.75 * len(said))

    def test_the_same_words_in_each_turn_of_a_loop_stand_in_their_own_lines(self) -> None:
        template = Template.from_text(
            "<table>{{ for line in lines: }}<tr><td>{{ line.what }}</td><td>twice {{ line.what }}</td></tr>"
            "{{ :for }}</table><p>{{ lines[0].what }} again</p>"
        )
        page, made, found, text = words(template, {"lines": [{"what": "water"}, {"what": "water"}, {"what": "water"}]})
        lines = [text.count("\n", 0, found[one.key][0]) for one in made]
        said = [page.text[one.start : one.end] for one in made]
        self.assertEqual(said, ["water", "twice", "water"] * 3 + ["water", "again"])
        self.assertEqual(lines, [0, 0, 0, 1, 1, 1, 2, 2, 2, 4, 4])

    def test_what_one_form_alone_has(self) -> None:
        template = Template.from_text(
            "<p>Here {{ only html: }}<b>shown</b> {{ :only }}{{ only text: }}said {{ :only }}and {{ name }}</p>"
        )
        page, made, found, text = words(template, {"name": "there"})
        self.assertEqual(text, "Here said and there\n")
        got = {page.text[one.start : one.end]: text[slice(*found[one.key])] for one in made if one.key in found}
        self.assertEqual(got, {"Here": "Here", "and": "and", "there": "there"})

    def test_numbers_addresses_and_letters_of_all_scripts(self) -> None:
        template = Template.from_text(
            "<p>{{ n }} kWh, {{ mail }} at <a href='https://skerrow.example/'>https://skerrow.example/</a></p>"
            "<p style='text-transform: uppercase'>{{ loud }}</p><p>{{ han }} and {{ arabic }}</p>"
            "<table><tr><td>Berth</td><td>{{ n }} EUR</td></tr><tr><td>Water</td><td>7.50 EUR</td></tr></table>"
        )
        data = {"n": 12, "mail": "ana@example.org", "loud": "straße", "han": "港口办公室", "arabic": "مرفأ"}
        page, made, found, text = words(template, data)
        self.check(page, found, made, text)
        missing = [page.text[one.start : one.end] for one in made if one.key not in found]
        self.assertEqual(missing, [])
        self.assertEqual(text, template.render(data).text)

    @generated(120)
    @given(TEMPLATES, DATA)
    def test_generated_templates(self, source: str, data: Any) -> None:
        try:
            template = Template.from_text(source)
            page, made, found, text = words(template, data)
        except (PribbleError, TemplateError):
            return
        for word in made:
            if word.key in found:
                start, end = found[word.key]
                self.assertEqual(page.text[word.start : word.end].casefold(), text[start:end].casefold())


if __name__ == "__main__":
    unittest.main()
