"""Differences of two messages: each change alone is named, and nothing else is; between commits, what a change touches."""

from __future__ import annotations

import io
import json
import os
import random
import shutil
import subprocess
import sys
import unittest
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from pribble import Attachment, Message, Picture, TemplateFolder
from pribble.review import differences
from pribble.review.aligning import aligned
from tests.review.mutating import DESIGNS
from tests.support import DEMO, Case, Done, examples, generated, pribble, slow


def picture(colour: str, kind: str = "PNG", **options: Any) -> Picture:
    out = io.BytesIO()
    Image.new("RGB", (40, 30), colour).save(out, kind, **options)
    return Picture.from_bytes(out.getvalue(), f"logo.{kind.lower()}")


LOGO = picture("#14364f")
PAGE = (
    '<html lang="en"><body style="color: #222222"><p>Berth <b>B 14</b> is yours, Ana.</p>'
    '<p><a href="https://skerrow.example/b/1">Show it</a></p><img src="{}" alt="Pier B" width="40" height="30"></body></html>'
)


def message(
    page: str = PAGE, text: str = "Berth B 14 is yours, Ana.\n\nShow it\n", logo: Picture = LOGO, **given: Any
) -> Message:
    fields: dict[str, Any] = {
        "sender": "berths@skerrow.example",
        "to": "ana@example.org",
        "subject": "Berth B 14",
        **given,
    }
    html = page.format(f"cid:{logo.content_id('skerrow.example')}")
    return Message(text=text, html=html, pictures=[logo], id_domain="skerrow.example", **fields)


class OfMessages(Case):
    """Each change, and all that it is reported as."""

    def test_each_change_is_named_alone(self) -> None:
        words = PAGE.replace("yours, Ana", "ready, Ana")
        for changed, expected in (
            (message(subject="Berth B 15"), ["header Subject: Berth B 14 → Berth B 15"]),
            (message(to="bo@example.org"), ["header To: ana@example.org → bo@example.org"]),
            (message(reply_to="desk@skerrow.example"), ["header Reply-To: new: desk@skerrow.example"]),
            (
                message(text="Berth B 14 is yours.\n\nShow it\n"),
                ["text line 1: Berth B 14 is yours, Ana. → Berth B 14 is yours."],
            ),
            (message(words), ["words after “B 14 is”: yours, → ready,"]),
            (message(PAGE.replace("B 14", "B 15")), ["words after “Berth B”: 14 → 15"]),
            (
                message(PAGE.replace("/b/1", "/b/2")),
                ["link “Show it”: https://skerrow.example/b/1 → https://skerrow.example/b/2"],
            ),
            (message(PAGE.replace("#222222", "#444444")), ["look “Berth B 14 is yours, Ana.”: #222222 → #444444"]),
            (message(PAGE.replace("<b>", '<b style="font-size: 20px">')), ["look “B 14”: 16px → 20px"]),
            (message(PAGE.replace("Pier B", "Pier C")), ["picture alt of logo.png: Pier B → Pier C"]),
            (message(PAGE.replace('height="30"', 'height="60"')), ["picture size of logo.png: 40 × 30 → 40 × 60"]),
            (message(PAGE.replace('"en"', '"de"')), ["page html lang: en → de"]),
            (message(attachments=[Attachment("a.pdf", b"%PDF", "application/pdf")]), None),
        ):
            made = [str(one) for one in differences(message(), changed) if one.kind != "size"]
            with self.subTest(expected):
                if expected is None:
                    self.assertTrue(made[0].startswith("part tree: "), made)
                else:
                    self.assertEqual(made, expected)
                self.assertEqual([str(one) for one in differences(changed, changed)], [])

    def test_what_each_message_has_of_its_own_is_left_out(self) -> None:
        one, other = message(), message()
        self.assertNotEqual(bytes(one), bytes(other))
        self.assertEqual(differences(one, bytes(other)), [])
        names = {each.what for each in differences(one, other, all=True)}
        self.assertIn("Message-ID", names)

    def test_pictures_are_compared_by_their_pixels(self) -> None:
        stored = picture("#14364f", compress_level=0)
        self.assertNotEqual(stored.content, LOGO.content)
        self.assertEqual([one for one in differences(message(), message(logo=stored)) if one.kind == "picture"], [])
        (found,) = [one for one in differences(message(), message(logo=picture("#14364e"))) if one.kind == "picture"]
        self.assertEqual(found.what, "pixels of logo.png")

    def test_a_file_is_compared_by_its_bytes(self) -> None:
        one, other = (
            message(attachments=[Attachment("a.pdf", raw, "application/pdf")]) for raw in (b"%PDF-1", b"%PDF-2")
        )
        self.assertEqual([each.kind for each in differences(one, other)], ["part"])

    def test_pages_and_texts_alone(self) -> None:
        text = Message(sender="a@example.org", to="b@example.org", subject="x", text="Hello\n")
        page = Message(sender="a@example.org", to="b@example.org", subject="x", html="<p>Hello</p>", text="Hello\n")
        self.assertEqual([one.kind for one in differences(text, page)], ["part", "part", "page", "size"])
        self.assertEqual(differences(b"", b""), [])
        self.assertEqual([one.kind for one in differences(b"Subject: a\r\n\r\nx", b"Subject: b\r\n\r\nx")], ["header"])

    @slow
    def test_renderings_of_the_demo_and_the_designs(self) -> None:
        for folder in (TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London"), TemplateFolder(DESIGNS)):
            for name, template in folder.items():
                made = [template.render(data) for data in template.samples.values()]
                with self.subTest(name):
                    for one in made:
                        self.assertEqual(
                            differences(one, template.render(next(iter(template.samples.values())))) == [],
                            one is made[0],
                        )

    def test_arguments(self) -> None:
        for wrong in ("a", None, 1):
            with self.assertRaises(TypeError):
                differences(wrong, b"")  # type: ignore[arg-type]


class Aligning(unittest.TestCase):
    @generated(400)
    @given(st.lists(st.integers(0, 6), max_size=30), st.lists(st.integers(0, 6), max_size=30))
    def test_runs_are_both_sequences(self, old: list[int], new: list[int]) -> None:
        self.check(old, new)

    def check(self, old: list[int], new: list[int]) -> int:
        first = begin = 0
        last_same: bool | None = None
        changed = 0
        for run in aligned(old, new):
            self.assertEqual((run.old_start, run.new_start), (first, begin))
            first, begin = run.old_end, run.new_end
            if run.same:
                self.assertEqual(old[run.old_start : run.old_end], new[run.new_start : run.new_end])
            else:
                changed += run.old_end - run.old_start + run.new_end - run.new_start
            self.assertNotEqual(run.same, last_same)
            last_same = run.same
        self.assertEqual((first, begin), (len(old), len(new)))
        return changed

    def test_few_changes_of_many_different_items_are_found_exactly(self) -> None:
        for seed in range(examples(60)):
            random_ = random.Random(seed)
            old = random_.sample(range(10_000), 300)
            new = list(old)
            for number in range(5):
                new.insert(random_.randrange(len(new)), 20_000 + number)
            self.assertEqual(self.check(old, new), 5)


class Commands(Case):
    def folders(self) -> Path:
        path = self.folder().path
        shutil.copytree(DEMO, path / "templates")
        self.git(path, "init", "-q")
        self.commit(path, "first")
        return path

    def git(self, path: Path, *arguments: str) -> None:
        who = ["-c", "user.name=Ana", "-c", "user.email=ana@example.org", "-c", "commit.gpgsign=false"]
        subprocess.run(["git", "-C", str(path), *who, *arguments], check=True, capture_output=True)

    def commit(self, path: Path, said: str) -> None:
        self.git(path, "add", "-A")
        self.git(path, "commit", "-q", "-m", said)

    def edit(self, path: Path, old: str, new: str) -> None:
        text = path.read_text(encoding="utf-8")
        self.assertIn(old, text)
        path.write_text(text.replace(old, new), encoding="utf-8")

    def differences(self, path: Path, *arguments: str) -> Done:
        return pribble("differences", *arguments, cwd=path)

    @slow
    def test_between_commits(self) -> None:
        path = self.folders()
        none = self.differences(path, "--git", "HEAD")
        self.assertEqual((none.returncode, none.stdout.splitlines()[-1][:19]), (0, "0 of 11 messages ch"), none.stderr)
        self.edit(path / "templates/layouts/harbour.html", "open from 8 to 20", "open from 8 to 21")
        self.commit(path, "longer hours")
        done = self.differences(path, "--git", "HEAD~1..HEAD", "--json")
        said = json.loads(done.stdout)
        self.assertEqual((done.returncode, said["messages"]), (1, 11))
        changed = [(one["template"], one["sample"], one["locale"]) for one in said["changed"]]
        # Those that the layout is of, and not the German one, which has its own, nor those without a layout.
        self.assertEqual(
            changed,
            [
                ("berth-confirmed", "", "en"),
                ("berth-confirmed", "short", "en"),
                ("gale-warning", "", "en"),
                ("gale-warning", "storm", "en"),
                ("mooring-statement", "", "en"),
                ("season-notice", "", "en"),
                ("season-notice", "ashore", "en"),
            ],
        )
        for one in said["changed"]:
            words = [each for each in one["differences"] if each["kind"] == "words"]
            self.assertEqual([(each["old"], each["new"]) for each in words], [("20", "21")])
        (path / "templates/gate-code.txt").unlink()
        self.edit(path / "templates/desk-copy.html", "{{ vessel.name }}", "{{ vesel.name }}")
        shutil.copy(path / "templates/berth-confirmed.html", path / "templates/new-one.html")
        shutil.copy(path / "templates/berth-confirmed.sample.json", path / "templates/new-one.sample.json")
        notes = {
            one["template"]: one["note"]
            for one in json.loads(self.differences(path, "--git", "HEAD", "--json").stdout)["changed"]
        }
        self.assertEqual(sorted(notes), ["desk-copy", "gate-code", "new-one"])
        self.assertIn('gone: no field "vesel"', notes["desk-copy"])
        self.assertEqual(notes["gate-code"], "gone: there is none")
        self.assertTrue(notes["new-one"].startswith("new"))

    @slow
    def test_a_commit_is_read_as_a_checkout_would_and_from_a_hook_too(self) -> None:
        path = self.folder(
            {
                "t/a.html": '<p>one</p>{{ put "parts/p.html" }}',
                "t/parts/p.html": "<p>part</p>",
                ".gitattributes": "parts export-ignore\n*.html export-subst",
            }
        ).path
        self.git(path, "init", "-q")
        os.symlink("../../a.html", path / "t/parts/out.html")
        self.commit(path, "first")
        self.edit(path / "t/a.html", "one", "two $Format:%H$")
        self.commit(path, "second")
        status = subprocess.run(["git", "-C", str(path), "status", "--porcelain"], capture_output=True, check=True)
        hook = path / ".git/hooks/post-commit"
        hook.write_text(
            f"#!/bin/sh\n'{sys.executable}' -m pribble differences --templates t --git HEAD~1..HEAD > said\ntrue\n"
        )
        hook.chmod(0o755)
        self.edit(path / "t/a.html", "two", "three")
        self.commit(path, "third")
        said = (path / "said").read_text(encoding="utf-8")
        self.assertIn("    - two $Format:%H$\n    + three $Format:%H$\n", said)
        self.assertIn("1 of 1 message changed", said)
        self.assertEqual(status.stdout, b"")

    def test_what_cannot_be_made_is_told(self) -> None:
        path = self.folder({"t/a.html": "<p>{{ a", "t/b.html": "<p>b"}).path
        self.git(path, "init", "-q")
        self.commit(path, "first")
        done = self.differences(path, "--templates", "t", "--git", "HEAD")
        self.assertEqual(done.returncode, 1)
        self.assertIn("not compared: ", done.stdout)
        self.assertIn("0 of 2 messages changed", done.stdout)
        self.assertTrue(done.stdout.endswith("; 1 not compared\n"))

    def test_of_two_templates_and_two_messages(self) -> None:
        path = self.folder(
            {"a.html": "<p>Dear {{ name }}</p>", "b.html": "<p>Hello {{ name }}</p>", "d.json": '{"name": "Ana"}'}
        ).path
        done = self.differences(path, "a", "b", "--templates", ".", "--data", "d.json")
        self.assertEqual(done.returncode, 1)
        self.assertEqual(done.stdout.splitlines()[:3], ["  text  line 1", "    - Dear Ana", "    + Hello Ana"])
        (path / "a.eml").write_bytes(bytes(message()))
        same = self.differences(path, "a.eml", "a.eml")
        self.assertEqual((same.returncode, same.stdout), (0, "no difference\n"))

    def test_what_is_called_wrongly(self) -> None:
        path = self.folders()
        for arguments, says in (
            (["a"], "say what to compare"),
            (["a.eml", "b.eml"], "there is no file a.eml"),
            (["--git", "HEAD", "a"], "no others"),
            (["--git", "nothing..HEAD"], 'there is no commit "nothing"'),
            (["--git=--output=x"], 'there is no commit "--output=x"'),
            (["--git", "..HEAD"], "OLD..NEW"),
            (["--git", "HEAD..."], "OLD..NEW"),
            (["--git", "HEAD", "--templates", "/"], "git rev-parse"),
        ):
            with self.subTest(arguments):
                done = self.differences(path, *arguments)
                self.assertEqual((done.returncode, says in done.stderr), (2, True), done.stderr)


if __name__ == "__main__":
    unittest.main()
