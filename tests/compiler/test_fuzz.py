"""Mutated demo templates and data: whatever comes of them, it is a message or an error of ours that says where."""

from __future__ import annotations

import random
import tomllib
import unittest
from functools import partial
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import HeaderError, LimitReached, PribbleError, Template, TemplateFolder, plain_text
from tests.markup.test_markup import PIECES, theirs
from tests.support import DEMO, FEWER, TEST_DATA, examples, generated, html_of, large

SNIPPETS = """{{|}}|{{ if a?: }}|{{ :if }}|{{ :else: }}|{{ for x at p in charges?: }}|{{ :for }}|<|</|>|<td>|</table>|"|'|<!--|-->|{{ # x }}
<style>|</style>|as |money|(|)|:|?|else |{{ let q = 1 }}|{{ q }}|<img src="{{ a? }}">|<a href='|{{ only text: }}|{{ :only }}|\x00
{{ put "parts/button.html" }}|\U000f0000|&amp;|{{ locale "de": }}|{{ :locale }}|<p>|<li>|<title>|%|[0]|.x|{{ text: }}|{{ :text }}
<body>|</head>|{{ slot content }}|{{ "a" as html }}|{{ xs as sum("n") }}|{{ takes a }}""".replace("\n", "|").split("|")
STRANGE: list[Any] = [None, True, [], {}, "x\ud800", "<b>\x01", 1e300, float("nan"), 10**50, "javascript:x", b"x", object(), -5,
                      "2026-13-01", {"name": "x"}, ["a"]]  # fmt: skip


class Fuzz(unittest.TestCase):
    def test_mutated_templates_and_data(self) -> None:
        folder = TemplateFolder(DEMO, locale="en_GB")
        texts = {
            name: (DEMO / f"{name}{'.txt' if name == 'gate-code' else '.html'}").read_text(encoding="utf-8")
            for name in folder
        }
        samples = {name: folder[name].samples[""] for name in folder}
        chance = random.Random(20260703)
        rendered = 0
        for _ in range(examples(500)):
            name = chance.choice(list(texts))
            text = self.mutated(texts[name], chance)
            try:
                template = Template.from_text(text, name=f"{name}.txt" if name == "gate-code" else name, folder=folder)
                template.fields()
                data = self.strange(samples[name], chance)
                problems = template.problems(data)
                try:
                    rendering = template.render(data)
                except PribbleError as error:
                    self.assertIsNotNone(error.place, str(error))
                    self.assertTrue(problems or isinstance(error, LimitReached), str(error))
                    continue
                self.assertEqual(problems, [])
                bytes(rendering.message(sender="a@x.example", to="b@x.example"))
                rendered += 1
            except HeaderError:
                pass  # a subject or body that no message can have
            except PribbleError as error:
                self.assertTrue(str(error))
        self.assertTrue(rendered > 20 or FEWER, rendered)

    @staticmethod
    def mutated(text: str, chance: random.Random) -> str:
        for _ in range(chance.randint(0, 4)):
            at, other = chance.randrange(len(text)), chance.randrange(len(text))
            match chance.randrange(3):
                case 0:
                    text = text[:at] + chance.choice(SNIPPETS) + text[at:]
                case 1:
                    text = text[:at] + text[at + chance.randint(1, 30) :]
                case _:
                    text = text[:at] + text[other : other + chance.randint(1, 60)] + text[at:]
        return text

    def strange(self, data: Any, chance: random.Random) -> Any:
        if isinstance(data, dict):
            return {key: self.strange(value, chance) for key, value in data.items() if chance.random() > 0.03}
        if isinstance(data, list):
            return [self.strange(value, chance) for value in data]
        return data if chance.random() > 0.08 else chance.choice(STRANGE)


def branching(pieces: str) -> st.SearchStrategy[str]:
    """Texts of some pieces and marks, with blocks in them."""
    flat = st.lists(st.sampled_from([*pieces.split("|"), "{{ v }}", "{{ v }}"]), max_size=5).map("".join)
    return st.recursive(
        flat,
        lambda inner: st.one_of(
            st.tuples(inner, inner).map("".join),
            st.tuples(inner, inner).map(lambda two: f"{{{{ if c: }}}}{two[0]}{{{{ :else: }}}}{two[1]}{{{{ :if }}}}"),
            inner.map("{{{{ if c: }}}}{}{{{{ :if }}}}".format),
            inner.map("{{{{ for n in l: }}}}{}{{{{ :for }}}}".format),
        ),
        max_leaves=4,
    )


PLACES = [
    (
        "%s",
        "<p>|</p>|<b>|</b>|<table>|<tr>|<td>|</table>|<|</|&|&am|#3;|<!|x|-|<br>|<li>|<svg>|</svg>|<title>|</title>",
    ),
    ('<a href="%s">x</a>', "https:|//|/|x.example|?|#|=|&|&amp;|.|..|:|mailto:|tel:|1|,|@|java|script:| |\\|&#47;"),
    (
        '<td style="%s">x</td>',
        "color:|;|red|url(|)|&quot;|'|/*|*/|\\|(|{|}|https://x.example/|calc(|font-family:|,| |-|!",
    ),
    ("<style>%s</style>", "p {|}|color:|;|red|url(|)|\"|'|/*|*/|\\|(|@media x {|https://x.example/|<|</|<!--|,| |-|\n"),
    ('<script type="application/ld+json">%s</script>', '{|}|[|]|"a"|:|,|"|\\|1|true| |<|</|<!--'),
    ("<td %s>x</td>", '-|class="|"|id=|a|b|=| |title=\'|\'|/|hidden|href="https://x.example/|<|"{{ v }}"'),
    ("<!--[if mso]>%s<![endif]-->", '<p>|</p>|-|--|>|<td title="|"|<style>|</style>|p { top:|}|x|<!--|<'),
    ("<svg><g %s></g></svg>", 'a|b="1"|/| |-|='),
    ("<title>%s</title>", "x|<|</|ti|&|&am|lt;|-"),
    ('<img alt="" srcset="%s">', "https://x.example/| |,|1x|2x|/|?|a"),
]


def placed(page: str, content: str) -> str:
    return page.replace("%s", content)


PAGES = st.lists(
    st.one_of([branching(pieces).map(partial(placed, page)) for page, pieces in PLACES]), min_size=1, max_size=3
).map("".join)
VALUES = [
    "-", '"\'', "<script>", "--", "--><b>", "</script>", "<!--", "/*", "*/", ";x:y", "lt;", "#60;", "amp", "//x", "javascript:x", "\\", ")", "(", "url(", "",
    " ", "\n", "]]>", "</style>", "</title>", "1", "a=b", ",", "{", "}", "\U000f0001", "https://y.example",
]  # fmt: skip


def structure(page: str) -> list[tuple[Any, ...]]:
    """What an independent parser makes of a page, without its texts and the values of attributes."""
    found = []
    for token in theirs(page):
        if token[0] == "start":
            found.append((token[1], *(name for name, _ in token[2])))
        elif token[0] != "text":
            found.append(token)
    return found


class Size(unittest.TestCase):
    """However large and hostile, a text gives an answer or an error of ours; how long that takes, B8 measures."""

    def test_a_megabyte(self) -> None:
        for piece in ("<", "</", "<!--", "{{", "}}", '"', "'", " ", "<a ", "&", "<a b='", "\n", "x", "--"):
            with self.subTest(piece):
                text = piece * (large(1_000_000) // len(piece))
                try:
                    html = Template.from_text(text).render({}).html
                except PribbleError as error:
                    self.assertLess(len(str(error)), 1000)
                else:
                    self.assertEqual(html, text)

    def test_a_hundred_thousand_elements_within_each_other(self) -> None:
        page = "<div>" * large(100_000)
        self.assertEqual(Template.from_text(page).render({}).html, page)

    def test_values_of_a_megabyte(self) -> None:
        template = Template.from_text(
            '<p title="{{ v }}" style="color:{{ v }}">{{ v }}</p><a href="https://{{ v }}/{{ v }}">x</a>'
        )
        for piece in ("<", "a", "-", "(", "a(", "a.", "@", " ", '"', "\\", "é"):
            problems = template.problems({"v": piece * (large(900_000) // len(piece))})
            self.assertTrue(problems)
            self.assertTrue(all(len(str(problem)) < 1000 for problem in problems))


class Structure(unittest.TestCase):
    """Whatever a template is, if it compiles at all, no value changes what its pages are made of."""

    def rendering(self, template: Template, value: str, chosen: bool) -> str | None:
        try:
            return template.render({"v": value, "c": chosen, "l": [1, 2]}).html
        except PribbleError:
            return None

    def test_what_was_found(self) -> None:
        found = tomllib.loads((TEST_DATA / "found.toml").read_text(encoding="utf-8"))["found"]
        for page, why in found:
            with self.subTest(page, why=why):
                for chosen in (True, False):
                    self.check_structure(page, VALUES, chosen)
                    self.check_text(page, "a", chosen)

    def test_values_change_no_structure(self) -> None:
        rendered = 0

        @generated(500)
        @given(PAGES, st.lists(st.sampled_from(VALUES), min_size=2, max_size=4), st.booleans())
        def check(page: str, values: list[str], chosen: bool) -> None:
            nonlocal rendered
            rendered += self.check_structure(page, values, chosen)

        check()
        self.assertTrue(rendered > 300 or FEWER, rendered)

    def check_structure(self, page: str, values: list[str], chosen: bool) -> int:
        """Check a page with each of the values; returns for how many of them it could be rendered."""
        try:
            template = Template.from_text(page)
        except PribbleError:
            return 0
        rendered = 0
        made = [self.rendering(template, value, chosen) for value in ("a", "1", "https://x.example/a", "a@x.example")]
        tame = next((html for html in made if html is not None), None)
        for value in values:
            html = self.rendering(template, value, chosen)
            if html is not None and tame is not None:
                rendered += 1
                self.assertEqual(structure(html), structure(tame), page)
        return rendered

    @generated(400)
    @given(PAGES, st.sampled_from(VALUES), st.booleans())
    def test_the_text_says_what_the_rendered_page_does(self, page: str, value: str, chosen: bool) -> None:
        """The text is compiled from the template; laid out from the rendered page, it must be the same."""
        self.check_text(page, value, chosen)

    def check_text(self, page: str, value: str, chosen: bool) -> None:
        try:
            rendering = Template.from_text(page).render({"v": value, "c": chosen, "l": [1, 2]})
        except PribbleError:
            return
        self.assertEqual(rendering.text, plain_text(html_of(rendering)), page)

    @generated(400)
    @given(PIECES)
    def test_what_no_edit_touches_comes_out_byte_for_byte(self, page: str) -> None:
        # No marks, and no empty style sheet, which would be taken out.
        page = page.replace("{{", "{").replace("<style>", "<style>x")
        try:
            template = Template.from_text(f"{page}<p>")
        except PribbleError as error:
            self.assertIn("a tag is not closed", str(error))
            return
        self.assertEqual(template.render({}).html, f"{page}<p>")


if __name__ == "__main__":
    unittest.main()
