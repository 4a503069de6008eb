"""``pribble convert`` and the fragment of a template: pages for hosts that take one string."""

from __future__ import annotations

import json
import os
import re

from html5lib import HTMLParser

from pribble import DataError, Template
from pribble.markup.encoding import decoded_page
from tests.pictures.test_pictures import made, photograph
from tests.support import DEMO, ROOT, Case, pribble

PAGE = """<!DOCTYPE html>
<html><head><title>T</title><link rel="stylesheet" href="css/a.css"><style>@media print { p { color: black } }</style>
</head><body><p class="a">x</p><img src="pictures/a.png" alt="A">
</body></html>
"""
HOSTILE = (
    '"',
    "'",
    "<",
    "&lt;",
    "</p><script>",
    "--><b>",
    "{{ x }}",
    "</style>",
    "]]>",
    "\U000f0000",
    "cid:x",
    "a\u0000b",
    "style=x",
)


# (a page's head, in which charset it is)
CHARSETS = [
    ('<meta charset="windows-1252">', "cp1252"),
    ("<META charset=latin1 />", "cp1252"),
    ("<!-- <meta charset=utf-8> --><meta name=a><meta charset='iso-8859-2'>", "iso-8859-2"),
    ('<meta http-equiv="Content-Type" content="text/html; charset=koi8-r">', "koi8-r"),
    ("<meta content=\"text/html;charset='shift_jis';x\" http-equiv=content-type>", "shift_jis"),
    ("<title>é</title><meta charset=x-sjis>", "shift_jis"),
    ('<link title="<meta charset=utf-8>"><meta charset="euc-kr">', "euc-kr"),
    ("<?x <meta charset=utf-8 ?><meta charset=gbk>", "gbk"),
    ("<meta charset=utf-16le>", "utf-8"),
    ("<meta charset=nothing-known><meta charset=big5>", "big5"),
    ("<meta charset=nothing-known>", "utf-8"),
]


class Charsets(Case):
    def test_what_a_page_declares(self) -> None:
        """As html5lib reads it; what is written declares UTF-8."""
        for head, charset in CHARSETS:
            with self.subTest(head):
                page = f"<!DOCTYPE html>{head}<p>Grüße, Привет, 日本 — “ł”"
                octets = page.encode(charset, "ignore")
                text, told = decoded_page(octets, "page.html")
                document = HTMLParser().parse(octets)
                said = [node.text for node in document.iter("{http://www.w3.org/1999/xhtml}p")]
                if charset != "utf-8":
                    self.assertEqual([one.rule for one in told], ["page.charset"])
                    self.assertEqual([text.partition("<p>")[2]], said)
                    again = HTMLParser()
                    again.parse(text.encode())
                    self.assertEqual(again.documentEncoding, "utf-8")
                else:
                    self.assertEqual((text, told), (octets.decode(), []))

    def test_marks_of_byte_order(self) -> None:
        """They stand above what is declared."""
        page = '<meta charset="windows-1252"><p>Grüße'
        for charset in ("utf-8-sig", "utf-16"):
            text, told = decoded_page(page.encode(charset), "page.html")
            self.assertEqual(text, page if charset == "utf-8-sig" else page.replace("windows-1252", "utf-8"))
            self.assertEqual(len(told), charset == "utf-16")

    def test_octets_that_are_not_in_it(self) -> None:
        for octets, said in (
            (b"<p>\xfc", "page.html is no UTF-8 (at byte 3)"),
            (b"<meta charset=shift_jis><p>\x81", "page.html is no shift_jis, as it declares (at byte 27)"),
        ):
            with self.subTest(octets), self.assertRaises(DataError) as caught:
                decoded_page(octets, "page.html")
            self.assertIn(said, str(caught.exception))
            self.assertIn("declare", str(caught.exception.hint))

    def test_on_the_command_line(self) -> None:
        page = '<meta charset="windows-1252"><p>Grüße – 5 €'
        folder = self.folder({"a.html": page.encode("cp1252")}).path
        done = pribble("convert", f"{folder}/a.html")
        self.assertEqual(done.stdout, '<meta charset="utf-8"><p>Grüße – 5 €')
        self.assertIn("a.html:1:16: the page is in windows-1252, and is written in UTF-8", done.stderr)
        self.assertEqual(pribble("convert", f"{folder}/a.html", "--format", "text", "--quiet").stderr, "")

    def test_where_it_is_written(self) -> None:
        """A link stays one, a device is no file to replace, and an error names what was asked for."""
        folder = self.folder({"a.html": "<p>x", "real.html": "before"}).path
        (folder / "link.html").symlink_to("real.html")
        self.assertEqual(pribble("convert", f"{folder}/a.html", "--out", f"{folder}/link.html").returncode, 0)
        self.assertTrue((folder / "link.html").is_symlink())
        self.assertEqual((folder / "real.html").read_text(encoding="utf-8"), "<p>x")
        pribble("convert", f"{folder}/a.html", "--out", os.devnull)
        self.assertFalse(os.path.isfile(os.devnull))
        long = f"{folder}/{'x' * 300}.html"
        done = pribble("convert", f"{folder}/a.html", "--out", long)
        self.assertEqual((done.returncode, done.stderr), (2, f"{long}: File name too long\n"))


class Convert(Case):
    def site(self) -> str:
        """A folder with a page, its sheet and its picture; the page's path."""
        folder = self.folder(
            {
                "page.html": PAGE,
                "css/a.css": "p { color: red; background: url(../pictures/a.png) }",
                "pictures/a.png": made(photograph(), "PNG"),
                "bad.html": b"<p>\xff",
                "cut.html": '<p>x\n<img src="a.png',
                "gone.html": '<p>x\n<img src="pictures/b.png">',
                "lost.html": '<link rel="stylesheet" href="css/b.css"><p>x',
                "inner/page.html": '<link rel="stylesheet" href="../css/a.css"><p>x',
            }
        )
        return str(folder.path)

    def test_a_page_becomes_one_string(self) -> None:
        folder = self.site()
        done = pribble("convert", f"{folder}/page.html")
        self.assertEqual(done.returncode, 0)
        self.assertRegex(done.stdout, r'<p style="color:red; background:url\(data:image/png;base64,[^)]*\)" class="a">')
        self.assertRegex(done.stdout, r'<img src="data:image/png;base64,[^"]*" width="64" height="48" alt="A">')
        self.assertIn("@media print { p { color: black !important } }", done.stdout)
        self.assertIn('the picture "a.png" is shown with width="64" height="48"', done.stderr)
        self.assertNotIn("<link", done.stdout)

    def test_forms_and_ways(self) -> None:
        folder = self.site()
        fragment = pribble("convert", f"{folder}/page.html", "--format", "fragment", "--embed", "none").stdout
        self.assertTrue(fragment.startswith("<style>@media print"))
        self.assertIn('<img src="pictures/a.png"', fragment)
        self.assertNotRegex(fragment, "<(html|head|title|body)|</(html|body)")
        linked = pribble("convert", f"{folder}/page.html", "--picture-base", "https://x.example/m")
        self.assertIn('src="https://x.example/m/pictures/a.png"', linked.stdout)
        self.assertIn("background:url(https://x.example/m/pictures/a.png)", linked.stdout)
        old = pribble(
            "convert", "-", "--old-attributes", stdin="<style>td{background-color:#fff}</style><table><tr><td>x"
        )
        self.assertIn('bgcolor="#ffffff"', old.stdout)

    def test_standard_input_files_and_json(self) -> None:
        folder = self.site()
        out = f"{folder}/out.html"
        done = pribble("convert", "-", "--out", out, stdin="<style>p { color: red }</style><p>x")
        self.assertEqual((done.returncode, done.stdout), (0, ""))
        with open(out, encoding="utf-8") as file:
            self.assertEqual(file.read(), '<p style="color:red">x')
        answer = json.loads(pribble("convert", f"{folder}/page.html", "--json").stdout)
        self.assertEqual((answer["format"], [one["rule"] for one in answer["findings"]]), ("html", ["picture.size"]))
        self.assertEqual(answer["bytes"], len(answer["content"].encode()))

    def test_errors(self) -> None:
        folder = self.site()
        for arguments, code, says in (
            ((f"{folder}/none.html",), 2, "there is no file"),
            ((f"{folder}/page.html", "--embed", "cid"), 2, "convert makes none"),
            ((f"{folder}/page.html", "--embed", "link"), 2, "need the address they lie below"),
            ((f"{folder}/bad.html",), 1, "is no UTF-8 (at byte 3)"),
            ((f"{folder}/page.html", "--folder", f"{folder}/none"), 2, "there is no folder"),
            ((f"{folder}/lost.html",), 1, 'lost.html:1:1: there is no style sheet "css/b.css" (did you mean "a.css"?)'),
        ):
            with self.subTest(says):
                done = pribble("convert", *arguments)
                self.assertEqual((done.returncode, done.stdout), (code, ""))
                self.assertIn(says, done.stderr)
                self.assertNotIn("Traceback", done.stderr)

    def test_what_is_left_is_told(self) -> None:
        folder = self.site()
        for name, page, says in (
            ("cut", "<p>x\n", "cut.html:2:1: the page ends within a tag, which a browser drops"),
            (
                "gone",
                '<p>x\n<img src="pictures/b.png">',
                'gone.html:2:11: there is no picture "pictures/b.png", so it stays as it is named (did you mean "a.png"?)',
            ),
        ):
            done = pribble("convert", f"{folder}/{name}.html")
            self.assertEqual((done.returncode, done.stdout), (0, page))
            self.assertIn(says, done.stderr)

    def test_sheets_in_further_folders(self) -> None:
        folder = self.site()
        for form in ("html", "text"):
            alone = pribble("convert", f"{folder}/inner/page.html", "--format", form)
            self.assertEqual(alone.returncode, 1)
            self.assertIn("lies outside the folders of the page", alone.stderr)
            done = pribble("convert", f"{folder}/inner/page.html", "--format", form, "--folder", f"{folder}/css")
            self.assertEqual(done.returncode, 0)
        page = pribble("convert", f"{folder}/inner/page.html", "--folder", f"{folder}/css").stdout
        self.assertIn("color:red; background:url(../pictures/a.png)", page)
        both = ("--folder", f"{folder}/css", "--folder", f"{folder}/pictures")
        page = pribble("convert", f"{folder}/inner/page.html", *both).stdout
        self.assertIn("color:red; background:url(data:image/png;base64,", page)

    def test_a_template_as_one_string(self) -> None:
        done = pribble("render", "mooring-statement", "--format", "fragment", "--embed", "data", "--quiet")
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertTrue(done.stdout.startswith("<style>"))
        self.assertEqual(len(re.findall(r'src="data:image/png;base64,', done.stdout)), 2)
        self.assertNotRegex(done.stdout, "cid:|<(html|head|title|body)|\\{\\{")
        linked = pribble(
            "render", "berth-confirmed", "--format", "html", "--embed", "link", "--picture-base", "https://x.example"
        )
        self.assertIn('src="https://x.example/pictures/pier-b.png"', linked.stdout)
        missing = pribble("render", "berth-confirmed", "--format", "html", "--embed", "link")
        self.assertEqual(missing.returncode, 2)
        self.assertIn("need the address they lie below", missing.stderr)

    def test_settings_of_pictures(self) -> None:
        folder = self.site()
        for settings, says in (
            ('[pictures]\nbase = "https://x.example"\nembed = "link"', ""),
            ("[pictures]\nbases = 1", 'did you mean "base"?'),
            ("[pictures]\nbase = 1", '"pictures.base" is a text'),
        ):
            with open(f"{folder}/pribble.toml", "w", encoding="utf-8") as file:
                file.write(f'templates = "{DEMO}"\n{settings}\n')
            done = pribble("render", "berth-confirmed", "--format", "fragment", cwd=type(ROOT)(folder))
            with self.subTest(settings):
                self.assertIn(says or "https://x.example/pictures/pier-b.png", done.stdout + done.stderr)


class Hostile(Case):
    """A page that is dressed when it is rendered holds what the data hold, and no more."""

    PAGE = (
        "<!DOCTYPE html><html><head><title>t</title><style>p:nth-child(odd) { color: red; font-family: 'A \"B' } [title] { margin: 0 }"
        '</style></head><body>{{ for v in values: }}<p title="{{ v }}" style="top: 0">{{ v }}</p>{{ :for }}</body></html>'
    )

    def test_values_change_no_structure(self) -> None:
        template = Template.from_text(self.PAGE)
        self.assertFalse(template.explain().compiled)
        html = template.render({"values": HOSTILE}).html
        tree = HTMLParser(namespaceHTMLElements=False).parse(html)
        paragraphs = list(tree.iter("p"))
        self.assertEqual(len(paragraphs), len(HOSTILE))
        self.assertEqual(len(list(tree.iter("script"))), 0)
        for index, (paragraph, value) in enumerate(zip(paragraphs, HOSTILE, strict=True)):
            with self.subTest(value):
                expected = value.replace("\u0000", "")
                self.assertEqual((paragraph.text or "").replace("\ufffd", ""), expected)
                self.assertEqual(paragraph.get("title").replace("\ufffd", ""), expected)
                own = "margin:0; color:red; font-family:'A \"B'; top:0" if index % 2 == 0 else "margin:0; top:0"
                self.assertEqual(paragraph.get("style"), own)
                self.assertEqual(sorted(paragraph.attrib), ["style", "title"])
