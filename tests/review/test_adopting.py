"""What somebody else designed becomes a template: it looks as before, and nothing of it leads out."""

from __future__ import annotations

import base64
import io
import json
import stat
import unittest
import zipfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from PIL import Image, ImageChops

from pribble import Attachment, PribbleError, Template, TemplateFolder
from pribble.errors import DataError
from pribble.review import Adopted, adopt
from pribble.review.adopting import archives
from tests.chromium import browser
from tests.support import DEMO, Case, generated, html_of, needs_chromium, pribble, slow


def png(colour: str = "#1f7a7a", size: tuple[int, int] = (60, 40)) -> bytes:
    out = io.BytesIO()
    image = Image.new("RGB", size, colour)
    image.paste("#e2a33b", (0, 0, size[0] // 2, size[1] // 2))
    image.save(out, "PNG")
    return out.getvalue()


def zipped(files: Mapping[str, str | bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            archive.writestr(name, content)
    return out.getvalue()


# A designer's export: folders, sheets that import sheets, debris of two systems, a second page.
EXPORT: dict[str, str | bytes] = {
    "Spring Tide/index.html": """<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Spring tide</title>
<link rel="stylesheet" href="css/main.css"><link rel="shortcut icon" href="favicon.ico">
<style>.foot { background: url("img/wave.png") repeat-x; padding: 20px }</style>
<script src="js/menu.js"></script></head>
<body onload="start()"><div class="hero"><img src="img/Wave%20(1).PNG" alt="A wave for Ana Bell" width="120" height="80"></div>
<h1>High water, Ana Bell</h1>
<p class="lead">Your berth <strong>B 14</strong> is under <em>springs</em> on 3 July. Ana Bell's gate is open.</p>
<p><a href="https://skerrow.example/b/SH-1?who=Ana%20Bell">Your booking</a> <img src="img/wave.png" width="60" height="40" alt=""></p>
<p class="foot">[City], {{unsubscribe}}</p><img src="https://count.example/p.gif" width="1" height="1" alt="">
</body></html>""",
    "Spring Tide/css/main.css": "@import url(colours.css);\nbody { font-family: Georgia, serif; background: #eef3f4 }\n.hero { background: url(../img/wave.png); padding: 12px }",
    "Spring Tide/css/colours.css": "h1 { color: #14364f } .lead { color: #50626b; font-size: 18px } .lead strong { color: #a8412b }",
    "Spring Tide/img/Wave (1).PNG": png(size=(240, 160)),
    "Spring Tide/img/wave.png": png("#9cc3e6"),
    "Spring Tide/js/menu.js": "alert(1)",
    "Spring Tide/archive/old.htm": "<p>Last year's",
    "Spring Tide/.DS_Store": b"\x00\x01",
    "__MACOSX/Spring Tide/._index.html": b"\x00\x05\x16\x07",
    "Thumbs.db": b"\xd0\xcf",
}
# A word processor's page: windows-1252, namespaces, settings in comments, VML for one engine.
LETTER = """<html xmlns:v="urn:schemas-microsoft-com:vml" xmlns:o="urn:schemas-microsoft-com:office:office"
xmlns:w="urn:schemas-microsoft-com:office:word" xmlns="http://www.w3.org/TR/REC-html40">
<head><meta http-equiv=Content-Type content="text/html; charset=windows-1252"><meta name=Generator content="A word processor 15">
<link rel=File-List href="letter_files/filelist.xml">
<!--[if gte mso 9]><xml><w:WordDocument><w:View>Print</w:View></w:WordDocument></xml><![endif]-->
<style><!-- p.MsoNormal { mso-style-parent:""; margin:0cm 0cm 8pt 0cm; font-size:11.0pt; font-family:Calibri,sans-serif; color:#1F3864 }
 @page WordSection1 { size:595.3pt 841.9pt; } --></style></head>
<body lang=EN-GB style='tab-interval:36.0pt'><div class=WordSection1>
<p class=MsoNormal>Dear Ana Bell\u2019s crew,<o:p></o:p></p>
<p class=MsoNormal style='mso-margin-top-alt:auto;text-indent:12pt'><b>Berth \u201cB&nbsp;14\u201d</b> costs \u20ac28.50 \u2013 a night.</p>
<p class=MsoNormal><!--[if gte vml 1]><v:shape style='width:45pt;height:30pt'><v:imagedata src="letter_files/image001.png"/></v:shape><![endif]--><![if !vml]><img
width=60 height=40 src="letter_files/image001.png" v:shapes="Picture_1"><![endif]></p>
<!--StartFragment--><p class=MsoNormal>Fair winds<o:p>&nbsp;</o:p></p><!--EndFragment--></div></body></html>"""


class Adopting(Case):
    def adopt(
        self, files: Mapping[str, str | bytes] | bytes, name: str = "spring", source: str = "export.zip", **given: Any
    ) -> tuple[Adopted, Path]:
        """What becomes of an archive with these files, or of a file called `source`."""
        path = self.folder().path
        (path / source).write_bytes(zipped(files) if isinstance(files, Mapping) else files)
        return adopt(path / source, into=path / "templates", name=name, **given), path / "templates"

    def test_a_designer_s_export(self) -> None:
        made, path = self.adopt(
            EXPORT,
            page="index.html",
            fields={"Ana Bell": "skipper.name", "SH-1": "booking.id", "B 14": "berth", "under springs": "tide"},
            placeholder=r"\[(\w+)\]",
        )
        names = [one.relative_to(path).as_posix() for one in made.files]
        self.assertEqual(names[0], "spring.html")
        self.assertEqual(
            sorted(names[1:]),
            [
                "pictures/spring-wave-1.png",
                "pictures/spring-wave.png",
                "spring.sample.json",
                "styles/spring-colours.css",
                "styles/spring-main.css",
            ],
        )
        fields = {one.path: (one.text, one.places) for one in made.fields}
        self.assertEqual(
            fields,
            {"skipper.name": ("Ana Bell", 4), "booking.id": ("SH-1", 1), "berth": ("B 14", 1), "city": ("City", 1)},
        )
        rules = [one.rule for one in made.findings]
        (cut,) = [one for one in made.findings if one.rule == "adopt.cut"]
        self.assertIn('"under springs" is cut by an element', cut.message)
        self.assertIn("placeholder.left", rules, "braces of others are text, and a check finds them")
        dropped = " ".join(one.message for one in made.findings if one.rule == "adopt.dropped")
        for what in ("<script>", "event attribute", "shortcut icon", "tracking pixel"):
            self.assertIn(what, dropped)
        template = TemplateFolder(path)["spring"]
        self.assertEqual(
            template.samples[""],
            {"skipper": {"name": "Ana Bell"}, "berth": "B 14", "booking": {"id": "SH-1"}, "city": "City"},
        )
        rendering = template.render({**template.samples[""], "skipper": {"name": "Zoë & Co"}})
        html = html_of(rendering)
        self.assertIn("https://skerrow.example/b/SH-1?who=Zo%C3%AB%20%26%20Co", html)
        self.assertIn('alt="A wave for Zoë &amp; Co"', html)
        self.assertIn("{{unsubscribe}}", rendering.text)
        self.assertEqual(len(rendering.pictures), 2)
        self.assertNotIn("count.example", html)

    def test_a_word_processor_s_page(self) -> None:
        path = self.folder({"letter_files/image001.png": png()}).path
        (path / "letter.htm").write_bytes(LETTER.encode("windows-1252"))
        for tidy in (False, True):
            with self.subTest(tidy=tidy):
                made = adopt(
                    path / "letter.htm",
                    into=path / "t",
                    name=f"letter{int(tidy)}",
                    fields={"Ana Bell": "name"},
                    tidy=tidy,
                )
                template = TemplateFolder(path / "t")[f"letter{int(tidy)}"]
                rendering = template.render(template.samples[""])
                self.assertIn("Dear Ana Bell\u2019s crew,", rendering.text)
                self.assertIn("€28.50 – a night", rendering.text)
                self.assertEqual(len(rendering.pictures), 1, "the same picture for both engines is one")
                self.assertIn("page.charset", [one.rule for one in made.findings])
                source = made.files[0].read_text(encoding="utf-8")
                self.assertNotIn("letter_files/image001", source)
                for debris in ("<o:p>", "w:WordDocument", "mso-style-parent", "StartFragment", "Generator", "xmlns:w"):
                    self.assertEqual(debris in source, not tidy, debris)

    @slow
    def test_messages_of_ours(self) -> None:
        templates = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        for name, template in templates.items():
            rendering = template.render(template.samples[""])
            raw = bytes(
                rendering.message(
                    sender="Berths <berths@skerrow.example>",
                    to="ana@example.org",
                    attachments=[Attachment("a.pdf", b"%PDF")],
                )
            )
            with self.subTest(name):
                made, path = self.adopt(raw, name="again", source="m.eml")
                again = TemplateFolder(path)["again"]
                back = again.render({})
                self.assertEqual(back.subject, rendering.subject)
                self.assertEqual(back.text.split(), rendering.text.split())
                self.assertEqual(len(back.pictures), len(rendering.pictures))
                self.assertEqual(made.files[0].suffix, ".html" if template.is_page else ".txt")
                written = made.files[0].read_text(encoding="utf-8")
                # A text that only repeats the page is derived again; one that somebody wrote is kept.
                self.assertEqual("{{ text: }}" in written, name == "gale-warning")
                (fields,) = [one for one in made.findings if one.rule == "adopt.fields"]
                self.assertIn("Message-ID", fields.message)

    def test_messages_of_other_forms(self) -> None:
        picture_ = base64.encodebytes(png()).decode()
        related = (
            (
                "From: a@example.org\r\nSubject: =?utf-8?q?Sch=C3=B6n_{{x}}?=\r\nReceived: by x\r\nList-Id: <a.example.org>\r\n"
                "Content-Type: multipart/mixed; boundary=o\r\n\r\n--o\r\nContent-Type: multipart/alternative; boundary=a\r\n\r\n--a\r\n"
                "Content-Type: text/plain\r\n\r\nQuite another text\r\n--a\r\nContent-Type: multipart/related; boundary=r\r\n\r\n--r\r\n"
                "Content-Type: text/html; charset=iso-8859-1\r\nContent-Transfer-Encoding: 8bit\r\nContent-Location: http://x.example/p/i.html\r\n\r\n"
                "<style>p{{background:url(cid:b@x)}}</style><p style='background: url(\"cid:b@x\")'>Gr\xfc\xdfe<img src='../pics/l.png'><img src=cid:b@x>\r\n"
                "--r\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: base64\r\nContent-Location: http://x.example/pics/l.png\r\n\r\n"
                f"{picture_}\r\n--r\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: base64\r\nContent-ID: <b@x>\r\n\r\n{base64.encodebytes(png('#a8412b')).decode()}\r\n--r--\r\n--a--\r\n--o--\r\n"
            )
            .replace("{{background", "{background")
            .replace("b@x)}}", "b@x)}")
        )
        made, path = self.adopt(related.encode("latin-1"), source="m.eml", name="mail")
        rendering = TemplateFolder(path)["mail"].render({})
        self.assertEqual(rendering.subject, "Schön {{x}}")
        self.assertEqual(rendering.text, "Quite another text\n")
        self.assertIn("Grüße", html_of(rendering))
        self.assertEqual(len(rendering.pictures), 2)
        self.assertIn("Received, List-Id", " ".join(one.message for one in made.findings))
        text = b"From: a@example.org\r\nSubject: Code\r\n\r\nYour code is 4711, {{ not a mark }}.\r\n"
        made, path = self.adopt(text, source="m.eml", name="code", fields={"4711": "code"})
        self.assertEqual(
            TemplateFolder(path)["code"].render({"code": "12"}).text, "Your code is 12, {{ not a mark }}.\n"
        )

    def test_braces_of_others_are_no_marks_wherever_they_stand(self) -> None:
        for page in (
            "<p>{{ a }}</p>",
            "<p title='{{ a }}'>x</p>",
            "<p title={{a}}>x</p>",
            "<a href='https://x.example/{{a}}?b={{c}}'>x</a>",
            "<style>p::after{content:'{{ a }}'}</style><p>x</p>",
            "<p style=\"font-family:'{{a}}'\">x</p>",
            "<!-- {{ if x: }} --><p>x</p>",
            "<textarea>{{ a }}</textarea>",
            "<title>{{ a }}</title><p>x</p>",
            "<p {{ a }}>x</p>",
            "<p>{{{ a }}}</p>",
            "<img alt='{{a}}' src='https://x.example/{{a}}.png'>",
            "<!--[if mso]><p>{{ a }}</p><![endif]--><p>x</p>",
            "<p>{{</p>",
            "<xmp>{{ a }}</xmp>",
            "<style>@media print{p{color:red}}</style><p>{{# x }}</p>",
        ):
            with self.subTest(page):
                _, path = self.adopt(page.encode(), source="p.html", name="p")
                template = TemplateFolder(path)["p"]
                self.assertEqual(template.fields(), [])
                rendering = template.render({})
                if page.startswith("<p>{{"):
                    self.assertEqual(
                        rendering.text, Template.from_text(page.replace("{{", "&#123;&#123;")).render({}).text
                    )

    @generated(150)
    @given(
        st.lists(
            st.sampled_from(
                [
                    "{{",
                    "}}",
                    "<p>",
                    "</p>",
                    " title='",
                    "'",
                    "<style>",
                    "</style>",
                    "a",
                    "<!--",
                    "-->",
                    "<a href=",
                    ">",
                    "{",
                    '"',
                    "if x:",
                    "&#123;",
                    "<script>",
                    "\\",
                ]
            ),
            max_size=14,
        )
    )
    def test_no_page_brings_a_mark(self, parts: list[str]) -> None:
        path = self.folder().path
        (path / "p.html").write_text("".join(parts) or "x", encoding="utf-8")
        made = adopt(path / "p.html", into=path / "t", name="p")
        self.assertNotIn("{{", made.files[0].read_text(encoding="utf-8"))

    def test_braces_that_come_together(self) -> None:
        page = b"<p>{<script>x</script>{ if a: }} {[name]} {Ana}</p><a href='https://x.example/{Ana'>x</a>"
        _made, path = self.adopt(page, source="p.html", name="p", placeholder=r"\[(\w+)\]", fields={"Ana": "who"})
        rendering = TemplateFolder(path)["p"].render({"name": "A", "who": "B"})
        self.assertIn("{{ if a: }} {A} {B}", rendering.text)
        text = b"From: a@example.org\r\nSubject: {Ana\r\n\r\n{Ana} {{{Ana}}} \x01\x02{{ x }}\r\n"
        _, path = self.adopt(text, source="m.eml", name="t", fields={"Ana": "who"})
        rendering = TemplateFolder(path)["t"].render({"who": "B"})
        self.assertEqual((rendering.subject, rendering.text), ("{B", "{B} {{{B}}} {{ x }}\n"))

    def test_files_are_written_all_or_none(self) -> None:
        path = self.folder({"a.html": "<p>x</p>", "t/pictures": "a file in the way", "t/b.html": "mine"}).path
        (path / "pic.html").write_text(
            f"<img src='data:image/png;base64,{base64.b64encode(png()).decode()}' alt=x>", encoding="utf-8"
        )
        before = {one.name: one.read_bytes() for one in (path / "t").iterdir()}
        for source, name in (("pic.html", "new"), ("a.html", "b")):
            with self.subTest(source), self.assertRaises(OSError):
                adopt(path / source, into=path / "t", name=name)
            self.assertEqual({one.name: one.read_bytes() for one in (path / "t").iterdir()}, before)
        adopt(path / "a.html", into=path / "t", name="b", replace=True)
        self.assertEqual((path / "t/b.html").read_text(encoding="utf-8"), "<p>x</p>")
        with self.assertRaises(OSError):  # fails at its second file: the first one comes back
            (path / "b2.html").write_text((path / "pic.html").read_text(encoding="utf-8"), encoding="utf-8")
            adopt(path / "b2.html", into=path / "t", name="b", replace=True)
        self.assertEqual((path / "t/b.html").read_text(encoding="utf-8"), "<p>x</p>")

    def test_what_is_refused(self) -> None:
        for name in (
            "",
            "../x",
            "a/../b",
            "layouts/x",
            "parts/x",
            "con",
            "a b",
            "ä",
            "a/con",
            "x" * 101,
            "/a",
            "a.b",
            "-a",
        ):
            with self.subTest(name), self.assertRaises(ValueError):
                self.adopt(b"<p>x", source="p.html", name=name)
        for given_ in (
            {"placeholder": "("},
            {"placeholder": "x"},
            {"fields": {"": "a"}},
            {"fields": {"x": "a b"}},
            {"fields": {"x": ""}},
        ):
            with self.subTest(given_), self.assertRaises(ValueError):
                self.adopt(b"<p>x", source="p.html", **given_)
        with self.assertRaises(ValueError):
            self.adopt(b"<p>x and y", source="p.html", fields={"x": "a", "y": "a.b"})
        for files, says in (
            ({"a.html": "1", "b.html": "2"}, "several pages"),
            ({"a.txt": "x"}, "no page"),
            ({"__MACOSX/a.html": "x"}, "no page"),
        ):
            with self.subTest(says), self.assertRaisesRegex(DataError, says):
                self.adopt(files)
        for source in ("nothing.zip", "m.eml"):
            with self.assertRaises(DataError):
                adopt(self.folder({"m.eml": "Subject: x\r\n\r\n"}).path / source, name="x")

    def test_what_is_no_page(self) -> None:
        for raw, says in (
            (b"", "is empty"),
            (b" \r\n", "is empty"),
            (b"%PDF-1.7\n\x00\x01", "is no page"),
            (b"\x1f\x8b\x08\x00<p>", "is no page"),
        ):
            with self.subTest(raw), self.assertRaisesRegex(DataError, says):
                self.adopt(raw, source="p.html", name="p")

    def test_a_slash_starts_from_the_folder_that_all_lie_in(self) -> None:
        page = "<img src='/Img/I.PNG?v=2' alt=x>"
        made, _path = self.adopt({"Out/a/Page.HTM": page, "Out/img/i.png": png(), ".DS_Store": b"x"}, name="p")
        self.assertEqual(made.files[0].read_text(encoding="utf-8"), '<img src="pictures/p-i.png" alt=x>')
        self.assertEqual(made.files[1].read_bytes(), png())

    def test_a_text_that_flows_and_parts_that_are_no_pages(self) -> None:
        inner = "From: b@example.org\r\nContent-Type: text/html\r\n\r\n<p>inner\r\n"
        text = "Dear Ana, this line \r\nflows on.\r\n> as \r\n> this\r\n>> not\r\n-- \r\n{{ Ana }}\r\n"
        raw = (
            "From: a@example.org\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n"
            f"--b\r\nContent-Type: text/plain; format=flowed\r\n\r\n{text}\r\n"
            f"--b\r\nContent-Type: message/rfc822\r\n\r\n{inner}--b--\r\n"
        )
        made, path = self.adopt(raw.encode(), source="m.eml", name="m", fields={"Ana": "who"})
        self.assertIn("message/rfc822", " ".join(one.message for one in made.findings if one.rule == "adopt.files"))
        said = TemplateFolder(path)["m"].render({"who": "B"}).text
        self.assertEqual(said, "Dear B, this line flows on.\n> as this\n>> not\n-- \n{{ B }}\n")

    def test_what_a_page_says_its_addresses_start_from(self) -> None:
        files: dict[str, str | bytes] = {
            "a/p.html": "<base href='img/'><img src=x.png alt=x><a href='#top'>t</a>",
            "a/img/x.png": png(),
            "y.png": png("#123456"),
        }
        made, _ = self.adopt(files)
        self.assertEqual([one.name for one in made.files], ["spring.html", "spring-x.png"])
        page = "<base href='https://skerrow.example/shop/'><img src=/y.png alt=y width=9 height=9><a href=cart>c</a><p style='background:url(/y.png)'>"
        made, _ = self.adopt({**files, "a/p.html": page})
        source = made.files[0].read_text(encoding="utf-8")
        self.assertIn('href="https://skerrow.example/shop/cart"', source)
        self.assertIn('src="https://skerrow.example/y.png"', source)
        self.assertIn("url(https://skerrow.example/y.png)", source)
        made, _ = self.adopt({**files, "a/p.html": "<img src=/y.png alt=y><img src=..\\y.png alt=z>"})
        self.assertEqual([one.name for one in made.files], ["spring.html", "spring-y.png"])

    def test_a_template_in_a_folder_has_its_files_beside_it(self) -> None:
        made, path = self.adopt(EXPORT, name="mail/spring", page="index.html")
        self.assertEqual(
            {one.parent.relative_to(path).as_posix() for one in made.files}, {"mail", "mail/pictures", "mail/styles"}
        )
        self.assertEqual(len(TemplateFolder(path)["mail/spring"].render({}).pictures), 2)

    def test_sheets_that_import_each_other(self) -> None:
        imports = "".join('@import "b.css"; @import "a.css";\n' for _ in range(200))
        made, path = self.adopt(
            {
                "p.html": "<link rel=stylesheet href=a.css><p>x",
                "a.css": imports + "p{color:red}",
                "b.css": imports + "p{margin:1px}",
            }
        )
        self.assertEqual(len(made.files), 3)
        self.assertIn("color:", html_of(TemplateFolder(path)["spring"].render({})))

    def test_words_at_their_bounds_longest_first(self) -> None:
        page = b"<p>Ann, Anna, Ann Lee, annual Ann's <b>Ann</b>&nbsp;Lee Ann\n  Lee</p><p title='Ann'>x</p>"
        made, _path = self.adopt(page, source="p.html", name="p", fields={"Ann": "first", "Ann Lee": "whole"})
        source = made.files[0].read_text(encoding="utf-8")
        self.assertEqual(
            source,
            '<p>{{ first }}, Anna, {{ whole }}, annual {{ first }}\'s <b>{{ first }}</b>&nbsp;Lee {{ whole }}</p><p title="{{ first }}">x</p>',
        )

    def test_a_title_has_marks_too_and_makes_the_subject(self) -> None:
        page = b"<title>Tide &amp; [First name]</title><p>Dear [First name]</p>"
        made, path = self.adopt(page, source="p.html", name="p", placeholder=r"\[([^\]]+)\]")
        self.assertEqual([(one.path, one.places) for one in made.fields], [("first_name", 2)])
        subject = TemplateFolder(path)["p"].render({"first_name": "Ida <Rae>"}).subject
        self.assertEqual(subject, "Tide & Ida <Rae>")


class Archives(Case):
    """Archives that lead out, are no files, or are larger than they seem."""

    def refused(self, raw: bytes, says: str) -> None:
        path = self.folder().path
        (path / "x.zip").write_bytes(raw)
        with self.assertRaisesRegex(DataError, says):
            adopt(path / "x.zip", into=path / "t", name="x")
        self.assertFalse((path / "t").exists(), "nothing is written")

    def entry(self, name: str, content: bytes = b"x", mode: int = 0, **more: Any) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("index.html", "<p>x")
            info = zipfile.ZipInfo(name)
            info.external_attr = mode << 16
            for key, value in more.items():
                setattr(info, key, value)
            archive.writestr(info, content)
        return out.getvalue()

    def test_what_leads_out_or_is_no_file(self) -> None:
        for name in ("../x", "a/../../x", "/etc/x", "C:/x", "C:\\x", "..\\x", "a\\..\\..\\x", "\\x", "a/..", "x\n"):
            with self.subTest(name):
                self.refused(self.entry(name), "leads out")
        for mode in (stat.S_IFLNK, stat.S_IFCHR, stat.S_IFBLK, stat.S_IFIFO, stat.S_IFSOCK):
            self.refused(self.entry("pic.png", b"/etc/passwd", mode | 0o777), "a link or a device")
        self.refused(self.entry("INDEX.html"), "twice")

    def test_what_is_encrypted_damaged_or_no_archive(self) -> None:
        raw = bytearray(zipped({"index.html": "<p>x" * 50}))
        for at in (raw.find(b"PK\x01\x02") + 8, raw.find(b"PK\x03\x04") + 6):
            raw[at] |= 1
        self.refused(bytes(raw), "encrypted")
        sound = zipped({"index.html": "<p>x" * 500, "a.png": png()})
        for broken in (b"", b"PK\x03\x04", sound[: len(sound) // 2], b"no zip", sound[:40] + b"\x00" * 30 + sound[70:]):
            with self.subTest(len(broken)):
                self.refused(broken, "no sound archive")

    def test_what_is_enormous(self) -> None:
        self.refused(zipped({f"{n}.html": "" for n in range(2001)}), "2,001 entries")
        self.refused(zipped({"index.html": "<p>x", "a.bin": b"\0" * 30_000_000}), "unpacks to more than")
        # What an archive says of its sizes counts for nothing.
        raw = bytearray(zipped({"index.html": "<p>x", "a.bin": b"\0" * 5_000_000}))
        central = raw.rfind(b"PK\x01\x02")
        raw[central + 24 : central + 28] = (10).to_bytes(4, "little")
        self.refused(bytes(raw), "sound archive|unpacks")

    def test_entries_that_overlap(self) -> None:
        raw = bytearray(zipped({"index.html": "<p>x", "a.txt": b"y" * 100}))
        first, second = raw.find(b"PK\x01\x02"), raw.rfind(b"PK\x01\x02")
        raw[second + 42 : second + 46] = raw[first + 42 : first + 46]
        self.refused(bytes(raw), "overlap|sound archive")

    @generated(200)
    @given(st.binary(max_size=40), st.integers(0, 400), st.integers(0, 255))
    def test_any_bytes_are_refused_or_read(self, tail: bytes, at: int, octet: int) -> None:
        raw = bytearray(zipped({"index.html": "<p>x", "img/a.png": png(size=(2, 2))}) + tail)
        raw[min(at, len(raw) - 1)] = octet
        try:
            files = archives.read_archive(bytes(raw), "x.zip")
        except PribbleError:
            return
        self.assertLessEqual(sum(map(len, files.values())), 200 * len(raw))


@needs_chromium
class Looks(Case):
    """To the eye the template is the page: what each element looks like, where it stands, and the pixels."""

    _SEEN = """return [...document.body.querySelectorAll('*')].filter((one) => !one.closest('script, style, title') && !one.localName.includes(':')).map((one) => {
      const s = getComputedStyle(one), r = one.getBoundingClientRect();
      return [one.localName, s.color, s.backgroundColor, s.fontSize, s.fontWeight, s.fontFamily, s.display,
        Math.round(r.left), Math.round(r.top), Math.round(r.width), Math.round(r.height)] })
      .filter((one) => one[9] > 1 && one[10] > 1)"""

    def check(self, folder: Path, shown: str, source: str, **given: Any) -> None:
        window = browser()
        window.become(width=800)
        window.load(
            (folder / shown)
            .read_bytes()
            .decode(given.pop("charset", "utf-8"))
            .replace('<script src="js/menu.js"></script>', "")
            .replace("charset=windows-1252", "charset=utf-8"),
            folder / shown,
        )
        window.evaluate("return [...document.images].map((one) => one.complete)")
        before, drawn = window.evaluate(self._SEEN), self.drawn()
        adopt(folder / source, into=folder / "t", name="same", **given)
        template = TemplateFolder(folder / "t", put_right=())["same"]
        html = html_of(template.render(template.samples.get("", {}), embed="data"))
        window.load(html, folder / "made.html")
        after, redrawn = window.evaluate(self._SEEN), self.drawn()
        self.assertEqual(before, after)
        share = ImageChops.difference(drawn, redrawn).convert("L").point(lambda value: 255 if value > 24 else 0)
        self.assertLess(sum(share.histogram()[255:]) / (drawn.width * drawn.height), 0.002)

    def drawn(self) -> Image.Image:
        raw = browser().call("Page.captureScreenshot", format="png")["data"]
        return Image.open(io.BytesIO(base64.b64decode(raw))).convert("RGB")

    def test_an_export(self) -> None:
        folder = self.folder(
            {
                name.removeprefix("Spring Tide/"): content
                for name, content in EXPORT.items()
                if name.startswith("Spring")
            }
        ).path
        (folder / "x.zip").write_bytes(zipped(EXPORT))
        self.check(folder, "index.html", "x.zip", page="index.html", fields={"Ana Bell": "name", "B 14": "berth"})

    def test_a_word_processor_s_page(self) -> None:
        for tidy in (False, True):
            folder = self.folder({"letter_files/image001.png": png(), "letter.htm": LETTER.encode("windows-1252")}).path
            with self.subTest(tidy=tidy):
                (folder / "source.htm").write_bytes(LETTER.encode("windows-1252"))
                self.check(folder, "letter.htm", "source.htm", charset="windows-1252", tidy=tidy)

    def test_messages(self) -> None:
        templates = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        for name in ("berth-confirmed", "mooring-statement", "gale-warning"):
            rendering = templates[name].render(templates[name].samples[""])
            raw = bytes(rendering.message(sender="a@example.org", to="b@example.org"))
            inside = templates[name].render(templates[name].samples[""], embed="data").html
            folder = self.folder({"m.eml": raw, "page.html": str(inside)}).path
            with self.subTest(name):
                self.check(folder, "page.html", "m.eml")


class Commands(Case):
    def test_what_is_said(self) -> None:
        path = self.folder({"x.zip": zipped(EXPORT)}).path
        call = [
            "adopt",
            "x.zip",
            "--into",
            "t",
            "--name",
            "spring",
            "--page",
            "index.html",
            "--field",
            "Ana Bell=skipper.name",
        ]
        done = pribble(*call, cwd=path)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("{{ skipper.name }}  4 places  “Ana Bell”", done.stdout)
        self.assertIn("look at it: pribble preview spring --templates t", done.stdout)
        again = pribble(*call, cwd=path)
        self.assertEqual(
            (again.returncode, again.stderr), (2, "t/spring.html: is there already (--replace writes over it)\n")
        )
        said = json.loads(pribble(*call, "--replace", "--json", cwd=path).stdout)
        self.assertEqual(said["fields"], [{"path": "skipper.name", "text": "Ana Bell", "places": 4}])
        for wrong, code, says in (
            (["adopt", "x.zip", "--into", "t", "--name", "s"], 1, "several pages"),
            (["adopt", "no.zip", "--name", "s"], 1, "there is no file no.zip"),
            (["adopt", "x.zip", "--name", "../s"], 2, "no name for a template"),
            (["adopt", "x.zip", "--name", "s", "--field", "Ana"], 2, "TEXT=PATH"),
            (["adopt", "x.zip", "--name", "s", "--placeholder", "("], 2, "no regular expression"),
        ):
            with self.subTest(wrong):
                done = pribble(*wrong, cwd=path)
                self.assertEqual(
                    (done.returncode, says in done.stderr, done.stderr.count("Traceback")), (code, True, 0), done.stderr
                )


if __name__ == "__main__":
    unittest.main()
