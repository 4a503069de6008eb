"""Snapshots of messages: written when asked for, compared otherwise; the demo's own are kept beside this file."""

from __future__ import annotations

import os
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import pribble
from pribble import Attachment, Message, TemplateFolder
from pribble.demo import OFFICE, TEMPLATES, invited
from pribble.testing import VARIABLE, MessageTestCase, snapshot
from tests.mime.mail import FIXED, PAGE, bases


class Demo(MessageTestCase):
    def test_the_demos_messages(self) -> None:
        # Linked pictures: what a resampled one is made of differs by Pillow's version.
        templates = TemplateFolder(
            TEMPLATES,
            locale="en_GB",
            timezone="Europe/London",
            embed="link",
            picture_base="https://skerrow.example/mail",
        )
        for name in ("berth-confirmed", "gate-code", "desk-copy"):
            with self.subTest(name):
                data = templates[name].samples[""]
                rendering = templates[name].render(data)
                self.assertMatchesSnapshot(rendering, name, sender=OFFICE, to="Ana <ana@example.org>")
                invitation = invited(data) if name == "berth-confirmed" else None
                self.assertSound(rendering, sender=OFFICE, to="ana@example.org", invitation=invitation)


class Comparing(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def run_case(self, made: Any, name: str = "a", **environment: str) -> unittest.TestResult:
        """The result of a test that compares `made` with a snapshot."""

        class Case(MessageTestCase):
            snapshots = self.folder

            def runTest(self) -> None:
                self.assertMatchesSnapshot(made, name)

        result = unittest.TestResult()
        with mock.patch.dict(os.environ, environment):
            Case().run(result)
        return result

    def test_written_read_and_compared(self) -> None:
        def made(**given: object) -> Message:
            return Message(**{**FIXED, "text": "Dear Ana,\nB 14\n", "seed": None, "date": None, **given})

        self.assertIn("write it with PRIBBLE_SNAPSHOTS=write", self.run_case(made()).failures[0][1])
        self.assertTrue(self.run_case(made(), **{VARIABLE: "write"}).wasSuccessful())
        self.assertTrue(self.run_case(made()).wasSuccessful())  # another date, id and boundary
        said = self.run_case(made(text="Dear Ana,\nB 15\n", subject="Grüße")).failures[0][1]
        for line in ("-B 14", "+B 15", "-Subject: Your berth B 14", "+Subject: Grüße", " Dear Ana,"):
            self.assertIn(f"\n{line}\n", said)
        self.assertIn("B 14", (self.folder / "a.txt").read_text(encoding="utf-8"))
        self.assertTrue(self.run_case(bytes(made())).wasSuccessful())
        self.assertEqual(len(self.run_case(made(), "../a").errors), 1)

    def test_two_tests_do_not_share_one(self) -> None:
        made = Message(**FIXED, text="x")

        class Two(MessageTestCase):
            snapshots = self.folder

            def test_one(self) -> None:
                self.assertMatchesSnapshot(made, "b")

            def test_other(self) -> None:
                self.assertMatchesSnapshot(made, "b")

        result = unittest.TestResult()
        with mock.patch.dict(os.environ, {VARIABLE: "write"}):
            for name in ("test_one", "test_one", "test_other"):
                Two(name).run(result)
        ((_, said),) = result.failures
        self.assertIn("test_one has the snapshot", said)

    def test_blanks_at_the_end_of_a_line(self) -> None:
        """An editor that takes them away changes nothing."""
        text = snapshot(bytes(Message(**FIXED, text="a  \nb\t\n-- \nc d", text_format="fixed")))
        self.assertIn("\na··\nb→\n--·\nc d\n", text)
        self.assertEqual([line for line in text.splitlines() if line != line.rstrip()], [])

    def test_what_a_snapshot_holds(self) -> None:
        text = snapshot(bases()["full"])
        for piece in (
            "Subject: Your berth B 14\nDate: (a date)\n",
            "    multipart/alternative\n      text/plain  format=flowed\n",
            PAGE,
            "application/pdf map.pdf ---",
            "209 bytes, sha256 ",
        ):
            self.assertIn(piece, text)
        self.assertNotIn("=_", text)
        first = Message(**FIXED, text="x", attachments=[Attachment("a.bin", b"1")])
        second = Message(**FIXED, text="x", attachments=[Attachment("a.bin", b"2")])
        self.assertNotEqual(snapshot(bytes(first)), snapshot(bytes(second)))

    def test_soundness(self) -> None:
        case = MessageTestCase()
        case.assertSound(Message(**FIXED, text="x"))
        with self.assertRaisesRegex(AssertionError, r"alternative\.no-text \(RFC 2046 5\.1\.4\)"):
            case.assertSound(Message(**FIXED, html="<p>x"))


class Names(unittest.TestCase):
    def test_every_public_name_has_a_home(self) -> None:
        self.assertEqual(sorted(pribble._HOME_OF), sorted(pribble.__all__))
        self.assertEqual(dir(pribble), sorted(pribble.__all__))
        for name in pribble.__all__:
            self.assertTrue(getattr(pribble, name).__doc__, name)
        with self.assertRaises(AttributeError):
            pribble.nothing_of_this_name  # noqa: B018


if __name__ == "__main__":
    unittest.main()
