"""Messages, read back by the standard library's parser; and the encodings against slower second ones."""

from __future__ import annotations

import base64
import hashlib
import quopri
import re
import unicodedata
import unittest
from collections.abc import Callable
from datetime import UTC, datetime
from email import message_from_bytes, policy
from email.header import decode_header, make_header
from email.message import EmailMessage
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import Address, Attachment, HeaderError, Message, Picture
from pribble.demo import defects
from pribble.mime.encoding import base64_lines, canonical_lines, encoded_text, quoted_printable
from pribble.mime.header import FieldWriter, free_text
from pribble.mime.header_fields import address_field
from tests.mime.mail import DATE, PNG
from tests.mime.messages import BEYOND_ASCII, BODY, NAMES, TEXT
from tests.support import generated, slow

FIXED: dict[str, Any] = {
    "sender": "Berth Office <berths@skerrow.example>",
    "to": "ana@example.org",
    "date": DATE,
    "seed": b"1",
}


def read(raw: bytes) -> EmailMessage:
    return message_from_bytes(raw, policy=policy.default)


# Words that stand on the edge of what fits, of what is encoded and of what looks encoded.
WORDS = [
    "a",
    "Mooring",
    "£201.00",
    "Ünal",
    "漢字",
    "x" * 20,
    "y" * 60,
    "=?",
    "(a)",
    "é" * 12,
    "B:",
    "O'Hara",
    '"q"',
    "?",
    "_",
    "",
]


def told(call: Callable[..., bytes], *given: object) -> bytes | str:
    """What a call gives, or the words of its error."""
    try:
        return call(*given)
    except HeaderError as error:
        return str(error)


class Headers(unittest.TestCase):
    @generated(300)
    @given(TEXT)
    def test_a_subject_comes_back(self, subject: str) -> None:
        raw = bytes(Message(**FIXED, subject=subject, text="x"))
        message = read(raw)
        self.assertEqual(message["Subject"] or "", subject)
        self.assertEqual(list(defects(message)), [])
        self.assert_lines(raw)

    @generated(300)
    @given(TEXT)
    def test_a_display_name_comes_back(self, name: str) -> None:
        raw = bytes(Message(**{**FIXED, "to": [(name, "ana@example.org"), Address(name, "bo@example.net")]}, text="x"))
        message = read(raw)
        # White space is folded as receivers do when they show a name.  Names of several encoded-words are read by
        # the older of the parser's two ways: the newer puts spaces between them, against RFC 2047 6.2.
        shown = [" ".join(a.display_name.split()) for a in message["To"].addresses]
        field = message_from_bytes(raw, policy=policy.compat32)["To"]
        if field.count("=?utf-8?") > 2:
            shown = [
                " ".join(str(make_header(decode_header(phrase))).split())
                for phrase in re.split(r"<(?:ana|bo)@example\.\w+>,?", field)[:2]
            ]
        self.assertEqual(shown, [" ".join(name.split())] * 2)
        self.assertEqual([a.addr_spec for a in message["To"].addresses], ["ana@example.org", "bo@example.net"])
        self.assert_lines(raw)

    def assert_lines(self, raw: bytes) -> None:
        header = raw.partition(b"\r\n\r\n")[0]
        self.assertTrue(header.isascii())
        for line in header.split(b"\r\n"):
            self.assertTrue(line.strip(), "a continuation of white space only")
            words = re.findall(rb"=\?utf-8\?[BQ]\?[^? ]*\?=", line)
            self.assertTrue(all(len(word) <= 75 for word in words), line)
            self.assertLessEqual(len(line), 76 if words else 998, line)
            for word in words:
                self.decoded(word).decode("utf-8")  # no character is split

    @staticmethod
    def decoded(word: bytes) -> bytes:
        _, _, kind, payload, _ = word.split(b"?")
        return base64.b64decode(payload, validate=True) if kind == b"B" else quopri.decodestring(payload, header=True)

    def test_short_fields_are_not_touched(self) -> None:
        for text in ("Plain words, as they are.", "x" * 60, 'a (b) <c> "d" : ; @'):
            writer = FieldWriter("Subject")
            writer.text(text)
            self.assertEqual(writer.finished().decode(), f"Subject: {text}\r\n")

    def test_folding_is_between_words_at_78(self) -> None:
        writer = FieldWriter("Subject")
        writer.text(" ".join(["word"] * 60))
        lines = writer.finished().decode().split("\r\n")
        self.assertEqual(max(map(len, lines)), 78)
        self.assertTrue(all(line.startswith(" word") for line in lines[1:-1]))

    @given(st.lists(st.text("abc.,:", min_size=1, max_size=60), min_size=1, max_size=30))
    @generated(200)
    def test_words_are_folded_as_one_by_one(self, words: list[str]) -> None:
        writer = FieldWriter("Subject")
        for word in words:
            writer.word(word)
        self.assertEqual(free_text("Subject", " ".join(words)), writer.finished())

    @given(TEXT | st.lists(st.sampled_from(WORDS), min_size=1, max_size=9).map(" ".join))
    @generated(600)
    def test_usual_fields_are_as_a_writer_writes_them(self, text: str) -> None:
        writer = FieldWriter("Subject")
        writer.text(text)
        self.assertEqual(told(free_text, "Subject", text), told(writer.finished))
        writer = FieldWriter("To")
        if text:
            writer.phrase(text)
        writer.word("<ana@example.org>" if text else "ana@example.org")
        address = Address(text, "ana@example.org")
        self.assertEqual(told(address_field, "To", (address,), False), told(writer.finished))

    def test_a_token_that_cannot_be_folded(self) -> None:
        Message(**FIXED, text="x", references=[f"<{'a' * 900}@example.org>"])
        with self.assertRaises(HeaderError) as caught:
            Message(**FIXED, text="x", references=[f"<{'a' * 1000}@example.org>"])
        self.assertIn("References: a word too long for a line of 998 octets", str(caught.exception))

    @slow
    def test_a_subject_of_hundreds_of_kilobytes(self) -> None:
        raw = bytes(Message(**FIXED, subject="ü " * 200_000, text="x"))
        self.assertEqual(read(raw[:400] + b"\r\n\r\n").defects, [])

    def test_fields(self) -> None:
        message = Message(
            **FIXED,
            cc=["Bo <bo@example.net>", ("Caña, Dé", "ca@example.org")],
            bcc="secret@example.org",
            reply_to="desk@skerrow.example",
            subject="Hello",
            text="x",
            in_reply_to="<a@b.example>",
            references=[f"<{n}@b.example>" for n in range(30)],
            headers={"X-Berth": "B 14", "X-None": ""},
        )
        back = read(bytes(message))
        self.assertEqual(back["Date"], "Fri, 03 Jul 2026 10:15:00 +0100")
        self.assertEqual(back["Cc"].addresses[1].display_name, "Caña, Dé")
        self.assertEqual(len(back["References"].split()), 20)
        self.assertEqual((back["X-Berth"], back["X-None"], back["Bcc"], back["Sender"]), ("B 14", None, None, None))
        self.assertRegex(back["Message-ID"], r"^<[0-9a-f]{32}@skerrow\.example>$")
        self.assertEqual(
            message.envelope.recipients, ("ana@example.org", "bo@example.net", "ca@example.org", "secret@example.org")
        )
        self.assertEqual(message.envelope.sender, "berths@skerrow.example")
        self.assertNotIn(b"secret", bytes(message))
        self.assertEqual(Message(**FIXED, envelope_sender="").envelope.sender, "")
        self.assertEqual(
            read(bytes(Message(sender="a@x.example", bcc="b@x.example")))["To"], "undisclosed-recipients:;"
        )

    def test_dates_need_a_zone(self) -> None:
        self.assertIn(
            b"\r\nDate: Thu, 01 Jan 1970 00:00:00 +0000\r\n",
            bytes(Message(**{**FIXED, "date": datetime(1970, 1, 1, tzinfo=UTC)})),
        )
        with self.assertRaises(HeaderError):
            Message(**{**FIXED, "date": datetime(2026, 7, 3)})

    def test_smtputf8(self) -> None:
        message = Message(**{**FIXED, "to": "Ünal <ünal@example.org>"}, subject="grün", text="x")
        self.assertEqual(message.needs, {"smtputf8"})
        self.assertIn("To: Ünal <ünal@example.org>\r\nSubject: grün\r\n", bytes(message).decode())
        self.assertEqual(Message(**FIXED).needs, frozenset())

    def test_addresses_that_are_read(self) -> None:
        for written, name, addr in [
            ("ana@example.org", "", "ana@example.org"),
            ("<ana@example.org>", "", "ana@example.org"),
            ("Ana Bell <ana@example.org>", "Ana Bell", "ana@example.org"),
            ('"Bell, Ana" <ana@example.org>', "Bell, Ana", "ana@example.org"),
            (r'"A \"B\" \\ C" <ana@example.org>', r'A "B" \ C', "ana@example.org"),
            ("Ana B. Bell <ana@example.org>", "Ana B. Bell", "ana@example.org"),
            ("ana(comment (nested))@example.org (more)", "", "ana@example.org"),
            ('"ana bell"@example.org', "", '"ana bell"@example.org'),
            ('"ana"@example.org', "", "ana@example.org"),
            ("Ana <@relay.example:ana@example.org>", "Ana", "ana@example.org"),
            ("ana@[192.0.2.1]", "", "ana@[192.0.2.1]"),
            ("ana . bell @ example . org", "", "ana.bell@example.org"),
            ("ana@BÜCHER.example", "", "ana@xn--bcher-kva.example"),
            ("日本 <a@日本.example>", "日本", "a@xn--wgv71a.example"),
        ]:
            with self.subTest(written):
                made = Message(**{**FIXED, "to": written}).to[0]
                self.assertEqual((made.name, made.addr), (name, addr))


def quoted_printable_slowly(body: bytes) -> bytes:
    """RFC 2045 6.7 octet by octet, with the guards of MIME bodies: no line passes 75, and its "=" if it goes on."""
    lines = []
    for line in body.split(b"\r\n"):
        units = [bytes([b]) if (33 <= b <= 126 and b != 61) or b in b" \t" else b"=%02X" % b for b in line]
        if units and units[-1] in (b" ", b"\t"):
            units[-1] = b"=%02X" % units[-1][0]
        current = b""
        for index, unit in enumerate(units):
            starts_trap = b"".join(units[index : index + 5]) == b"From " or units[index:] == [b"."]
            if len(current) + len(unit) > 75:
                lines.append(current + b"=")
                current = b""
            current += b"=%02X" % unit[0] if starts_trap and not current else unit
        lines.append(current)
    return b"\r\n".join(lines)


class Encodings(unittest.TestCase):
    @generated(300)
    @given(BODY)
    def test_quoted_printable(self, text: str) -> None:
        body = canonical_lines(text)
        encoded = quoted_printable(text)
        self.assertEqual(
            quopri.decodestring(encoded.replace(b"\r\n", b"\n")).replace(b"\n", b"\r\n")
            if b"\n" not in body.replace(b"\r\n", b"")
            else body,
            body,
        )
        for line in encoded.split(b"\r\n"):
            self.assertLessEqual(len(line), 76)
            self.assertFalse(line.startswith(b"From ") or line == b"." or line.endswith((b" ", b"\t")), line)
            self.assertNotRegex(line, rb"=(?![0-9A-F]{2}|$)|[^\x20-\x7e\t]")

    @generated(300)
    @given(BODY)
    def test_quoted_printable_equals_a_slow_one(self, text: str) -> None:
        self.assertEqual(quoted_printable(text), quoted_printable_slowly(canonical_lines(text)))

    @given(st.binary(max_size=400))
    def test_base64(self, data: bytes) -> None:
        lines = base64_lines(data).split(b"\r\n")
        self.assertEqual(base64.b64decode(b"".join(lines), validate=True), data)
        self.assertTrue(all(len(line) == 76 for line in lines[:-1]) and len(lines[-1]) <= 76)

    def test_the_choice(self) -> None:
        for text, expected in [
            ("plain\n", "7bit"),
            ("", "7bit"),
            ("From me\n", "quoted-printable"),
            ("a\n.\nb", "quoted-printable"),
            ("x" * 998, "7bit"),
            ("x" * 999, "quoted-printable"),
            ("caf\u00e9", "quoted-printable"),
            ("日本語" * 10, "base64"),
            ("a\0b", "quoted-printable"),
        ]:
            with self.subTest(text[:20]):
                self.assertEqual(encoded_text(text)[0], expected)


class Whole(unittest.TestCase):
    @generated(150)
    @given(BODY, BODY, st.lists(st.tuples(NAMES, st.one_of(BODY, st.binary(max_size=200))), max_size=3), st.booleans())
    def test_everything_comes_back(
        self, text: str, html: str, files: list[tuple[str, str | bytes]], picture: bool
    ) -> None:
        logo = Picture.from_bytes(PNG)
        message = Message(
            **FIXED,
            text=text,
            text_format="fixed",
            html=html,
            pictures=[logo, logo] if picture else [],
            attachments=[Attachment(name, content) for name, content in files],
        )
        raw = bytes(message)
        self.assertTrue(raw.isascii())
        self.assertEqual(raw.replace(b"\r\n", b"").count(b"\n") + raw.replace(b"\r\n", b"").count(b"\r"), 0)
        self.assertLessEqual(max(map(len, raw.split(b"\r\n"))), 998)
        back = read(raw)
        self.assertEqual(list(defects(back)), [])
        for kind, written in (("plain", text), ("html", html)):
            part = back.get_body((kind,))
            assert part is not None
            self.assertEqual(part.get_payload(decode=True), canonical_lines(written))
        self.assertEqual(
            [p.get_content_type() for p in back.walk() if p.get_content_maintype() == "image"], ["image/png"] * picture
        )
        attached = list(back.iter_attachments()) if files else []
        self.assertEqual(
            [p.get_filename() for p in attached], [unicodedata.normalize("NFC", name).strip() for name, _ in files]
        )
        for part, (_, content) in zip(attached, files, strict=True):
            self.assertEqual(
                part.get_payload(decode=True), canonical_lines(content) if isinstance(content, str) else content
            )

    def test_the_shape(self) -> None:
        logo = Picture.from_bytes(PNG, "logo.png")
        full = Message(
            **FIXED, text="x", html='<img src="cid:…">', pictures=[logo], attachments=[Attachment("a.pdf", b"%PDF")]
        )
        raw = bytes(full)
        types = [part.get_content_type() for part in read(raw).walk()]
        self.assertEqual(
            types,
            [
                "multipart/mixed",
                "multipart/alternative",
                "text/plain",
                "multipart/related",
                "text/html",
                "image/png",
                "application/pdf",
            ],
        )
        self.assertIn(b'multipart/related; type="text/html";', raw)
        self.assertEqual(raw, b"".join(full.chunks()))
        self.assertEqual(
            raw,
            bytes(
                Message(
                    **FIXED,
                    text="x",
                    html='<img src="cid:…">',
                    pictures=[logo],
                    attachments=[Attachment("a.pdf", b"%PDF")],
                )
            ),
        )
        image = next(p for p in read(raw).walk() if p.get_content_type() == "image/png")
        self.assertEqual(
            (image["Content-ID"], image.get_content_disposition(), image.get_filename()),
            (f"<{logo.content_id('skerrow.example')}>", "inline", "logo.png"),
        )
        for sender, domain in (("a@büro.example", "xn--bro-hoa.example"), ("a@[192.0.2.1]", "pribble.invalid")):
            html = f'<img src="cid:{logo.content_id(domain)}" alt="">'
            made = Message(**{**FIXED, "sender": sender}, text="x", html=html, pictures=[logo])
            self.assertIn(f"Content-ID: <{logo.content_id(domain)}>".encode(), bytes(made))
        shapes: list[tuple[dict[str, Any], list[str]]] = [
            ({"text": "x"}, ["text/plain"]),
            ({"html": "x"}, ["text/html"]),
            ({}, ["text/plain"]),
            ({"text": "x", "html": "y"}, ["multipart/alternative", "text/plain", "text/html"]),
        ]
        for bodies, expected in shapes:
            self.assertEqual([p.get_content_type() for p in read(bytes(Message(**FIXED, **bodies))).walk()], expected)

    def test_boundaries_occur_in_no_body(self) -> None:
        raw = bytes(Message(**FIXED, text="--=_x", html="--=_y é", attachments=[Attachment("b.bin", b"--=_")]))
        for boundary in re.findall(rb'boundary="([^"]+)"', raw):
            self.assertEqual(
                len(re.findall(rb"--" + re.escape(boundary) + rb"(?:--)?\r\n", raw)), raw.count(boundary) - 1
            )

    def test_a_seed_gives_the_same_on_every_machine(self) -> None:
        raw = bytes(Message(**FIXED, text="a", html="b"))
        for pattern, what, size in ((rb"Message-ID: <(.+)@", b"message-id", 32), (rb'="=_(.+)"', b"alternative", 24)):
            (found,) = re.findall(pattern, raw)
            self.assertEqual(found.decode(), hashlib.sha256(b"1" + what).hexdigest()[:size])

    def test_file_names(self) -> None:
        for written, name in [
            ("../../etc/passwd", "passwd"),
            ("C:\\x\\y.pdf", "y.pdf"),
            ("a\u202egnp.exe", "agnp.exe"),
            ("a\r\nb", "ab"),
        ]:
            self.assertEqual(Attachment(written, b"").name, name)
        for nothing in ("", "/", "..", " "):
            with self.assertRaises(HeaderError):
                Attachment(nothing, b"")
        long = "ü" * 300 + ".pdf"
        back = read(bytes(Message(**FIXED, attachments=[Attachment(long, b"x"), Attachment("n" * 300 + ".txt", "x")])))
        self.assertEqual([p.get_filename() for p in back.iter_attachments()], [long, "n" * 300 + ".txt"])

    def test_the_standard_librarys_type(self) -> None:
        message = Message(**FIXED, subject="Grüße", text="x", html="<p>é", bcc="b@example.org")
        with self.assertRaises(HeaderError):
            message.to_email_message()
        handed = message.to_email_message(bcc="keep")
        self.assertIsInstance(handed, EmailMessage)
        self.assertEqual((handed["Subject"], handed["Bcc"]), ("Grüße", "b@example.org"))
        self.assertIsNone(message.to_email_message(bcc="drop")["Bcc"])
        page = handed.get_body(("html",))
        assert page is not None
        self.assertEqual(page.get_content().strip(), "<p>é")
        attached = Message(**FIXED, text="x", attachments=[Attachment("global.eml", BEYOND_ASCII)])
        self.assertEqual(attached.to_email_message().as_bytes(), bytes(attached))


if __name__ == "__main__":
    unittest.main()
