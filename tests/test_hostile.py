"""Names, numbers, dates and nesting at and beyond the ends: each gives an answer or an error of ours, never a raw one."""

from __future__ import annotations

import dataclasses
import os
import stat
import unittest
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta, timezone
from functools import partial
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from pribble import (
    FieldError,
    HeaderError,
    Invitation,
    LimitReached,
    Message,
    Picture,
    PictureError,
    PribbleError,
    Template,
    TemplateError,
    TemplateFolder,
    UnknownTemplate,
    UnsafeValue,
    audit,
    inline_styles,
    plain_text,
)
from tests.support import Case, pribble

LONG = "x" * 300
DIGITS = "9" * 5000
HEAD = b"From: a@x.example\r\nTo: b@x.example\r\n"


def nested(depth: int) -> list[Any]:
    made: list[Any] = []
    for _ in range(depth):
        made = [made]
    return made


@dataclasses.dataclass
class Berth:
    pier: str = "B"
    number: int = 14


# (template, data, the error and what it says, or None and what is shown)
TEMPLATES: list[tuple[str, dict[str, Any], type[Exception] | None, str]] = [
    (f'{{{{ put "{LONG}.html" }}}}', {}, TemplateError, "t.html:1:8: there is no file"),
    (f'{{{{ layout "{LONG}.html" }}}}', {}, TemplateError, "t.html:1:11: there is no file"),
    (f'<link rel="stylesheet" href="{LONG}.css">', {}, TemplateError, "t.html:1:1: there is no style sheet"),
    (f'<style>@import "{LONG}.css";</style>', {}, TemplateError, "t.html:1:8: there is no style sheet"),
    (f'<img src="{LONG}.png" alt="">', {}, PictureError, "t.html:1:11: there is no picture"),
    ('<img src="{{ v }}" alt="">', {"v": f"{LONG}.png"}, PictureError, "t.html:1:14: there is no picture"),
    ('<img src="{{ v }}" alt="">', {"v": "a/" * 3000 + "b.png"}, PictureError, "t.html:1:14: "),
    ('<img src="{{ v }}" alt="">', {"v": "\ud800.png"}, PribbleError, "t.html:1:14: "),
    ('<img src="loop.png" alt="">', {}, PictureError, "a link that leads to itself"),
    ('{{ put "loop.html" }}', {}, TemplateError, "a link that leads to itself"),
    ('{{ v as date("y") }}', {"v": "9999-12-31T23:59:59-12:00"}, FieldError, "is in no year from 1 to 9999"),
    ('{{ v as datetime("y") }}', {"v": "0001-01-01T00:00:00+12:00"}, FieldError, "is in no year from 1 to 9999"),
    ('{{ v as date("y") }}', {"v": "0001-01-01"}, None, "1"),
    ("{{ ('9999-12-31' as day) + 4 }}", {}, FieldError, "t.html:1:26: the day lies beyond the calendar"),
    (f'<a title="&#{"1" * 5000};">x</a>', {}, None, "x</a>"),
    (f"&#{'0' * 5000}65;&#x{'0' * 5000}42;", {}, None, "65;"),
    (f'<p style="width:{DIGITS}px">x', {}, None, ">x"),
    (f"<style>p{{width:{DIGITS}px;color:rgb({DIGITS},0,0)}} p:nth-child({DIGITS}n){{top:0}}</style><p>x", {}, None, ">x"),
    (f"{{{{ {DIGITS} }}}}", {}, TemplateError, "t.html:1:4: a number of more than 100 digits"),
    (f"{{{{ 0.{DIGITS} }}}}", {}, TemplateError, "t.html:1:4: a number of more than 100 digits"),
    ('{{ "same" if a == b }}', {"a": nested(900), "b": nested(900)}, None, "same"),
    ('{{ "other" if a != b }}', {"a": nested(900), "b": nested(901)}, None, "other"),
    ('{{ "in" if a in b }}', {"a": nested(900), "b": [nested(3), nested(900)]}, None, "in"),
    ("{{ v as count }}", {"v": Berth()}, None, "2"),
    ("{{ v as json }}", {"v": nested(900)}, LimitReached, "t.html:1:9: "),
    ("{{ subject: }}{{ v }}{{ :subject }}x", {"v": "\u200b"}, UnsafeValue, "the subject is empty"),
    ("{{ subject: }}a{{ v }}{{ :subject }}x", {"v": "\u2067b"}, UnsafeValue, "U+2067 at position 0"),
]  # fmt: skip

# What is called, the error, and what it says; None for an answer.
CALLS: list[tuple[str, Callable[[], Any], type[Exception] | None, str]] = [
    ("a name for from_text", lambda: Template.from_text("<p>x", name=LONG), None, ""),
    ("NUL in a name for from_text", lambda: Template.from_text("<p>x", name="a\0b"), None, ""),
    ("a picture's name", lambda: Picture.open(LONG), PictureError, "cannot be read"),
    ("NUL in a picture's name", lambda: Picture.open("a\0b"), PictureError, "is the name of no picture"),
    ("half a pair in a picture's name", lambda: Picture.open("\ud800.png"), PictureError, "is the name of no picture"),
    ("an SVG of a size", lambda: Picture.from_bytes(b'<svg xmlns="http://www.w3.org/2000/svg" width="' + b"9" * 400 + b'"/>'), None, ""),
    ("an SVG's box", lambda: Picture.from_bytes(b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 ' + b"9" * 400 + b' 1"/>'), None, ""),
    ("a type of a picture", lambda: Picture(b"x", "image/png\r\nX: y", None, 1, 1), PictureError, "is no media type"),
    ("half a pair in an attribute's name", lambda: bytes(Template.from_text("<p a\ud800='x'>y").render({}).message(sender="a@x.example")), PribbleError, "lone surrogate"),
    ("a reference in a page", lambda: plain_text(f"<p>&#{DIGITS};x"), None, ""),
    ("a font's size", lambda: plain_text(f'<p style="font-size:{DIGITS}px">x'), None, ""),
    ("numbers of lists and cells", lambda: plain_text(f"<ol start={DIGITS}><li value=-{DIGITS}>x</ol><table><tr><td colspan={DIGITS}>x"), None, ""),
    ("a selector", lambda: inline_styles(f"<style>p:nth-child({DIGITS}n+{DIGITS}) {{ top: 0 }}</style><p>x"), None, ""),
    *[
        (f"{what} with the parameter {name!r}", lambda f=function, n=name: f(HEAD + b"Content-Disposition: attachment; file" + n + b"\r\n\r\nx"), None, "")
        for what, function in (("audit", audit), ("from_bytes", Message.from_bytes))
        for name in (b"name*=undefined''x", b"name*=\0''x", b"name*=punycode''x", b"name*=idna''\xff", b"name*=hex''zz", b"name*=utf-7''+")
    ],
    *[
        (f"{what} in the charset {name!r}", lambda f=function, n=name: f(HEAD + b"Subject: =?" + n + b"?Q?=FF?=\r\nContent-Type: text/plain; charset=" + n + b"\r\n\r\nx\xff"), None, "")
        for what, function in (("audit", audit), ("from_bytes", Message.from_bytes))
        for name in (b"undefined", b"punycode", b"idna", b"unicode_escape", b"rot13", b"a\0b", b"\xe9")
    ],
    ("a year of twenty digits", lambda: Message.from_bytes(HEAD + b"Date: Fri, 03 Jul " + b"2" * 20 + b" 10:00:00 +0000\r\n\r\nx").date, None, ""),
    ("a zone of 99 hours", lambda: Message.from_bytes(HEAD + b"Date: Fri, 03 Jul 2026 10:00:00 +9999\r\n\r\nx").date, None, ""),
    *[
        (f"an event at {moment}", lambda m=moment: Invitation(m, m, "Stay", "a@x.example", "u@x.example"), HeaderError, "DTSTART: the year ")
        for moment in (
            date.min, date.max, datetime.min.replace(tzinfo=timezone(timedelta(hours=12))), datetime.max.replace(tzinfo=UTC),
            datetime(9999, 12, 31, 23, tzinfo=ZoneInfo("America/New_York")), datetime(1, 1, 1, tzinfo=ZoneInfo("Asia/Tokyo")),
        )
    ],
    *[
        (f"an event in {year}", lambda y=year: bytes(Message(sender="a@x.example", to="b@x.example", invitation=Invitation(
            datetime(y, 1, 1, tzinfo=ZoneInfo("Asia/Tokyo")), datetime(y, 12, 31, tzinfo=ZoneInfo("America/New_York")), "S", "a@x.example", "u@x"))), None, "")
        for year in (1583, 9997)
    ],
    ("a Date that UTC does not have", lambda: bytes(Message(sender="a@x.example", to="b@x.example", date=datetime.max.replace(tzinfo=timezone(timedelta(hours=-12))),
        invitation=Invitation(date(2026, 7, 3), date(2026, 7, 4), "S", "a@x.example", "u@x"))), HeaderError, "Date: "),
]  # fmt: skip

COMMANDS: list[tuple[list[str], int, str]] = [
    (["render", "gate-code", "--set", ".".join("a" * 5000) + "=1"], 2, "--set takes a path of at most 100 fields"),
    (["render", "gate-code", "--set", f"shared[{DIGITS}]=1"], 2, "there is no ["),
    (["receive", "--port", "99999"], 2, '"99999" is no port (0 to 65535)'),
    (["receive", "--port", "-1"], 2, '"-1" is no port (0 to 65535)'),
    (["receive", "--port", DIGITS], 2, "is no port (0 to 65535)"),
    (["render", LONG], 2, "there is no template"),
    (["render", "gate-code", "--data", LONG], 2, "there is no file"),
    (["render", "gate-code", "--format", "text", "--out", "."], 2, ". is a folder"),
    (["render", "gate-code", "--format", "text", "--out", "no/such/x"], 2, "there is no folder no/such"),
    (["send", "gate-code", "--to", "a@x.example", "--through", "smtp://x:99999"], 2, "is no port"),
]


def _rendered(folder: TemplateFolder, data: Any) -> str:
    return str(folder["t"].render(data).html)


class Hostile(Case):
    def told(self, call: Callable[[], Any], error: type[Exception] | None, says: str) -> Any:
        """What a call returns, where it should; else the error must be of that kind, and say so."""
        if error is None:
            return call()
        with self.assertRaises(error) as caught:
            call()
        self.assertIn(says, str(caught.exception))
        return None

    def test_templates(self) -> None:
        for text, data, error, says in TEMPLATES:
            with self.subTest(text[:60]):
                folder = self.folder({"t.html": text}, timezone="America/New_York" if "-12:00" not in says else "UTC")
                for name in ("loop.png", "loop.html"):
                    os.symlink(folder.path / name, folder.path / name)
                made = self.told(partial(_rendered, folder, data), error, says)
                if made is not None:
                    self.assertIn(says, made)

    def test_calls(self) -> None:
        for what, call, error, says in CALLS:
            with self.subTest(what):
                self.told(call, error, says)

    def test_commands(self) -> None:
        cwd = self.folder().path
        templates = Path(__file__).parent.parent / "src/pribble/demo/templates"
        for arguments, code, says in COMMANDS:
            with self.subTest(arguments=[a[:30] for a in arguments]):
                more = ["--templates", str(templates)] if "gate-code" in arguments else []
                done = pribble(*arguments, *more, cwd=cwd)
                self.assertEqual(done.returncode, code, done.stderr)
                self.assertIn(says, done.stderr)
                self.assertEqual(os.listdir(cwd), [])
        for text in ("a = " + "[" * 5000, ".".join("a" * 5000) + " = 1"):
            (cwd / "pribble.toml").write_text(text)
            self.assertEqual(pribble("fields", "x", cwd=cwd).returncode, 1)

    def test_names_of_templates(self) -> None:
        folder = self.folder({"t.html": "x"})
        for name in (LONG, "a/" * 5000, "a\ud800", "a\0b", "../t", "loop", ""):
            if not os.path.lexists(folder.path / "loop.html"):
                os.symlink("loop.html", folder.path / "loop.html")
            with self.subTest(name[:10]):
                self.assertNotIn(name, folder)
                with self.assertRaises(UnknownTemplate) as caught:
                    folder[name]
                str(caught.exception).encode("utf-8")
        self.assertEqual(list(folder), ["t"])


class Links(Case):
    """Nothing outside of a folder is read through a link in it."""

    def test_links_that_lead_out(self) -> None:
        outside = self.folder({"secret.html": "secret", "secret.de.html": "geheim", "p/q.html": "secret"}).path
        folder = self.folder({"t.html": "plain", "u.html": '{{ put "link.html" }}'}, locale="en")
        for name, target in (("link.html", "secret.html"), ("t.de.html", "secret.de.html"), ("dir", "p")):
            os.symlink(outside / target, folder.path / name)
        for name in ("link", "dir/q"):
            self.assertNotIn(name, folder)
            with self.assertRaises(UnknownTemplate):
                folder[name]
        with self.assertRaisesRegex(TemplateError, "outside"):
            folder["u"]
        self.assertEqual(str(folder["t"].render({}, locale="de").html), "plain")
        self.assertEqual(list(folder), ["t", "u"])

    def test_links_within_are_followed(self) -> None:
        folder = self.folder({"t.html": "here"})
        os.symlink("t.html", folder.path / "again.html")
        self.assertEqual(str(folder["again"].render({}).html), "here")

    def test_out_is_as_permitted_as_the_umask_says(self) -> None:
        out = self.folder().path / "code.txt"
        for mask, mode in ((0o077, 0o600), (0o022, 0o644), (0o002, 0o664)):
            before = os.umask(mask)
            try:
                done = pribble("render", "gate-code", "--format", "text", "--out", str(out))
            finally:
                os.umask(before)
            self.assertEqual((done.returncode, stat.S_IMODE(out.stat().st_mode)), (0, mode), done.stderr)
            out.unlink()


if __name__ == "__main__":
    unittest.main()
