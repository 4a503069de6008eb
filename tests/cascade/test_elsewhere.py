"""Pages from elsewhere: the addresses in their sheets, what is left and told, folders, judged by Chromium."""

from __future__ import annotations

import re
from pathlib import Path
from random import Random

from pribble import Finding, PictureError, TemplateError, inline_styles, plain_text
from pribble.cascade.urls import rebase
from tests.chromium import browser
from tests.pictures.test_pictures import made, photograph
from tests.support import Case, needs_chromium, seeds

# What a browser asks for: the pictures of each element, and the fonts and pictures of the rules that stay, absolute.
ASKED = """
const urls = text => [...text.matchAll(/url\\("([^"]*)"\\)/g)].map(m => m[1]);
const shown = [...document.body.querySelectorAll('*')].map(e => { const s = getComputedStyle(e);
  return [e.localName, urls(s.backgroundImage + s.borderImageSource + s.listStyleImage + s.cursor)]; });
return shown;
"""
SHEETS: dict[str, str | bytes] = {
    "docs/css/a.css": "@import url('../../_static/more/b.css'); p { background: url(a.png?v=3#x), url('sub/b b.png') }",
    "_static/base.css": '@import "more/b.css"; h1 { background: image-set("img/a.png" 1x, url(img/b.png) 2x) }'
    "@font-face { font-family: X; src: url('fonts/x.woff?#iefix') format('woff'), url(fonts/x.woff2) }"
    "h2 { border-image: url(../_static/./img/a.png) 1; background: url(/abs/a.png), url(https://x.example/a.png) }"
    "b { background: url(../../../up.png) } i { list-style: url(c:d.png); background: url(data:image/png;base64,AA) }"
    ".none { background: url(img/gone.png) }",
    "_static/more/b.css": "h3 { background: url(../img/c.svg#a) } h1 { list-style-image: url(d.png) }",
}
PAGE = (
    '<!DOCTYPE html><link rel="stylesheet" href="../_static/base.css"><link rel="stylesheet" href="css/a.css">'
    "<style>u { background: url(own.png) }</style><body><h1>1</h1><h2>2</h2><h3>3</h3><p>p<b>b</b><i>i</i><u>u</u>"
)
REFUSED = (
    '<a href="javascript:x()">a</a>',
    '<link rel=icon href="data:image/png;base64,AA">',
    '<iframe src="data:text/html,x"></iframe>',
    '<form action="vbscript:x"></form>',
    '<!--[if mso]><a href="javascript:x">y</a><![endif]-->',
)


class Elsewhere(Case):
    def site(self, **files: str | bytes) -> Path:
        return self.folder({"docs/page.html": PAGE, **SHEETS, **files}).path

    @needs_chromium
    def test_a_browser_asks_for_the_same(self) -> None:
        site = self.site()
        page = browser()
        page.load(PAGE, site / "docs/page.html")
        before = page.evaluate(ASKED)
        self.assertGreater(sum(len(urls) for _, urls in before), 10)
        html = inline_styles(PAGE, folder=[site / "docs", site / "_static"])
        self.assertNotIn("cid:", html)
        page.load(html, site / "docs/other.html")
        self.assertEqual(page.evaluate(ASKED), before)
        self.assertIn("src: url(../_static/fonts/x.woff?#iefix) format('woff'), url(../_static/fonts/x.woff2)", html)

    @needs_chromium
    def test_generated_addresses_are_rebased_as_a_browser_does(self) -> None:
        pieces = ["..", ".", "a", "b c", "d%20e", "x:y", "", "é", "?q=/../z", "#f/..", "/"]
        cases = []
        for seed in seeds(200):
            random = Random(seed)
            base = "/".join([*random.choices(["..", "s", "t"], k=random.randint(0, 3)), "x.css"])
            cases.append(("/".join(random.choices(pieces, k=random.randint(1, 4))), base))
        # A place on the page is that of the page, whatever sheet names it (CSS Values 4, 4.5.1).
        cases = [(one, base) for one, base in cases if not one.startswith("#") and one]
        page = browser()
        page.load("<!DOCTYPE html>", self.site() / "docs/page.html")
        wanted = page.evaluate(
            "const abs = (a, b) => { try { return new URL(a, b).href } catch { return 'none' } };"
            f"return {[[one, base, rebase(one, base)] for one, base in cases]!r}.map(([one, base, made]) => "
            "[abs(one, abs(base, 'http://h.example/1/2/3/4/5/6/')), abs(made, 'http://h.example/1/2/3/4/5/6/')])"
        )
        for (one, base), (theirs, ours) in zip(cases, wanted, strict=True):
            with self.subTest(one=one, base=base):
                self.assertEqual(re.sub("(?<!:)/+", "/", ours), re.sub("(?<!:)/+", "/", theirs))

    def test_what_no_template_may_have_is_left_and_told(self) -> None:
        for markup in REFUSED:
            told: list[Finding] = []
            page = f"<!DOCTYPE html><style>b {{ color: red }}</style><b>{markup}</b>"
            html = inline_styles(page, tell=told.append)
            self.assertEqual(html, f'<!DOCTYPE html><b style="color:red">{markup}</b>')
            if "<!--" not in markup:
                self.assertEqual([finding.rule for finding in told], ["page.refused"])
                assert told[0].where is not None
                self.assertIn(page[told[0].where.start : told[0].where.end], markup)
            self.assertIsInstance(plain_text(page), str)

    def test_what_a_browser_drops_or_makes_is_told(self) -> None:
        told: list[Finding] = []
        self.assertEqual(inline_styles("<!DOCTYPE html><p>a<b c='", tell=told.append), "<!DOCTYPE html><p>a")
        inline_styles("<!DOCTYPE html><div>a</p>b</div>" + "<p></i>" * 30, tell=told.append)
        rules = [finding.rule for finding in told]
        self.assertEqual(rules, ["page.unfinished-tag", *["page.stray-end-tag"] * 20])
        self.assertIn("</p> closes nothing, and makes an empty one", told[1].message)

    def test_folders(self) -> None:
        site = self.site()
        with self.assertRaisesRegex(TemplateError, "lies outside the folders of the page"):
            inline_styles(PAGE, folder=site / "docs")
        self.assertIn("../_static/img/a.png", inline_styles(PAGE, folder=[str(site / "docs"), site / "_static"]))
        self.assertEqual(inline_styles(PAGE).count("<link"), 2)
        self.assertIn("<link", inline_styles('<link rel="stylesheet" href="/a.css">', folder=site))
        for wrong in (1, [1], {"a": 1}):
            with self.assertRaisesRegex(TypeError, "folder is a path or a list of paths"):
                inline_styles(PAGE, folder=wrong)  # type: ignore[arg-type]

    def test_templates_rebase_fonts_and_embed_sets(self) -> None:
        picture = made(photograph(), "PNG")
        files: dict[str, str | bytes] = {
            "t.html": '<!DOCTYPE html><link rel=stylesheet href="css/a.css"><p>x',
            "css/a.css": "@import 'b.css'; @font-face { src: url(x.woff) } p { background: image-set('a.png' 2x) }",
            "css/b.css": "@font-face { src: url('../y.woff#z') }",
            "css/a.png": picture,
        }
        html = self.folder(files)["t"].render({}).fragment(embed="data") or ""
        self.assertIn("@font-face { src: url(css/x.woff) }", html)
        self.assertIn("@font-face { src: url(y.woff#z) }", html)
        self.assertIn("image-set(url(data:image/png;base64,", html)
        with self.assertRaises(PictureError):
            self.folder({**files, "css/a.png": b"", "css/a.css": "p { background: image-set('b.png' 1x) }"})["t"]
