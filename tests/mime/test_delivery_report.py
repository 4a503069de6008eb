"""Reports of servers, as they are and as nobody should write them."""

from __future__ import annotations

import re
import tomllib
import unittest
from email import message_from_bytes, policy

from hypothesis import given
from hypothesis import strategies as st

from pribble.mime.delivery_report import read_report, to_xtext
from tests.support import TEST_DATA, generated

REPORTS = tomllib.loads((TEST_DATA / "reports.toml").read_text(encoding="utf-8"))["report"]


def raw(text: str) -> bytes:
    return text.lstrip("\n").replace("\n", "\r\n").encode()


class Reports(unittest.TestCase):
    maxDiff = None

    def test_what_they_say(self) -> None:
        for one in REPORTS:
            with self.subTest(one["name"]):
                found = read_report(raw(one["raw"]))
                assert found is not None
                recipients = [
                    [r.original, r.final, r.action, r.status or "", r.code or 0, r.words] for r in found.recipients
                ]
                said = [found.envelope_id or "", found.message_id or "", list(found.to), recipients]
                self.assertEqual(said, one["says"])

    def test_which_address_it_was(self) -> None:
        found = read_report(raw(REPORTS[1]["raw"]))
        assert found is not None
        self.assertEqual(found.recipients[0].addresses, ("a+2Bb@example.org", "a+b@example.org", "box@inner.example"))

    def test_groups_are_those_that_the_standard_library_finds(self) -> None:
        for one in REPORTS[:2]:
            message = message_from_bytes(raw(one["raw"]), policy=policy.default)
            status = next(part for part in message.walk() if part.get_content_type() == "message/delivery-status")
            _, *groups = [group for group in status.get_payload() if group.keys()]  # type: ignore[union-attr]
            found = read_report(raw(one["raw"]))
            assert found is not None
            self.assertEqual(
                [(r.status, r.action) for r in found.recipients],
                [(g["Status"][:5], g["Action"].split()[0].lower()) for g in groups],  # type: ignore[index]
            )

    def test_what_is_none(self) -> None:
        whole = raw(REPORTS[0]["raw"])
        for other in (
            b"",
            b"From: a@example.org\r\n\r\nx",
            whole.replace(b"multipart/report", b"multipart/mixed"),
            whole.replace(b"message/delivery-status", b"text/plain"),
        ):
            self.assertIsNone(read_report(other))

    @given(st.data())
    @generated(200)
    def test_crooked_ones(self, data: st.DataObject) -> None:
        """Lines that are cut, doubled, moved: something is read, or nothing, and no more than there is."""
        lines = raw(data.draw(st.sampled_from(REPORTS))["raw"]).split(b"\r\n")
        for _ in range(data.draw(st.integers(1, 4))):
            at = data.draw(st.integers(0, len(lines) - 1))
            lines[at : at + 1] = data.draw(
                st.sampled_from(([], [lines[at]] * 3, [lines[at][:5]], [b"\xff\x00" + lines[at]], [b""]))
            )
        found = read_report(b"\r\n".join(lines))
        if found is not None:
            self.assertLessEqual(len(found.recipients), len(lines))

    def test_very_many_recipients(self) -> None:
        group = "\nFinal-Recipient: rfc822;a@example.org\nAction: failed\n"
        text = f"Content-Type: multipart/report; boundary=x\n\n--x\nContent-Type: message/delivery-status\n\nA: b\n{group * 5000}"
        found = read_report(raw(text))
        assert found is not None
        self.assertEqual(len(found.recipients), 1000)

    @given(st.text(st.characters(codec="ascii")))
    @generated(200)
    def test_xtext(self, text: str) -> None:
        written = to_xtext(text)
        self.assertTrue(re.fullmatch(r"(?:[!-*,-<>-~]|\+[0-9A-F]{2})*", written))
        decoded = re.sub(r"\+(..)", lambda found: chr(int(found[1], 16)), written)
        self.assertEqual(decoded, text)
