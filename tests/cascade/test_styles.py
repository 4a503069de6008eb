"""Styles: the cascade of a browser is the judge of what is written into the elements."""

from __future__ import annotations

import re
import tomllib
from typing import Any

from pribble import Template, TemplateError, TemplateFolder, inline_styles
from pribble.cascade.longhands import longhands
from pribble.cascade.style_attribute import read_style_attribute as read_style
from pribble.demo import TEMPLATES
from pribble.markup.events import Opened
from pribble.markup.page import read_page
from tests.cascade import styled
from tests.chromium import STATES, browser, computed, differences, values
from tests.support import TEST_DATA, Case, html_of, needs_chromium, proof, seeds, slow

PAGES = sorted((TEST_DATA / "pages").glob("[0-9]*.html"))
_SHEETS = re.compile(r"<style.*?</style>", re.DOTALL)
# Pages of which rules stay that hold for a wide, light, unhovered page: ":is(.m:hover, .n)", "@supports", "::before".
HOLDING = {"05-logical.html", "08-narrow.html"}


def stylish(css: str, body: str) -> str:
    return f"<!DOCTYPE html><html><head><style>{css}</style></head><body>{body}</body></html>"


class Inlining(Case):
    def test_each_rule_of_the_cascade(self) -> None:
        rows = tomllib.loads((TEST_DATA / "styles.toml").read_text(encoding="utf-8"))["case"]
        for row in rows:
            with self.subTest(row["says"]):
                made = inline_styles(stylish(row["css"], row["body"]))
                self.assertEqual(made[made.index("<body") :].removeprefix("<body>"), row["out"] + "</body></html>")
                left = _SHEETS.search(made)
                inside = re.sub(r"</?style>", "", left[0]) if left else ""
                self.assertEqual(inside.strip(), row.get("left", "").strip())

    def test_a_sheet_that_is_kept_stays_byte_for_byte(self) -> None:
        kept = '<style data-rules="keep">\n p{color:red}  @media print{p{color : black}} </style>'
        made = inline_styles(f"<!DOCTYPE html><head>{kept}</head><body><p>x</p></body>")
        self.assertIn(kept, made)
        self.assertIn('<p style="color:red">', made)
        self.assertIn("<style>@media print { p { color: black !important }", made)

    def test_old_attributes_on_request(self) -> None:
        css = (
            "td { background-color: rgb(1, 2, 3); width: 50%; height: 20px; text-align: right; vertical-align: top } "
            "table { background: #fff; width: 600px; text-align: center } img { width: 40px } b { width: 3px } "
            ".c { background-color: rgba(0, 0, 0, .5); width: 2em }"
        )
        body = '<table bgcolor="red"><tr><td>x</td><td class="c" align="left"><img alt=""></td></tr></table><b>y</b>'
        made = inline_styles(stylish(css, body), presentational=True)
        for tag, wanted in (
            ("table", 'bgcolor="red"'),
            ("td", 'bgcolor="#010203" width="50%" height="20" align="right" valign="top"'),
            ('td class="c"', 'height="20" valign="top"'),
            ("img", 'width="40"'),
            ("b", ""),
        ):
            name, _, mark = tag.partition(" ")
            found = re.search(rf"<{name}\b(?=[^>]*{mark})[^>]*>", made)
            assert found
            attributes = re.sub(r' (style|class|alt)="[^"]*"', "", found[0])
            with self.subTest(tag):
                self.assertEqual(
                    attributes.removeprefix(f"<{name}").removesuffix(">").replace(' align="left"', "").strip(), wanted
                )

    def test_sheets_are_read_in(self) -> None:
        files: dict[str, str | bytes] = {
            "a.css": '@import "sub/b.css" print; @import url(https://x.example/f.css); p { color: red }',
            "sub/b.css": "@import '../c.css' supports(display: grid); p { margin: 1px }",
            "c.css": "p { padding: 2px }",
            "round.css": '@import "round2.css"; b { color: red }',
            "round2.css": '@import "round.css"; b { margin: 0 }',
            "t.html": '<link rel=stylesheet href=a.css media="all"><link rel="stylesheet" href="round.css"><p>x<b>y</b></p>',
        }
        template = self.folder(files)["t"]
        html = html_of(template.render({}))
        self.assertIn('<p style="color:red">x<b style="margin:0; color:red">', html)
        self.assertIn("@import url(https://x.example/f.css);", html)
        self.assertRegex(html, r"@media print \{ @supports \(display: grid\) \{ p \{ padding: 2px \}")
        self.assertLess(html.index("@import"), html.index("@media"))
        told = [finding.rule for finding in template.findings]
        self.assertEqual(told, ["css.remote", "css.import-circle", "page.quirks"])

    def test_sheets_that_cannot_be_read(self) -> None:
        for page, says in (
            ('<link rel="stylesheet" href="a.cs">', 'there is no style sheet "a.cs" (did you mean "a.css"?)'),
            ('<style>@import "../x.css";</style>', 'the style sheet "../x.css" lies outside the template folder'),
            ('<link rel="stylesheet" href="bad.css">', 'the style sheet "bad.css" is no UTF-8 (at byte 1)'),
        ):
            with self.subTest(page), self.assertRaises(TemplateError) as caught:
                self.folder({"t.html": page, "a.css": "", "bad.css": b"a\xff"})["t"]
            self.assertIn(says, str(caught.exception))

    def test_what_is_told(self) -> None:
        css = (
            "p { color: red; nonsense } ..a { color: red } p:nope { color: red } @what; @namespace x url(y); b { a: 'x"
        )
        template = Template.from_text(stylish(css, "<p>x"))
        found = [(finding.rule, finding.where.start) for finding in template.findings if finding.where]
        text = stylish(css, "<p>x")
        for rule, stretch in (
            ("css.broken", "nonsense"),
            ("css.unknown-selector", "..a"),
            ("css.unknown-selector", "p:nope"),
            ("css.unknown-rule", "@what"),
            ("css.namespace", "@namespace"),
        ):
            self.assertIn((rule, text.index(stretch)), found)
        self.assertIn("css.unclosed", [rule for rule, _ in found])
        screen = Template.from_text("<!DOCTYPE html><style media=screen>p { color: red }</style><p>x")
        self.assertEqual([finding.rule for finding in screen.findings], ["css.media"])

    def test_hostile_sheets(self) -> None:
        """Sheets that nest, repeat and multiply beyond all measure stay as they are, and hang nobody."""
        n = 20_000
        for css in (
            "a { b: " + "c(" * n,
            "@media x {" * n,
            ":not(" * n + "b { color: red }",
            "a " * n + "b { color: red }",
            "a { color: " + "var(--x, " * n,
            '"' * n,
            "/*" * n,
            ":root {"
            + "".join(f"--a{i}: var(--a{i + 1}) var(--a{i + 1});" for i in range(60))
            + "--a60: x } a { b: var(--a0) }",
        ):
            with self.subTest(css[:30]):
                self.assertIn("</a>", inline_styles(stylish(css, '<a style="color: red">x</a>')))
        deep = '<p style="color: ' + "(" * n + '">x</p>'
        self.assertEqual(inline_styles(stylish("p { margin: 0 }", deep)).count("("), n)

    def test_which_way_and_why(self) -> None:
        cases = {
            "": ["<p>x</p>", '<p class="a" style="color: {{ c }}">', "{{ for i in l: }}<p>{{ i }}</p>{{ :for }}"],
            "counts siblings in a loop or branch": [
                "<style>p:nth-child(odd) { color: red }</style>{{ for i in l: }}<p>x</p>{{ :for }}",
                "<style>b + p { color: red }</style><b></b>{{ if c: }}<p>x</p>{{ :if }}",
            ],
            "asks for an attribute that holds a mark": [
                '<style>.a { color: red }</style><p class="{{ c }}">x',
                '<style>a:link { color: red }</style><a href="{{ c? }}">x</a>',
            ],
            "asks what an element holds": ["<style>p:empty { color: red }</style><p>{{ c }}</p>"],
            "a style sheet stands in a block or holds a mark": [
                "<style>p { color: {{ c }} }</style><p>x",
                "{{ if c: }}<style>p { color: red }</style>{{ :if }}<p>x",
            ],
            "its style holds a block": ['<style>p { color: red }</style><p style="{{ if c: }}top: 0{{ :if }}">x'],
            "may be for what a value brings": ["<style>p { color: red }</style><div>{{ c as html }}</div>"],
            "a custom property holds a mark": ['<style>p { color: var(--x) }</style><p style="--x: {{ c }}">x'],
            "may be left out": ['<style>p:hover { color: red }</style><p style="color: {{ c? }}">x'],
            "a picture's size holds a mark": ['<img src="https://x.example/" alt="" width="{{ c }}">'],
        }
        for why, pages in cases.items():
            for page in pages:
                with self.subTest(page):
                    explanation = Template.from_text(page).explain()
                    self.assertEqual(explanation.compiled, not why)
                    self.assertIn(why, str(explanation))

    def test_what_the_data_decide_is_decided_when_rendered(self) -> None:
        css = "<style>tr:nth-child(odd) td { color: red } .hot { font-weight: bold } i { color: blue }</style>"
        page = css + (
            '<table><tbody>{{ for row in rows: }}<tr><td class="{{ row }}">x</td></tr>{{ :for }}</tbody></table>'
            "<div>{{ more as html }}</div>"
        )
        html = self.html(page, {"rows": ["hot", "cold", "cold"], "more": "<i>z</i>"})
        cells = re.findall(r"<td[^>]*>", html)
        self.assertEqual(
            cells,
            [
                '<td style="font-weight:bold; color:red" class="hot">',
                '<td class="cold">',
                '<td style="color:red" class="cold">',
            ],
        )
        self.assertIn('<i style="color:blue">z</i>', html)

    @slow
    def test_compiled_inlining_is_that_of_the_rendered_page(self) -> None:
        ways = set()
        for seed in seeds(150):
            text, sheet = styled.template(seed)
            template = Template.from_text(text.replace("<!--sheet-->", sheet))
            ways.add(template.explain().compiled)
            # The same without a sheet, so that nothing is inlined before it is rendered; var() would be.
            bare = Template.from_text(text.replace("var(", "min("))
            for data in styled.data():
                rendered = html_of(bare.render(data)).replace("<!--sheet-->", sheet).replace("min(", "var(")
                with self.subTest(seed=seed, data=data["kind"]):
                    self.assertEqual(_winning(html_of(template.render(data))), _winning(inline_styles(rendered)))
        self.assertEqual(ways, {True, False})


def _winning(html: str) -> list[tuple[str, dict[str, tuple[str, str]]]]:
    """For each element, which declaration of its attribute sets each longhand."""
    found = []
    for event in read_page(html, lambda offset: "literal").events:
        if not isinstance(event, Opened):
            continue
        style = event.tag.attribute("style")
        declarations = [own.declaration for own in read_style(html, style)] if style else []
        set_by: dict[str, tuple[str, str]] = {}
        for declaration in sorted(declarations, key=lambda d: d.important):
            if declaration.name == "all":
                set_by = {name: one for name, one in set_by.items() if name.startswith("--")}
            for longhand in longhands(declaration.name):
                set_by[longhand] = declaration.name, declaration.value
        found.append((event.tag.name, set_by))
    return found


@proof
@needs_chromium
class InChromium(Case):
    """Computed styles before and after, in eight states of the reader."""

    def test_all_pages_compute_the_same(self) -> None:
        page = browser()
        for path in PAGES:
            html = path.read_text(encoding="utf-8")
            before = computed(page, html)
            made = inline_styles(html)
            with self.subTest(path.name, proof="with what is left of the sheets"):
                self.assertEqual(differences(before, computed(page, made)), [])
            wide = {"wide": before["wide"]}
            if path.name not in HOLDING:
                with self.subTest(path.name, proof="without any sheet"):
                    bare = _SHEETS.sub("", made)
                    self.assertEqual(differences(wide, computed(page, bare, ["wide"])), [])
            with self.subTest(path.name, proof="the judge can tell"):
                self.assertNotEqual(differences(wide, computed(page, _SHEETS.sub("", html), ["wide"])), [])

    def test_the_demo_computes_the_same(self) -> None:
        """The templates' rendered pages, against those of the same templates with every sheet kept from the cascade."""
        page = browser()
        for name in ("berth-confirmed", "mooring-statement"):
            folder = TemplateFolder(TEMPLATES, locale="en_GB", put_right=())
            sample = folder[name].samples[""]
            made = html_of(folder[name].render(sample, embed="none"))
            layout = (TEMPLATES / "layouts/frame.html").read_text(encoding="utf-8")
            sheet = _SHEETS.search(layout)
            assert sheet
            # As the author wrote it: no style attribute but the author's own, and the whole sheet.
            files: dict[str, str | bytes] = {
                str(path.relative_to(TEMPLATES)): path.read_bytes() for path in TEMPLATES.rglob("*") if path.is_file()
            }
            files["layouts/frame.html"] = layout.replace(sheet[0], "<!--sheet-->")
            written = html_of(self.folder(files, locale="en_GB", put_right=())[name].render(sample, embed="none"))
            with self.subTest(name):
                before = computed(page, written.replace("<!--sheet-->", sheet[0]))
                self.assertEqual(differences(before, computed(page, made)), [])
                bare = computed(page, _SHEETS.sub("", made), ["wide"])
                self.assertEqual(differences({"wide": before["wide"]}, bare), [])

    def test_generated_pages_compute_the_same(self) -> None:
        states = ["wide", "narrow", "dark", "print", "hover"]
        page = browser()
        for seed in seeds(16):
            html = styled.page(seed)
            with self.subTest(seed):
                before = computed(page, html, states)
                after = computed(page, inline_styles(html), states)
                self.assertEqual(differences(before, after), [])

    def test_the_states_of_the_reader_are_told_apart(self) -> None:
        css = (
            "p { color: red } @media (max-width: 620px) { p { margin: 9px } } @media print { p { padding: 9px } } "
            "@media (prefers-color-scheme: dark) { p { color: blue } } p:hover { top: 1px } p:focus { top: 2px } "
            "p:active { top: 3px }"
        )
        page = browser()
        found: dict[str, Any] = computed(page, stylish(css, "<p>x</p>"))
        shown = {
            tuple(
                values(found[state][0], found[state][1][-1])[name]
                for name in ("color", "margin-top", "padding-top", "top")
            )
            for state in STATES
        }
        self.assertEqual(len(shown), len(STATES))
