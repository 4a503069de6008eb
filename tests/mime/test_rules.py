"""What a message may not hold, what it says to machines, and the standards' own examples."""

from __future__ import annotations

import re
import tempfile
import tomllib
import unittest
from collections.abc import Callable
from datetime import date, datetime
from email import message_from_bytes, policy
from functools import partial
from pathlib import Path
from typing import Any

import icalendar
from hypothesis import given
from hypothesis import strategies as st

from pribble import Address, AddressError, Attachment, Group, HeaderError, Invitation, Message, PribbleError, audit
from pribble.delivery.receiver import Receiver
from pribble.delivery.transports import transport
from pribble.mime.audit import Audit
from pribble.mime.parameters import read_parameters
from pribble.mime.reading import MOST_DEPTH, MOST_PARTS
from tests.mime.mail import DATE, FIXED, LONDON, PAGE, STAY, bases
from tests.mime.messages import BEYOND_ASCII
from tests.support import TEST_DATA, generated, large, slow

APPENDICES = tomllib.loads((TEST_DATA / "appendices.toml").read_text(encoding="utf-8"))


def header(**given: Any) -> str:
    """The header of a message with these arguments."""
    return bytes(Message(**{**FIXED, **given})).partition(b"\r\n\r\n")[0].decode() + "\r\n"


# Each argument that takes a value from outside, how a value is put into it, and what the error names.
PLACES: dict[str, tuple[Callable[[str], Any], str]] = {
    "sender": (lambda v: f"{v} <a@example.org>", "From"),
    "authors": (lambda v: [(v, "a@example.org")], "From"),
    "to": (lambda v: [(v, "a@example.org")], "To"),
    "cc": (lambda v: [f"a@example.org{v}"], "Cc"),
    "bcc": (lambda v: f"<a{v}@example.org>", "Bcc"),
    "reply_to": (lambda v: f'"{v}" <a@example.org>', "Reply-To"),
    "envelope_sender": (lambda v: f"a@example.org{v}", "the envelope's sender"),
    "subject": (lambda v: f"Your berth{v}", "Subject"),
    "headers": (lambda v: {"X-Berth": f"B 14{v}"}, "X-Berth"),
    "message_id": (lambda v: f"<a{v}@example.org>", "Message-ID"),
    "in_reply_to": (lambda v: f"<a@example.org>{v}", "In-Reply-To"),
    "references": (lambda v: ["<a@example.org>", f"<a{v}@example.org>"], "References"),
    "language": (lambda v: f"en{v}", "Content-Language"),
    "unsubscribe": (lambda v: f"https://skerrow.example/{v}", "List-Unsubscribe"),
    "importance": (lambda v: f"high{v}", "Importance"),
    "auto_submitted": (lambda v: f"no{v}", "Auto-Submitted"),
}


def _anyhow(signed: Any, raw: bytes) -> Any:
    """A signer that gives `signed`, whatever it is asked to sign."""
    return signed


class Injection(unittest.TestCase):
    def test_no_value_brings_a_line_or_a_control(self) -> None:
        for bad in (
            "\r\nBcc: eve@example.org",
            "\n",
            "\r",
            "\0",
            "\x07",
            "\x7f",
            "\x1b[2J",
            "\u2028",
            "\u2029",
            "\ud800",
        ):
            for argument, (put, field) in PLACES.items():
                with self.subTest(argument=argument, bad=bad):
                    with self.assertRaises((HeaderError, AddressError)) as caught:
                        Message(**{**FIXED, argument: put(bad)})
                    said = str(caught.exception)
                    self.assertTrue(said.startswith(f"{field}: "), said)
                    self.assertRegex(said, r"\(U\+[0-9A-F]{4}\) at position [0-9]+")
                    self.assertTrue(said.isprintable() or "\n" in said)
        for made in (
            lambda v: Group(f"Crew{v}", ["a@example.org"]),
            lambda v: Address(f"Ana{v}", "a@example.org"),
            lambda v: Attachment("a.pdf", b"", f"application/pdf{v}"),
            lambda v: Invitation(date(2026, 7, 3), date(2026, 7, 4), f"Stay{v}", "a@example.org", "u@x.example"),
            lambda v: Invitation(date(2026, 7, 3), date(2026, 7, 4), "Stay", "a@example.org", f"u{v}@x.example"),
        ):
            for bad in ("\r\nX: y", "\n", "\0", "\ud800"):
                with self.assertRaises((HeaderError, AddressError)):
                    made(bad)

    def test_names_of_fields(self) -> None:
        for name in (
            "X:Y",
            "X Y",
            "X\nY",
            "",
            "Ä",
            "X\u00a0",
            "Subject",
            "bcc",
            "Content-Type",
            "Resent-To",
            "DKIM-Signature",
        ):
            with self.subTest(name), self.assertRaises(HeaderError):
                Message(**FIXED, headers={name: "x"})

    def test_one_string_is_one_recipient(self) -> None:
        for text, says in [
            ("a@example.org, b@example.org", "holds 2 addresses where one is asked for"),
            ("Bell, Ana <ana@example.org>", "is it a name with a comma?"),
            ("Crew: a@example.org, b@example.org;", "a group"),
            ("", "holds 0 addresses"),
            ("Ana", "is no address"),
            ("Ana <ana@example.org", 'a ">" is missing'),
            ('"Ana <ana@example.org>', "a quoted string is not closed"),
            ("ana@exa mple.org", "at position"),
            ("a..b@example.org", "a dot too many"),
            ("a@" + "x" * 64 + ".example", "is no domain"),
            ("x" * 65 + "@example.org", "more than 64 octets"),
            ("a@" + ".".join(["x" * 60] * 5), "is no domain"),
            ("a@under_score.example", "is no domain"),
        ]:
            with self.subTest(text[:40]), self.assertRaises(AddressError) as caught:
                Message(**{**FIXED, "to": text})
            self.assertTrue(str(caught.exception).startswith("To: "))
            self.assertIn(says, str(caught.exception))

    def test_lone_surrogates_in_bodies(self) -> None:
        bodies: list[dict[str, Any]] = [{"text": "a\ud800"}, {"html": "<p>é\udfff", "text": "x"}]
        for arguments in bodies:
            with self.assertRaisesRegex(PribbleError, "lone surrogate .* at position [14] "):
                bytes(Message(**FIXED, **arguments))

    @slow
    def test_much_of_everything(self) -> None:
        crowd = [f"Skipper {n} <skipper{n}@example.org>" for n in range(large(10_000))]
        message = Message(**{**FIXED, "to": crowd})
        raw = bytes(message)
        self.assertEqual(len(message.envelope.recipients), large(10_000))
        self.assertEqual(len(message_from_bytes(raw, policy=policy.default)["To"].addresses), large(10_000))
        long = bytes(Message(**{**FIXED, "subject": "Grüße " * large(1_500_000)}))
        self.assertLessEqual(max(map(len, long.split(b"\r\n"))), 76)
        empty = bytes(Message(**FIXED, text=""))
        self.assertTrue(empty.endswith(b"\r\n\r\n"))
        for written in (raw, empty):
            self.assertEqual([f.rule for f in audit(written)], [])


class Fields(unittest.TestCase):
    def test_who_wrote_and_who_sent(self) -> None:
        office = "Berth Office <berths@skerrow.example>"
        both = header(authors=["Ana Bell <ana@example.org>", "bo@example.net"])
        self.assertIn(f"From: Ana Bell <ana@example.org>, bo@example.net\r\nSender: {office}\r\n", both)
        self.assertIn("@example.org>\r\nMIME-Version", both)
        self.assertIn(f"From: ana@example.org\r\nSender: {office}\r\n", header(authors="ana@example.org"))
        self.assertNotIn("Sender", header(authors=office))
        self.assertEqual(Message(**FIXED, authors="ana@example.org").envelope.sender, "berths@skerrow.example")

    def test_groups(self) -> None:
        crew = Group("Crew, of Kittiwake", ["Ana <ana@example.org>", "bo@example.net"])
        made = Message(
            **{**FIXED, "to": [crew, "cy@example.org"]}, cc=Group("Nobody"), reply_to=Group("Büro", "a@example.org")
        )
        head = bytes(made).decode()
        self.assertIn('To: "Crew, of Kittiwake": Ana <ana@example.org>, bo@example.net;,\r\n cy@example.org\r\n', head)
        self.assertIn("Cc: Nobody:;\r\nReply-To: =?utf-8?B?QsO8cm8=?= : a@example.org;\r\n", head)
        self.assertEqual(made.envelope.recipients, ("ana@example.org", "bo@example.net", "cy@example.org"))
        for field in ("sender", "authors", "bcc"):
            with self.assertRaisesRegex(AddressError, "a group has no place here"):
                Message(**{**FIXED, field: crew})

    def test_machines(self) -> None:
        self.assertIn(
            "Auto-Submitted: auto-generated\r\nImportance: high\r\n"
            "List-Unsubscribe: <https://skerrow.example/off?u=1>,\r\n <mailto:off@skerrow.example>\r\n"
            "List-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n"
            "MIME-Version: 1.0\r\nContent-Language: en, de-CH\r\n",
            header(
                auto_submitted="auto-generated",
                importance="high",
                language=["en", "de_CH"],
                one_click=True,
                unsubscribe=["https://skerrow.example/off?u=1", "mailto:off@skerrow.example"],
            ),
        )
        for arguments in (
            {"importance": "urgent"},
            {"auto_submitted": "yes"},
            {"language": "english, german"},
            {"language": "ü"},
            {"unsubscribe": "skerrow.example/off"},
            {"unsubscribe": "javascript:off()"},
            {"unsubscribe": "https://x.example/ü"},
            {"unsubscribe": "https://x.example/a b"},
            {"unsubscribe": "https://x.example/>,<mailto:eve@example.org"},
            {"one_click": True},
            {"one_click": True, "unsubscribe": "mailto:a@example.org"},
            {"one_click": True, "unsubscribe": ["https://a.example/", "https://b.example/"]},
        ):
            with self.subTest(arguments), self.assertRaises(HeaderError):
                Message(**FIXED, **arguments)

    def test_a_signature_is_of_the_final_bytes(self) -> None:
        seen: list[bytes] = []

        def sign(raw: bytes) -> bytes:
            seen.append(raw)
            return b"DKIM-Signature: v=1; d=skerrow.example; h=From:To;\r\n b=YWJj\r\n"

        message = Message(**FIXED, text="x", attachments=[Attachment("a.bin", b"\0" * 100_000)], sign=sign)
        raw = bytes(message)
        self.assertEqual(raw, b"".join(message.chunks()))
        self.assertEqual(len(seen), 1)
        self.assertTrue(raw.startswith(b"DKIM-Signature: ") and raw.endswith(seen[0]))
        self.assertEqual(seen[0], bytes(Message(**FIXED, text="x", attachments=[Attachment("a.bin", b"\0" * 100_000)])))
        for wrong in (
            b"",
            b"DKIM-Signature: x",
            b"x\r\n",
            "X: y\r\n",
            b"X: y\r\n\r\n",
            b"X: y\nZ: w\r\n",
            b"X: " + b"y" * 999 + b"\r\n",
        ):
            with self.subTest(wrong[:20]), self.assertRaises(HeaderError):
                bytes(Message(**FIXED, text="x", sign=partial(_anyhow, wrong)))

    def test_a_draft_keeps_its_blind_copies(self) -> None:
        message = Message(**FIXED, text="x", bcc=["Bo <bo@example.net>", "cy@example.org"])
        self.assertEqual(message.draft(), b"Bcc: Bo <bo@example.net>, cy@example.org\r\n" + bytes(message))


class Nested(unittest.TestCase):
    def test_messages_in_messages(self) -> None:
        inner = bytes(Message(**FIXED, text="inside\n"))
        outer = Message(**FIXED, text="outside\n", attachments=[Attachment("before.eml", inner)])
        raw = bytes(outer)
        self.assertIn(b"Content-Type: message/rfc822; name=before.eml\r\nContent-Transfer-Encoding: 7bit\r\n", raw)
        self.assertIn(b"\r\n\r\n" + inner + b"\r\n--=_", raw)
        # The same seed makes the same boundary: the one without has to be another.
        twice = bytes(Message(**FIXED, text="x", attachments=[Attachment("again.eml", raw)]))
        boundaries = re.findall(rb'boundary="([^"]+)"', twice)
        self.assertEqual(len(set(boundaries)), 2)
        self.assertEqual(len(boundaries[0]), len(boundaries[1]))
        self.assertEqual([f.rule for f in audit(twice)], [])
        self.assertIn(
            b"\r\n\r\n" + inner + b"\r\n--",
            bytes(Message(**FIXED, attachments=[Attachment("before.eml", inner.replace(b"\r\n", b"\n"))])),
        )

    def test_octets_beyond_ascii_are_left_alone(self) -> None:
        eight = bytes(Message(**FIXED, text="x")).replace(b"7bit", b"8bit").replace(b"x\r\n", "Grüße\r\n".encode())
        made = Message(**FIXED, text="x", attachments=[Attachment("a.eml", eight)])
        self.assertEqual(made.needs, {"8bit"})
        self.assertEqual(bytes(made).count(b"Content-Transfer-Encoding: 8bit"), 3)
        international = bytes(Message(**{**FIXED, "to": "ünal@example.org"}, text="x"))
        self.assertIn(
            b"Content-Type: message/global;", bytes(Message(**FIXED, attachments=[Attachment("a.eml", international)]))
        )
        self.assertEqual([f.rule for f in audit(bytes(made))], [])

    def test_files_are_left_alone(self) -> None:
        for name, content in [
            ("old.txt", "Gr\u00fc\u00dfe\n".encode("latin-1")),
            ("lines.txt", b"a\nb\n"),
            ("a.ics", b"BEGIN:VEVENT\n"),
            ("page.html", b"<p>x"),
            ("empty.bin", b""),
        ]:
            raw = bytes(Message(**FIXED, text="x", attachments=[Attachment(name, content)]))
            part = next(p for p in message_from_bytes(raw).walk() if p.get_filename() == name)
            self.assertEqual(part.get_payload(decode=True), content)
            self.assertEqual([f"{f.rule}: {f}" for f in audit(raw)], [])

    def test_they_travel_as_they_are(self) -> None:
        eight = Message(**FIXED, text="x", attachments=[Attachment("a.eml", BEYOND_ASCII)])
        both = Message(**{**FIXED, "to": "ünal@example.org"}, text="x", attachments=eight.attachments)
        with tempfile.TemporaryDirectory() as folder, Receiver(Path(folder)) as receiver:
            for message in (eight, both):
                transport(receiver.address).deliver(message)
            self.assertEqual([r.path.read_bytes() for r in receiver.received], [bytes(eight), bytes(both)])
            self.assertEqual(receiver.received[1].recipients, ("ünal@example.org",))

    def test_what_cannot_be_nested_is_sent_as_a_file(self) -> None:
        for wrong in (b"Subject: a\0\r\n\r\n", b"A: " + b"x" * 999 + b"\r\n\r\n", b"A: b\rc\r\n\r\n"):
            with self.assertRaisesRegex(PribbleError, "cannot be nested"):
                Attachment("a.eml", wrong, "message/rfc822")
            for file in (Attachment("a.eml", wrong, "message/rfc822", nested="file"), Attachment("a.eml", wrong)):
                self.assertEqual(file.nested, "file")
            raw = bytes(Message(**FIXED, attachments=[Attachment("a.eml", wrong)]))
            part = next(p for p in message_from_bytes(raw).walk() if p.get_filename())
            self.assertEqual(
                (part.get_content_type(), part.get_payload(decode=True)), ("application/octet-stream", wrong)
            )
        for name, type in [
            ("a.bin", "multipart/mixed"),
            ("a.pdf", "pdf"),
            ("a.pdf", "application/pdf; x=y"),
            ("a.pdf", "a/b/c"),
        ]:
            with self.assertRaises(HeaderError):
                Attachment(name, b"", type)


class Invitations(unittest.TestCase):
    def calendar(self, **given: Any) -> tuple[Message, icalendar.Calendar]:
        made = Message(**FIXED, text="x\n", **given)
        part = next(p for p in message_from_bytes(bytes(made)).walk() if p.get_content_type() == "text/calendar")
        raw = part.get_payload(decode=True)
        assert isinstance(raw, bytes)
        self.assertEqual(raw.count(b"\n"), raw.count(b"\r\n"))
        self.assertLessEqual(max(map(len, raw.split(b"\r\n"))), 75)
        self.assertIsNone(part.get_content_disposition())
        calendar = icalendar.Calendar.from_ical(raw)
        self.assertEqual(part.get_param("method"), str(calendar["METHOD"]))
        self.assertEqual([f.rule for f in audit(bytes(made))], [])
        return made, calendar

    def test_a_request_asks_everybody_in_to(self) -> None:
        made, calendar = self.calendar(invitation=STAY)
        (event,) = calendar.walk("VEVENT")
        self.assertEqual(str(event["ATTENDEE"]), "mailto:ana@example.org")
        self.assertEqual(
            (event["ATTENDEE"].params["CN"], event["ORGANIZER"].params["CN"]), ("Ana Bell", "Berth Office")
        )
        self.assertEqual(event.decoded("DTSTART"), datetime(2026, 7, 10, 14, tzinfo=LONDON))
        self.assertEqual(event.decoded("DTSTAMP"), DATE)
        self.assertEqual([str(z["TZID"]) for z in calendar.walk("VTIMEZONE")], ["Europe/London"])
        several = Message(**{**FIXED, "to": ["bo@example.net", STAY.organizer]}, text="x", invitation=STAY)
        self.assertEqual(bytes(several).count(b"\r\nATTENDEE"), 1)  # who asks is not asked
        kinds = [p.get_content_type() for p in message_from_bytes(bytes(made)).walk()]
        self.assertEqual(kinds, ["multipart/alternative", "text/plain", "text/calendar"])

    def test_change_and_cancel(self) -> None:
        moved = STAY.revised(summary="Büro; Liegeplatz, B 15", location="Pier B", description="a\nb")
        (event,) = self.calendar(invitation=moved)[1].walk("VEVENT")
        self.assertEqual(
            (event["SEQUENCE"], str(event["SUMMARY"]), str(event["DESCRIPTION"])), (1, "Büro; Liegeplatz, B 15", "a\nb")
        )
        _, calendar = self.calendar(invitation=moved.cancelled())
        (event,) = calendar.walk("VEVENT")
        self.assertEqual((event["SEQUENCE"], str(calendar["METHOD"]), str(event["STATUS"])), (2, "CANCEL", "CANCELLED"))
        self.assertEqual(str(event["UID"]), STAY.uid)

    def test_whole_days_publishing_and_a_file(self) -> None:
        days = Invitation(
            date(2026, 7, 10),
            date(2026, 7, 12),
            "Regatta",
            "berths@skerrow.example",
            "r@skerrow.example",
            method="PUBLISH",
            also_attached=True,
        )
        made, calendar = self.calendar(invitation=days)
        (event,) = calendar.walk("VEVENT")
        self.assertEqual((event.decoded("DTSTART"), event.decoded("DTEND")), (date(2026, 7, 10), date(2026, 7, 13)))
        self.assertNotIn("ATTENDEE", event)
        self.assertEqual([p.get_filename() for p in message_from_bytes(bytes(made)).walk()][-1], "invitation.ics")

    def test_what_is_wrong_is_said(self) -> None:
        at = datetime(2026, 7, 10, 14, tzinfo=LONDON)
        wrong: list[tuple[dict[str, Any], str]] = [
            ({"end": datetime(2026, 7, 9, tzinfo=LONDON)}, "ends before it begins"),
            ({"start": datetime(2026, 7, 10)}, "without a time zone"),
            ({"start": date(2026, 7, 10)}, "at a time and ends on a day|ends on a day"),
            ({"uid": " "}, "UID"),
            ({"method": "REPLY"}, "METHOD"),
            ({"description": "a\0"}, "DESCRIPTION"),
        ]
        for arguments, says in wrong:
            with self.subTest(arguments), self.assertRaisesRegex(HeaderError, says):
                Invitation(
                    **{
                        "start": at,
                        "end": at,
                        "summary": "x",
                        "organizer": "a@example.org",
                        "uid": "u@x.example",
                        **arguments,
                    }
                )
        with self.assertRaisesRegex(HeaderError, "asks somebody, and nobody is named"):
            Message(sender="a@example.org", invitation=STAY)


class Appendices(unittest.TestCase):
    def test_the_standards_own_messages(self) -> None:
        for case in APPENDICES["message"]:
            with self.subTest(case["section"]):
                raw = case["text"].replace("\n", "\r\n").encode()
                self.assertEqual({finding.rule for finding in audit(raw)}, set(case["rules"].split()))
                stored = Message.from_bytes(raw)
                self.assertEqual(list(stored.envelope.recipients), case["recipients"])
                self.assertEqual(bytes(stored), raw)

    def test_the_standards_own_values(self) -> None:
        head = "From: a@example.org\r\nSubject: {}\r\nContent-Type: text/plain\r\n\r\nx\r\n"
        for written, shown in APPENDICES["words"].items():
            self.assertEqual(Message.from_bytes(head.format(written).encode()).subject, shown, written)
        for written, shown in APPENDICES["parameters"].items():
            read = read_parameters(written)
            self.assertEqual((read.get("title"), read.departures), (shown, []))


BASES = list(bases().values())


class Hostile(unittest.TestCase):
    """Whatever is read, nothing fails."""

    def check(self, raw: bytes) -> Audit:
        found = audit(raw, submitted=True, smtputf8=False)
        for finding in found:
            assert finding.where is not None
            self.assertTrue(str(finding))
        try:
            self.assertIsInstance(bytes(Message.from_bytes(raw)), bytes)
        except (HeaderError, AddressError) as error:
            self.assertTrue(str(error))
        return found

    @generated(150)
    @given(st.data())
    def test_broken_messages(self, data: st.DataObject) -> None:
        raw = data.draw(st.sampled_from(BASES))
        for _ in range(data.draw(st.integers(1, 5))):
            at = data.draw(st.integers(0, len(raw)))
            size = data.draw(st.sampled_from([0, 1, 2, 20, 10_000]))
            piece = data.draw(
                st.one_of(
                    st.binary(max_size=8),
                    st.sampled_from(
                        [
                            b"\r\n",
                            b"\n",
                            b"\r",
                            b"\r\n\r\n",
                            b"--",
                            b"=?",
                            b"?=",
                            b"=",
                            b'"',
                            b"(",
                            b"<",
                            b">",
                            b":",
                            b";",
                            b" ",
                            b"\0",
                        ]
                    ),
                )
            )
            raw = raw[:at] + piece + raw[at + size :]
        self.check(raw)

    @generated(60)
    @given(st.binary(max_size=400))
    def test_any_octets(self, raw: bytes) -> None:
        self.check(raw)

    @slow
    def test_depth_number_and_size(self) -> None:
        head = b"From: a@example.org\r\nTo: b@example.org\r\nDate: Fri, 03 Jul 2026 10:15:00 +0100\r\nMIME-Version: 1.0\r\n"
        deep = head
        for level in range(3 * MOST_DEPTH):
            deep += b"Content-Type: multipart/mixed; boundary=b%dx\r\n\r\n--b%dx\r\n" % (level, level)
        self.assertIn("limits.too-deep", self.check(deep).counts)
        nested = head + b"Content-Type: message/rfc822\r\n\r\n" * (3 * MOST_DEPTH)
        self.assertIn("limits.too-deep", self.check(nested).counts)
        many = (
            head
            + b"Content-Type: multipart/mixed; boundary=x\r\n\r\n"
            + b"--x\r\n\r\n" * (MOST_PARTS + 10)
            + b"--x--\r\n"
        )
        self.assertEqual(len(self.check(many).tree.parts), MOST_PARTS - 1)
        twice = (
            head
            + b"Content-Type: multipart/mixed; boundary=x\r\n\r\n"
            + b"--x\r\nContent-Type: multipart/mixed; boundary=y\r\n\r\n--y--\r\n" * MOST_PARTS
        )
        self.assertIn("limits.too-many-parts", self.check(twice + b"--x--\r\n").counts)
        broken = b"X: " + b"a" * large(2_000_000) + b"\n" * large(300_000)
        found = self.check(broken)
        self.assertEqual(found.counts["lines.bare-lf-header"] + found.counts["lines.bare-lf-body"], large(300_000))
        self.assertLessEqual(len(found.findings), 100)
        for text in (
            b"(" * large(300_000),
            b'"' * large(300_001),
            b"=?a?b?" * large(50_000),
            b"<" * large(300_000),
            b"a," * large(150_000),
            b";a=b" * large(80_000),
            b"\r" * large(100_000),
        ):
            for name in (b"From", b"Date", b"Message-ID", b"Subject", b"Content-Type", b"References", b"X-Y"):
                self.check(head + name + b": " + text + b"\r\n\r\n")

    def test_names_of_charsets_that_are_none(self) -> None:
        for name in (b"a\0b", b"hex", b"\xe9", b"x" * 50):
            self.check(b"Subject: =?" + name + b"?Q?x?=\r\n\r\n")
            for page in (b"<meta charset=utf-8>\xe9", b"<meta charset=hex>\xe9"):
                self.check(b'Content-Type: text/html; charset="' + name + b'"\r\n\r\n' + page)

    def test_the_page_refers_in_every_way(self) -> None:
        page = PAGE.replace('<img src="cid:', "<img src=cid:").replace('" alt=""', " alt")
        raw = bytes(Message(**FIXED, text="x", html=page + "<p style=\"background:url('cid:none@x')\">"))
        self.assertEqual(
            [f.message for f in audit(raw) if f.rule == "related.no-part"][-1],
            "cid:none@x names no part: nothing is shown there",
        )


if __name__ == "__main__":
    unittest.main()
