"""Addresses that a template writes out and that lead nowhere: told, or, for pictures, refused."""

from __future__ import annotations

from pribble import PictureError, Template, inline_styles
from tests.support import Case

# What stands in a page, and what is said to be done about it; nothing where the address is right.
WRITTEN = [
    ('<a href="booking.html">x</a>', "write it from https:// on"),
    ("<a href=booking.html?x=1#b>x</a>", "write it from https:// on"),
    ('<a href="/booking">x</a>', "write it from https:// on"),
    ('<a href="//skerrow.example/">x</a>', "write it from https:// on"),
    ('<a href="">x</a>', "write it from https:// on"),
    ('<a href=" www.example.org ">x</a>', "write https:// before it"),
    ('<a href="skerrow.example/b">x</a>', "write https:// before it"),
    ('<a href="file:///home/a.html">x</a>', "write it from https:// on"),
    ('<a href="C:\\a.html">x</a>', "write it from https:// on"),
    ('<a href="c:/a.html">x</a>', "write it from https:// on"),
    ('<area href="a.html">', "write it from https:// on"),
    ('<form action="save"></form>', "write it from https:// on"),
    ('<iframe src="frame.html"></iframe>', "write it from https:// on"),
    ('<video src="a.mp4"></video>', "write it from https:// on"),
    ('<a href="https://skerrow.example/">x</a>', None),
    ('<a href="HTTPS://skerrow.example/">x</a>', None),
    ('<a href="#b">x</a>', None),
    ('<a href="mailto:a@example.org">x</a><a href="tel:+44">x</a>', None),
    ('<a name="b">x</a><a href>x</a>', None),
    ('<a href="{{ v }}">x</a>', None),
    ('<a href="{{ v }}/b.html">x</a>', None),
    ('<base href="https://skerrow.example/"><a href="booking.html">x</a>', None),
    ('<link rel="canonical" href="booking.html">', None),
    ('<svg><use href="#b"/></svg>', None),
    ('<blockquote cite="a.html">x</blockquote>', None),
]
ON_DISK = ("file:///a.png", "C:\\a.png", "c:/pictures/a.png", "\\\\server\\a.png", "FILE:a.png")


class Written(Case):
    def test_addresses_that_lead_nowhere_are_told(self) -> None:
        for markup, fix in WRITTEN:
            page = f"<!DOCTYPE html><body>{markup}</body>"
            told = [f for f in Template.from_text(page).findings if f.rule == "page.relative-address"]
            with self.subTest(markup):
                self.assertEqual([finding.fix for finding in told], [fix] if fix else [])
                for finding in told:
                    assert finding.where is not None
                    self.assertIn(page[finding.where.start : finding.where.end], markup)
            self.assertIn("<a", inline_styles(page) + "<a")  # of a page from elsewhere they are its own affair

    def test_pictures_on_the_senders_disk_are_refused(self) -> None:
        for name in ON_DISK:
            css = name.replace("\\", "\\\\")
            for markup in (
                f'<img src="{name}">',
                f'<table background="{name}">',
                f"<p style=\"background: url('{css}')\">",
                f"<style>p {{ background: url('{css}') }}</style>",
            ):
                with self.subTest(markup), self.assertRaisesRegex(PictureError, "is a file of the sender's"):
                    Template.from_text(f"<!DOCTYPE html><body>{markup}")
