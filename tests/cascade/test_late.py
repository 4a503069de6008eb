"""Pages that are dressed when they are rendered: their sheets are those that they were compiled with."""

from __future__ import annotations

from pribble import Template, TemplateFolder
from tests.pictures.test_pictures import made, photograph
from tests.support import Case

FILES: dict[str, str | bytes] = {
    "layouts/base.html": '<!DOCTYPE html><html><head><link rel="stylesheet" href="../styles/base.css">'
    '<style>@import "own.css"; b { color: blue }</style></head><body>{{ slot content }}</body></html>',
    "styles/base.css": '@import "more.css"; .a { color: red } p { background: url(a.png) } p:hover { margin: 0 }',
    "styles/more.css": "i { color: green }",
    "styles/a.png": made(photograph(), "PNG"),
    "layouts/own.css": "u { color: teal } u:hover { top: 0 }",
    # What would be found from the page's folder.
    "sub/styles/base.css": "p { color: wrong }",
    "styles.css": "p { color: wrong }",
    "sub/own.css": "u { color: wrong }",
}
BODY = '<p class="{}">x<i>i</i><u>u</u><b>b</b><img src="../styles/a.png" alt=""></p>'


class Late(Case):
    def site(self) -> TemplateFolder:
        layout = '{{ layout "../layouts/base.html" }}'
        return self.folder(
            {
                **FILES,
                "sub/late.html": layout + BODY.format("{{ c }}"),
                "sub/early.html": layout + BODY.format("a"),
                "sub/said.html": layout + '<p class="{{ c }}">x</p>',
            }
        )

    def test_sheets_are_found_from_the_file_that_names_them(self) -> None:
        folder = self.site()
        late, early = folder["sub/late"], folder["sub/early"]
        self.assertFalse(late.explain().compiled)
        self.assertTrue(early.explain().compiled)
        for embed in ("cid", "data", "none"):
            dressed = late.render({"c": "a"}, embed=embed)
            self.assertEqual(dressed.html, early.render({}, embed=embed).html)
            self.assertEqual(dressed.fragment(), early.render({}, embed=embed).fragment())
            self.assertEqual(dressed.text, early.render({}).text)
        self.assertNotIn("wrong", str(late.render({"c": "b"}).html))
        self.assertNotIn("stands", str(late.render({"c": "b"}).html))
        self.assertEqual(late.render({"c": "a"}).pictures, early.render({}).pictures)

    def test_what_is_told_has_its_place_and_is_the_same(self) -> None:
        folder = self.site()
        late, early = folder["sub/late"].render({"c": "a"}), folder["sub/early"].render({})
        told = [(f.rule, f.message, f.where and (f.where.line, f.where.excerpt())) for f in late.findings]
        self.assertEqual([rule for rule, _, _ in told], ["picture.size"])
        self.assertEqual([f.message for f in late.findings], [f.message for f in early.findings])
        where = late.findings[0].where
        assert where is not None
        self.assertEqual(where.source.text[where.start : where.end], "../styles/a.png")

    def test_sheets_are_read_when_it_is_compiled(self) -> None:
        folder = self.site()
        template = folder["sub/late"]
        before = template.render({"c": "a"}).html
        for name in ("styles/base.css", "styles/more.css", "styles/a.png", "layouts/own.css"):
            (folder.path / name).unlink()
        self.assertEqual(template.render({"c": "a"}).html, before)

    def test_rules_for_the_root_wait_for_no_value(self) -> None:
        """What a value brings is never the root."""
        page = "<style>%s</style><p>x</p>{{ rows as table }}"
        for css in (
            ":root{--c:#123456}p{color:var(--c)}",
            "html:root{color:red}",
            ":root{margin:0}@media print{p{a:b}}",
        ):
            self.assertTrue(Template.from_text(page % css).explain().compiled, css)
        for css in (":root:has(td){color:red}", ":root td{color:red}", ":is(:root, td){color:red}"):
            self.assertFalse(Template.from_text(page % css).explain().compiled, css)

    def test_the_text_is_by_the_same_sheets(self) -> None:
        folder = self.site()
        (folder.path / "styles/more.css").write_text(".c { display: none } i { color: green }")
        self.assertEqual([folder["sub/said"].render({"c": c}).text for c in ("c", "d")], ["", "x\n"])
