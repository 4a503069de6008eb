"""Pictures: read back by Pillow, seen by Chromium, put right and found only where they may be."""

from __future__ import annotations

import io
import re
import struct
import sys
import unittest
import zlib
from datetime import date
from email import message_from_bytes, policy
from typing import Any
from unittest import mock

from PIL import Image, ImageCms

from pribble import (
    Attachment,
    Message,
    MissingExtra,
    Picture,
    PictureError,
    Template,
    TemplateFolder,
    UnsafeValue,
    audit,
)
from pribble.demo import TEMPLATES, charted
from pribble.demo.charts import statement_pdf, usage_chart
from pribble.markup.srcset_reader import candidates
from pribble.mime.media_types import MEDIA_TYPES, type_of
from pribble.pictures.corrections import ALL, correct
from tests.chromium import PAINTED, browser
from tests.support import Case, html_of, needs_chromium, slow


def made(image: Image.Image, kind: str, **options: Any) -> bytes:
    out = io.BytesIO()
    image.save(out, kind, **options)
    return out.getvalue()


def photograph(width: int = 64, height: int = 48) -> Image.Image:
    """What has many colours: a gradient, so that turning it shows."""
    across, down = (
        Image.linear_gradient("L").resize((width, height)),
        Image.radial_gradient("L").resize((width, height)),
    )
    return Image.merge("RGB", (across, down, across.transpose(Image.Transpose.ROTATE_180)))


def decoded(picture: Picture) -> Image.Image:
    image = Image.open(io.BytesIO(picture.content))
    image.load()
    return image


def camera(orientation: int) -> Image.Exif:
    exif = Image.Exif()
    exif[0x0112], exif[0x010F] = orientation, "A camera"
    return exif


class Righting(Case):
    def travelling(self, content: bytes, **settings: Any) -> tuple[Picture, list[str]]:
        """The picture as it travels, and the rules of what was put right."""
        rendering = self.folder({"t.html": '<img src="{{ p }}" alt="">'}, **settings)["t"].render({"p": content})
        return rendering.pictures[0], [change.rule for change in rendering.findings]

    def test_what_receivers_do_not_show_becomes_what_they_do(self) -> None:
        photo, few = photograph(), Image.new("RGB", (40, 30), "teal")
        half = Image.new("RGBA", (40, 30), (20, 54, 79, 128))
        cases: list[tuple[bytes, str, str]] = [
            (made(photo, "BMP"), "image/jpeg", "picture.format"),
            (made(few, "BMP"), "image/png", "picture.format"),
            (made(photo, "TIFF"), "image/jpeg", "picture.format"),
            (made(half, "TIFF"), "image/png", "picture.format"),
            (made(photo, "WEBP"), "image/jpeg", "picture.format"),
            (made(half, "WEBP", lossless=True), "image/png", "picture.format"),
            (made(photo, "AVIF"), "image/jpeg", "picture.format"),
            (made(photo, "ICO"), "image/png", "picture.format"),
            (made(photo.convert("CMYK"), "JPEG"), "image/jpeg", "picture.colour"),
            (made(Image.new("I;16", (40, 30), 40_000), "PNG"), "image/png", "picture.colour"),
        ]
        for content, kind, rule in cases:
            picture, rules = self.travelling(content)
            with self.subTest(kind=kind, was=Picture.from_bytes(content).type):
                before, after = Image.open(io.BytesIO(content)), decoded(picture)
                self.assertEqual((picture.type, rules[0]), (kind, rule))
                self.assertEqual(after.size, before.size)
                self.assertIn(after.mode, ("RGB", "RGBA", "P", "L"))
                self.assertEqual((picture.width, picture.height), after.size)
        grey, _ = self.travelling(cases[-1][0])
        self.assertEqual(decoded(grey).convert("L").getpixel((3, 3)), 40_000 * 255 // 65535)
        clear, _ = self.travelling(cases[3][0])
        self.assertEqual(decoded(clear).convert("RGBA").getpixel((3, 3)), (20, 54, 79, 128))

    def test_each_orientation_is_turned_upright_and_metadata_go(self) -> None:
        photo = photograph()
        for orientation in range(1, 9):
            content = made(photo, "JPEG", quality=95, exif=camera(orientation), comment=b"where it was taken")
            picture, rules = self.travelling(content)
            after = decoded(picture)
            with self.subTest(orientation=orientation):
                self.assertNotIn(b"A camera", picture.content)
                self.assertNotIn(b"where it was", picture.content)
                self.assertEqual(dict(after.getexif()), {})
                self.assertEqual(after.size, (64, 48) if orientation < 5 else (48, 64))
                from PIL import ImageOps

                upright = ImageOps.exif_transpose(Image.open(io.BytesIO(content))).convert("RGB").resize((8, 8))
                near = zip(upright.tobytes(), after.convert("RGB").resize((8, 8)).tobytes(), strict=True)
                self.assertLess(max(abs(a - b) for a, b in near), 12)
                self.assertEqual(rules[0], "picture.metadata" if orientation == 1 else "picture.orientation")
        as_is, _ = self.travelling(made(photo, "JPEG", exif=camera(1)))
        self.assertEqual(decoded(as_is).tobytes(), Image.open(io.BytesIO(made(photo, "JPEG"))).tobytes())

    def test_profiles_become_srgb(self) -> None:
        lab = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
        _, rules = self.travelling(made(photograph(), "JPEG", icc_profile=lab))
        self.assertNotIn("picture.colour", rules)
        wide = lab.replace(b"sRGB", b"WIDE").replace("sRGB".encode("utf-16-be"), "WIDE".encode("utf-16-be"))
        picture, rules = self.travelling(made(photograph(), "PNG", icc_profile=wide))
        self.assertEqual(rules[0], "picture.colour")
        self.assertNotIn("icc_profile", decoded(picture).info)

    def test_animations(self) -> None:
        frames = [Image.new("RGB", (20, 10), colour) for colour in ("red", "blue")]
        gif = made(frames[0], "GIF", save_all=True, append_images=frames[1:])
        picture, rules = self.travelling(gif)
        self.assertEqual((picture.content, rules), (gif, ["picture.size"]))
        moving, rules = self.travelling(made(frames[0], "WEBP", save_all=True, append_images=frames[1:], lossless=True))
        self.assertEqual(decoded(moving).convert("RGB").getpixel((0, 0)), (255, 0, 0))
        self.assertEqual(rules, ["picture.format", "picture.format", "picture.size"])

    def test_what_is_switched_off_is_left(self) -> None:
        content = made(photograph(), "JPEG", exif=camera(6))
        for off in ("orientation", "metadata", "format", "colour"):
            picture, rules = self.travelling(content, put_right=ALL - {off})
            with self.subTest(off):
                self.assertNotIn(f"picture.{off}", rules)
                self.assertEqual(picture.height == 64, off != "orientation")
        picture, rules = self.travelling(made(photograph(), "BMP"), put_right=())
        self.assertEqual((picture.type, rules), ("image/bmp", []))
        with self.assertRaisesRegex(ValueError, 'not "colors"'):
            self.folder({}, put_right={"colors"})

    def test_what_is_put_right_is_told_once(self) -> None:
        page = '<img src="a.bmp" alt=""><img src="a.bmp" alt="">'
        rendering = self.folder({"t.html": page, "a.bmp": made(photograph(), "BMP")})["t"].render({})
        told = [change.rule for change in rendering.findings]
        self.assertEqual(told, ["picture.format", "picture.size", "picture.size"])

    def test_more_pixels_than_are_shown_are_resampled_once(self) -> None:
        large = made(photograph(1600, 1200), "JPEG", quality=95)
        page = '<img src="a.jpg" width="200" alt=""><img src="a.jpg" width="300" alt=""><img src="b.jpg" alt="">'
        files: dict[str, str | bytes] = {"t.html": page, "a.jpg": large, "b.jpg": made(photograph(), "JPEG")}
        rendering = self.folder(files)["t"].render({})
        self.assertEqual([(p.width, p.height) for p in rendering.pictures], [(600, 450), (64, 48)])
        self.assertIn('width="200" alt=""', html_of(rendering))
        self.assertEqual([c.rule for c in rendering.findings].count("picture.resample"), 1)
        for density, width in ((1, 300), (3, 900)):
            self.assertEqual(self.folder(files, density=density)["t"].render({}).pictures[0].width, width)
        chosen = self.folder({**files, "t.html": '<img src="{{ p }}" style="width:100px" alt="">'})
        self.assertEqual(chosen["t"].render({"p": "a.jpg"}).pictures[0].width, 200)

    def test_sizes_by_the_cascade(self) -> None:
        cases = [
            ("", "", 'width="64" height="48"'),
            ("img { width: 32px }", "", 'width="32" height="24"'),
            ("img { height: 12px }", "", 'width="16" height="12"'),
            ("img { width: 100% }", "", 'width="64"'),
            ("img { max-width: 100% }", "", 'width="64"'),
            ("img { max-width: 100%; height: auto }", "", 'width="64" height="48"'),
            ("@media (max-width: 9px) { img { width: 100% } }", 'width="32"', ""),
            ("@media (max-width: 9px) { img { width: 100%; height: auto } }", 'width="32"', 'height="24"'),
            ("", 'width="50%"', ""),
            ("", 'width="32" height="5"', ""),
        ]
        for css, written, added in cases:
            page = f'<style>{css}</style><img src="a.png" {written}>'
            for source in ("a.png", "{{ p }}"):
                folder = self.folder({"t.html": page.replace("a.png", source), "a.png": made(photograph(), "PNG")})
                html = html_of(folder["t"].render({"p": "a.png"}))
                found = re.search(r"<img[^>]*>", html)
                assert found
                sizes = re.findall(r'(?:width|height)="[^"]*"', re.sub(r'style="[^"]*"', "", found[0]))
                with self.subTest(css=css, written=written, source=source):
                    self.assertEqual(sorted(sizes), sorted(re.findall(r'\S+="[^"]*"', f"{written} {added}")))


class Vectors(Case):
    def test_what_stands_before_the_root(self) -> None:
        root = b'<svg xmlns="http://www.w3.org/2000/svg" width="30" height="20px" viewBox="0 0 3 2"/>'
        for before in (
            b"",
            b"\xef\xbb\xbf \n",
            b'<?xml version="1.0"?>\n',
            b"<!-- a > b --><!DOCTYPE svg>\n<!---->",
            b"<!---->" * 500,
            b'<?xml version="1.0"?><?xml-stylesheet href="a"?><!--\n-->',
        ):
            with self.subTest(before[:40]):
                picture = Picture.from_bytes(before + root)
                self.assertEqual((picture.type, picture.width, picture.height), ("image/svg+xml", 30, 20))
        for other in (b"<!-- <svg > ", b"<svgx>", b"<!--" * 900, b"x" + root, b"<!---->" * 2_000 + root, b"<svg"):
            with self.subTest(other[:20]), self.assertRaises(PictureError):
                Picture.from_bytes(other)
        for size, wanted in (
            (b'viewBox="0 0 60,40"', (60, 40)),
            (b'width="1e9"', (300, 150)),
            (b"width='9'", (9, 150)),
        ):
            picture = Picture.from_bytes(b"<svg " + size + b">")
            self.assertEqual((picture.width, picture.height), wanted)


class Refused(Case):
    def test_no_picture(self) -> None:
        png = made(photograph(), "PNG")
        huge = b"\x89PNG\r\n\x1a\n" + b"".join(
            struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))
            for kind, body in (
                (b"IHDR", struct.pack(">IIBBBBB", 30_000, 30_000, 8, 2, 0, 0, 0)),
                (b"IDAT", zlib.compress(b"\0" * 100)),
                (b"IEND", b""),
            )
        )
        cases: list[tuple[bytes, str]] = [
            (png[: len(png) // 2], 'the picture "a.png" is damaged'),
            (made(photograph(), "JPEG")[:-300], 'the picture "a.png" is damaged'),
            (b"hello", 'the picture "a.png" is no picture, whatever its name says'),
            (b"", 'the picture "a.png" is no picture'),
            (huge, 'the picture "a.png" '),
        ]
        for content, says in cases:
            with self.subTest(says), self.assertRaises(PictureError) as caught:
                self.folder({"t.html": '<p>\n<img src="a.png">', "a.png": content})["t"]
            self.assertIn("t.html:2:11: " + says, str(caught.exception))
            self.assertIn("^^^^^", str(caught.exception))

    def test_never_out_of_the_folders(self) -> None:
        secret = self.folder({"x.png": made(photograph(), "PNG")}).path
        folder = self.folder({"t.html": '<img src="{{ p }}">', "in/a.png": made(photograph(), "PNG")})
        (folder.path / "link.png").symlink_to(secret / "x.png")
        (folder.path / "linked").symlink_to(secret)
        for name in ("link.png", "linked/x.png"):
            with self.subTest(name), self.assertRaisesRegex(PictureError, "outside the template folder"):
                folder["t"].render({"p": name})
        for name in ("../x.png", f"{secret}/x.png", "in/../in/a.png", "file:x.png", "in\\a.png", "a\0b"):
            with self.subTest(name), self.assertRaises((UnsafeValue, PictureError)):
                folder["t"].render({"p": name})
        allowed = TemplateFolder(folder.path, picture_folders=[secret])
        self.assertEqual(len(allowed["t"].render({"p": "x.png"}).pictures), 1)

    def test_no_matplotlib(self) -> None:
        with mock.patch.dict(sys.modules, {"matplotlib": None, "matplotlib.figure": None}):
            for call in (lambda: Picture.from_figure(object()), lambda: usage_chart([1], date(2026, 6, 1))):
                with self.assertRaises(MissingExtra) as caught:
                    call()
                self.assertIn("pip install 'pribble[charts]'", str(caught.exception))
            sample = TemplateFolder(TEMPLATES)["mooring-statement"].samples[""]
            self.assertEqual(charted(sample), (sample, []))
        with self.assertRaisesRegex(TypeError, "figure is a Matplotlib figure, not int"):
            Picture.from_figure(3)


class MediaTypes(unittest.TestCase):
    """Each row of the table of media types, by what Pillow writes: a new row needs no case of its own."""

    def test_every_kind_of_picture(self) -> None:
        for row in (one for one in MEDIA_TYPES if one.decoders):
            with self.subTest(row.title):
                content = made(Image.new("RGB", (32, 32), "#14364f"), row.decoders[0])
                picture = Picture.from_bytes(content)
                self.assertEqual((picture.type, picture.width, picture.height), (row.name, 32, 32))
                self.assertTrue(picture.file_name.endswith(row.ending), picture.file_name)
                corrected, changes = correct(picture, ALL)
                self.assertEqual((corrected.type == row.name, not changes), (row.shown, row.shown))
                self.assertIs(type_of(content), row)

    def test_a_signature_is_held_against_each_type(self) -> None:
        contents = {one: made(Image.new("RGB", (32, 24)), one.decoders[0]) for one in MEDIA_TYPES if one.decoders}
        for row, content in contents.items():
            for declared in contents:
                attachment = Attachment(f"a{declared.ending}", content, declared.name)
                message = Message(sender="a@example.org", text="x", attachments=[attachment])
                found = [f.message for f in audit(bytes(message)) if f.rule == "types.content"]
                with self.subTest(row.title, declared=declared.title):
                    self.assertEqual(bool(found), row is not declared, found)


class Travelling(Case):
    PAGE = (
        "<style>.a { background: url(a.png) } .b:hover { background: url('a.png') }</style>"
        '<p class="a">x</p><img src="a.png"><img src="a.png" data-travel="data" alt=""><table background="a.png"></table>'
        '<!--[if mso]><v:fill src="a.png"/><![endif]--><b style="background:url(&quot;a.png&quot;)">y</b>'
    )

    def test_every_place_and_every_way(self) -> None:
        folder = self.folder(
            {"t.html": self.PAGE, "a.png": made(photograph(), "PNG")}, picture_base="https://x.example/m/"
        )
        source = folder["t"].render({}).pictures[0]
        ways = {
            "cid": f"cid:{source.content_id('pribble.invalid')}",
            "data": source.data_url,
            "link": "https://x.example/m/a.png",
            "none": "a.png",
        }
        for embed, address in ways.items():
            rendering = folder["t"].render({}, embed=embed)  # type: ignore[arg-type]
            with self.subTest(embed):
                self.assertEqual(html_of(rendering).count(address), 6 if embed != "data" else 7)
                self.assertEqual(html_of(rendering).count(source.data_url), 7 if embed == "data" else 1)
                self.assertNotIn("data-travel", html_of(rendering))
                self.assertEqual(len(rendering.pictures), int(embed == "cid"))
        with self.assertRaisesRegex(ValueError, "need the address they lie below"):
            str(self.folder({"t.html": self.PAGE, "a.png": source.content})["t"].render({}, embed="link").html)
        with self.assertRaisesRegex(ValueError, "begins with https://"):
            self.folder({}, picture_base="m/")

    def test_the_candidates_of_a_srcset(self) -> None:
        for written, wanted in (
            ("a.png 2x, b.png 3x", [("a.png", "2x"), ("b.png", "3x")]),
            (" , a.png,b.png 2x ,c.png", [("a.png,b.png", "2x"), ("c.png", "1x")]),
            ("a.png, b.png", [("a.png", "1x"), ("b.png", "1x")]),
            ("a.png 2y, b.png 640w", [("b.png", "640w")]),
            (" \t\n,, ", []),
        ):
            with self.subTest(written):
                self.assertEqual(list(candidates(written)), wanted)

    def test_a_srcset(self) -> None:
        page = '<img src="1.png" srcset="2.png 2x, 3.png 3x" alt="">'
        files: dict[str, str | bytes] = {f"{n}.png": made(photograph(n * 20, n * 15), "PNG") for n in (1, 2, 3)}
        folder = self.folder({"t.html": page, **files})
        by_cid = folder["t"].render({})
        self.assertNotIn("srcset", html_of(by_cid))
        self.assertEqual([p.name for p in by_cid.pictures], ["2.png"])
        inside = html_of(folder["t"].render({}, embed="data"))
        self.assertEqual(len(re.findall(r'srcset="data:\S+ 2x, data:\S+ 3x"', inside)), 1)
        wide = self.folder({"t.html": page, **files}, density=3)["t"].render({})
        self.assertEqual([p.name for p in wide.pictures], ["3.png"])

    def test_wrong_ways(self) -> None:
        picture = {"a.png": made(photograph(), "PNG")}
        self.assertIn('"inlin" is no way', self.complaint('<img src="a.png" data-travel="inlin">', files=picture))
        self.assertIn("a mark in data-travel", self.complaint('<img src="a.png" data-travel="{{ x }}">', files=picture))

    def test_what_linked_pictures_lie_below(self) -> None:
        files: dict[str, str | bytes] = {"t.html": '<img src="a.png" alt="">', "a.png": made(photograph(), "PNG")}
        for base, shown in [
            ("https://x.example/m/", "https://x.example/m/a.png"),
            ("https://x.example:8080", "https://x.example:8080/a.png"),
            ('https://x.example/" onerror="x', "https://x.example/%22%20onerror=%22x/a.png"),
            ("https://x.example/ä b", "https://x.example/%C3%A4%20b/a.png"),
        ]:
            page = str(self.folder(files, picture_base=base, embed="link")["t"].render({}).html)
            self.assertIn(f'src="{shown}"', page)
        for wrong in ("m/", "//x.example/", "ftp://x.example/", "javascript:x", "https://x.example/\r\nX", "https://x.example/?a",
                      "https://x.example/a)b", "https://x.example/a'b", "https://x.example/a,b", "https://x.example/a&b"):  # fmt: skip
            with self.subTest(wrong), self.assertRaisesRegex(ValueError, "picture_base"):
                self.folder(files, picture_base=wrong)

    def test_what_the_data_give(self) -> None:
        from matplotlib.figure import Figure

        figure = Figure((5, 3))
        figure.subplots().plot([1, 3, 2])
        template = self.folder({"t.html": '<img src="{{ p }}" alt="">', "in/a.png": made(photograph(), "PNG")})["t"]
        self.assertEqual([(field.path, field.kind) for field in template.fields()], [("p", "picture")])
        png = made(photograph(), "PNG")
        for value, shown in (
            ("in/a.png", "64"),
            (png, "64"),
            (Picture.from_bytes(png).scaled(0.75), "48"),
            (figure, "480"),
        ):
            rendering = template.render({"p": value})
            with self.subTest(type(value)):
                self.assertIn(f'width="{shown}"', html_of(rendering))
                self.assertEqual(len(rendering.pictures), 1)
        self.assertEqual(template.render({"p": figure}).pictures[0].width, 960)

    def test_a_cid_from_data_names_a_picture_of_the_message(self) -> None:
        picture = Picture.from_bytes(made(photograph(), "PNG"), "a.png")
        address = f"cid:{picture.content_id('pribble.invalid')}"
        rendering = Template.from_text('<img src="{{ p }}" alt="">').render({"p": address})
        with self.assertRaisesRegex(PictureError, "names no picture of the message"):
            rendering.message(sender="a@x.example", to="b@x.example")
        raw = bytes(rendering.message(sender="a@x.example", to="b@x.example", pictures=[picture]))
        parts = [part for part in message_from_bytes(raw, policy=policy.default).walk() if part["Content-ID"]]
        self.assertEqual([part["Content-ID"] for part in parts], [f"<{address[4:]}>"])

    def test_work_is_done_once(self) -> None:
        files: dict[str, str | bytes] = {
            "t.html": '<img src="a.bmp" alt=""><img src="{{ p }}" alt="">',
            "a.bmp": made(photograph(), "BMP"),
            "b.tif": made(photograph(30, 20), "TIFF"),
        }
        template = self.folder(files)["t"]
        first = template.render({"p": "b.tif"})
        bodies = [picture.base64_body for picture in first.pictures]
        with mock.patch("pribble.pictures.decoding.open_image", side_effect=AssertionError("decoded again")):
            for _ in range(50):
                again = template.render({"p": "b.tif"})
                self.assertTrue(all(a.base64_body is b for a, b in zip(again.pictures, bodies, strict=True)))
                self.assertEqual(again.html, first.html)

    def test_fetching_only_by_a_fetcher(self) -> None:
        asked: list[str] = []

        def fetch(address: str) -> bytes:
            asked.append(address)
            return made(photograph(), "PNG")

        page = {"t.html": '<img src="https://x.example/a.png" alt=""><img src="{{ p }}" alt="">'}
        data = {"p": "https://x.example/b.png"}
        self.assertEqual(self.folder(page)["t"].render(data).pictures, ())
        self.assertEqual(len(self.folder(page, fetch=fetch)["t"].render(data).pictures), 1)
        self.assertEqual(asked, ["https://x.example/a.png", "https://x.example/b.png"])

    def test_others_made_of_a_picture(self) -> None:
        picture = Picture.from_bytes(made(Image.new("RGBA", (40, 30), (255, 255, 255, 0)), "PNG"), "logo.png")
        self.assertEqual((picture.scaled(0.75).width, picture.scaled(0.75).height), (30, 22))
        self.assertEqual(decoded(picture.resized(width=20)).size, (20, 15))
        self.assertEqual(decoded(picture.on("#14364f")).convert("RGB").getpixel((5, 5)), (20, 54, 79))
        self.assertNotEqual(picture.on("#14364f"), picture)
        for wrong in (lambda: picture.scaled(0), lambda: picture.resized(width=0), lambda: picture.on("nonsense")):
            self.assertRaises(ValueError, wrong)
        with self.assertRaisesRegex(PictureError, "SVG"):
            Picture.from_bytes(b'<svg xmlns="x" width="3"/>').scaled(2)
        with self.assertRaisesRegex(PictureError, "pixels"):  # and not a width that nobody gave
            Picture.from_bytes(b'<svg xmlns="x" width="1000000" height="1"/>').scaled(72)

    def test_a_fragment(self) -> None:
        page = (
            "<!DOCTYPE html><html><head><title>T</title><style>p { color: red } p:hover { color: blue }</style></head>"
            '<body style="margin:0"><p>x</p><img src="a.png" alt=""></body></html>\n'
        )
        late = page.replace("<p>x</p>", "{{ for i in [1]: }}<p>x</p>{{ :for }}")
        for text in (page, late.replace("p:hover", "p:first-child { top: 0 } p:hover")):
            folder = self.folder({"t.html": text, "a.png": made(photograph(), "PNG")})
            fragment = folder["t"].render({}).fragment() or ""
            self.assertRegex(
                fragment, r'^<style>.*p:hover \{ color: blue !important \}</style><div style="margin:0"><p style'
            )
            self.assertRegex(fragment, r'src="data:[^"]*" width="64" height="48" alt="">\s*</div>\n$')
            self.assertNotRegex(fragment, "<(html|head|title|body)")
            self.assertIn("cid:", folder["t"].render({}).fragment(embed="cid") or "")

    @slow
    def test_the_statement_as_a_pdf(self) -> None:
        sample = TemplateFolder(TEMPLATES)["mooring-statement"].samples[""]
        pdf = statement_pdf(sample)
        self.assertEqual((pdf[:5], pdf), (b"%PDF-", statement_pdf(sample)))
        self.assertLess(len(pdf), 60_000)

    @needs_chromium
    def test_chromium_paints_every_picture(self) -> None:
        folder = self.folder({"t.html": self.PAGE, "a.png": made(photograph(), "PNG")})
        rendering = folder["t"].render({})
        html = html_of(rendering)
        for picture in rendering.pictures:
            html = html.replace(f"cid:{picture.content_id('pribble.invalid')}", picture.data_url)
        page = browser()
        page.show(html)
        painted = page.evaluate(PAINTED)
        grounds = page.evaluate(
            "return [...document.querySelectorAll('p, b, table')].map(e => getComputedStyle(e).backgroundImage.slice(0, 14))"
        )
        self.assertEqual(painted, [[True, 64, 64, 48]] * 2)
        self.assertEqual(grounds, ['url("data:imag'] * 3)
