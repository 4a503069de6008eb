"""Messages of arbitrary Unicode: what the standard library's parser reads is what they were made of, the audit finds
nothing, and every form of a message is the same message."""

from __future__ import annotations

import email.message
import re
import tracemalloc
import unicodedata
import unittest
from datetime import datetime
from email import message_from_bytes, message_from_string, policy
from email.message import EmailMessage
from io import BytesIO

from hypothesis import given

from pribble import Address, Attachment, Group, Message, PribbleError, Rendering, Template, audit
from pribble.demo import defects
from pribble.mime.encoding import canonical_lines
from pribble.mime.flowed import flowed
from tests.mime.mail import FIXED, bases
from tests.mime.messages import Made, messages
from tests.plaintext import saying
from tests.support import generated, slow

FIXED_ENVELOPE = {name: value for name, value in FIXED.items() if name != "subject"}


def squeezed(text: str) -> str:
    """A text without white space, which readers fold and the standard library's one puts between encoded-words of a
    name."""
    return "".join(unicodedata.normalize("NFC", text).split())


def people(field: object) -> list[tuple[str | None, list[tuple[str, str]]]]:
    """The groups of an address field, each mailbox outside of one as a group without a name."""
    return [
        (
            group.display_name and squeezed(group.display_name),
            [mailbox(a.display_name, a.addr_spec) for a in group.addresses],
        )
        for group in getattr(field, "groups", ())
    ]


def meant(given: list[Address | Group]) -> list[tuple[str | None, list[tuple[str, str]]]]:
    """The same of what a message was made of."""
    return [
        (squeezed(one.name), [mailbox(a.name, a.addr) for a in one.members])
        if isinstance(one, Group)
        else (None, [mailbox(one.name, one.addr)])
        for one in given
    ]


def mailbox(name: str, addr: str) -> tuple[str, str]:
    local, _, domain = addr.rpartition("@")
    unquoted = re.sub(r"\\(.)", r"\1", local[1:-1]) if local.startswith('"') else local
    return squeezed(name), f"{squeezed(unquoted)}@{domain}"


def octets(part: email.message.Message | None) -> bytes:
    """The decoded body of a part that must be there."""
    content = part and part.get_payload(decode=True)
    assert isinstance(content, bytes)
    return content


class Generated(unittest.TestCase):
    maxDiff = None

    @generated(80, shrink=False)
    @given(messages())
    def test_the_standard_library_reads_what_was_meant(self, made: Made) -> None:
        given, raw = made.given, bytes(made.message)
        whole = message_from_bytes(raw, policy=policy.default)
        # Read as characters, raw UTF-8 is what it is (RFC 6532).
        back = message_from_string(raw.partition(b"\r\n\r\n")[0].decode("utf-8") + "\r\n\r\n", policy=policy.default)
        assert isinstance(back, EmailMessage) and isinstance(whole, EmailMessage)
        authors = given["authors"] or [given["sender"]]
        for name, expected in [
            ("From", authors),
            ("To", given["to"]),
            ("Cc", given["cc"]),
            ("Reply-To", given["reply_to"]),
        ]:
            if expected:
                self.assertEqual(people(back[name]), meant(expected), name)
        self.assertEqual(back["Sender"] is None, [a.addr for a in authors] == [given["sender"].addr])
        self.assertIsNone(back["Bcc"])
        self.assertEqual(squeezed(back["Subject"] or ""), squeezed(given["subject"] or ""))
        self.assertEqual(datetime.strptime(str(back["Date"]), "%a, %d %b %Y %H:%M:%S %z"), given["date"])
        self.assertEqual(back["In-Reply-To"], given["in_reply_to"])
        ids = given["references"]
        self.assertEqual(str(back["References"] or "").split(), ids if len(ids) <= 20 else [ids[0], *ids[-19:]])
        self.assertEqual(
            [squeezed(value) for name, value in back.items() if name in {n for n, _ in given["headers"]}],
            [squeezed(value) for _, value in given["headers"] if value.strip()],
        )
        self.check_bodies(whole, given)
        # Two things that it calls defects are none: RFC 6532 has raw UTF-8 in local parts, and a quoted local part is
        # not obsolete.
        found = [f"{name}: {defect}" for name, value in back.items() for defect in getattr(value, "defects", ())]
        found += defects(whole) if made.message.needs == frozenset() else []
        self.assertEqual([defect for defect in found if not re.search("local.part", defect)], [])

    def check_bodies(self, back: EmailMessage, given: dict[str, object]) -> None:
        text = str(given["text"])
        plain = back.get_body(("plain",))
        assert plain is not None
        flows = given["text_format"] == "flowed"
        body = plain.get_payload(decode=True)
        assert isinstance(body, bytes)
        expected = canonical_lines(flowed(text)[0] if flows else text)
        # A message ends with a line end, a part need not.
        self.assertEqual(body.removesuffix(b"\r\n"), expected.removesuffix(b"\r\n"))
        if "html" in given:
            page = back.get_body(("html",))
            assert page is not None
            self.assertEqual(page.get_payload(decode=True), canonical_lines(str(given["html"])))
        attached = [part for part in back.walk() if part.get_content_disposition() == "attachment"]
        files: list[Attachment] = given["attachments"]  # type: ignore[assignment]
        self.assertEqual([part.get_filename() for part in attached], [file.name for file in files])
        for part, file in zip(attached, files, strict=True):
            if part.get_content_maintype() != "message":
                content = canonical_lines(file.content) if isinstance(file.content, str) else file.content
                self.assertEqual(part.get_payload(decode=True), content)

    @generated(80, shrink=False)
    @given(messages())
    def test_the_audit_finds_nothing(self, made: Made) -> None:
        raw = bytes(made.message)
        found = [finding for finding in audit(raw, submitted=True) if finding.severity != "note"]
        self.assertEqual([f"{finding.rule}: {finding}" for finding in found], [])
        header = raw.partition(b"\r\n\r\n")[0]
        if "smtputf8" not in made.message.needs:
            self.assertTrue(header.isascii())
        self.assertEqual("8bit" in made.message.needs, b"\r\nContent-Transfer-Encoding: 8bit" in raw)

    @generated(80, shrink=False)
    @given(messages())
    def test_every_form_is_the_same_message(self, made: Made) -> None:
        message, raw = made.message, bytes(made.message)
        self.assertEqual(bytes(Message(**made.given)), raw)  # same input, date and seed: same bytes
        self.assertEqual(b"".join(message.chunks()), raw)
        self.assertEqual(message.to_email_message(bcc="drop").as_bytes(), raw)
        kept = message.to_email_message(bcc="keep").as_bytes()
        self.assertTrue(kept.endswith(raw))
        marked = f"Auto-Submitted: {message.auto_submitted}\r\n".encode()
        is_automatic = message.auto_submitted not in (None, "no")
        self.assertEqual(message.draft(), kept.replace(marked, b"", 1) if is_automatic else kept)
        stored = Message.from_bytes(kept)
        self.assertEqual(stored.draft(), message.draft())
        self.assertEqual(bytes(stored), raw)
        self.assertEqual(set(stored.envelope.recipients), set(message.envelope.recipients))
        self.assertEqual((stored.envelope.sender, stored.needs), (message.envelope.sender, message.needs))
        for name in ("date", "message_id", "in_reply_to", "html"):
            expected = getattr(message, name)
            expected = expected and str(expected).replace("\r\n", "\n") if name == "html" else expected
            got = getattr(stored, name)
            self.assertEqual(
                got and got.replace("\r", "\n") if name == "html" else got,
                expected and expected.replace("\r", "\n") if name == "html" else expected,
            )
        self.assertEqual(squeezed(stored.subject or ""), squeezed(message.subject or ""))
        # Built anew from what was read, the text has the same lines.
        again = Message(**stored.arguments())
        texts = [message_from_bytes(r, policy=policy.default).get_body(("plain",)) for r in (raw, bytes(again))]
        first, second = (octets(text).removesuffix(b"\r\n") for text in texts)
        self.assertEqual(first, second)


class Stored(unittest.TestCase):
    def test_one_that_was_written_before_can_be_changed(self) -> None:
        for name, raw in bases().items():
            with self.subTest(name):
                stored = Message.from_bytes(raw)
                again = Message.from_bytes(
                    bytes(Message(**stored.arguments() | {"subject": "Another", "bcc": "bo@example.net"}))
                )
                self.assertEqual((again.subject, again.text, again.html), ("Another", stored.text, stored.html))
                self.assertEqual(len(again.pictures), len(stored.pictures))
                self.assertEqual([a.name for a in again.attachments], [a.name for a in stored.attachments])
                anew = bytes(Message(**stored.arguments()))
                if name not in ("nested", "calendar"):
                    kinds = [part.type for _, part in audit(raw).tree.walk()]
                    self.assertEqual([part.type for _, part in audit(anew).tree.walk()], kinds)
                found = [f.rule for f in audit(anew) if f.severity != "note"]
                self.assertEqual(found, [])

    def test_blind_copies_in_many_fields(self) -> None:
        fields = b"".join(b"Bcc: a%d@example.org\r\nX-%d: y\r\n" % (n, n) for n in range(400))
        stored = Message.from_bytes(b"From: ana@example.org\r\n" + fields + b"\r\nx\r\n")
        self.assertEqual(len(stored.envelope.recipients), 400)
        self.assertEqual(bytes(stored).count(b"Bcc"), 0)
        self.assertEqual(bytes(stored).count(b"\r\nX-"), 400)


@slow
class Large(unittest.TestCase):
    def test_a_large_attachment_is_there_once(self) -> None:
        content = bytes(range(256)) * 120_000  # 30.7 MB
        message = Message(**FIXED, text="x", attachments=[Attachment("b.bin", content)])
        encoded = (len(content) + 2) // 3 * 4 * 78 // 76
        for make, most in (
            (lambda: bytes(message), 1.1 * encoded + 2e6),
            (lambda: sum(map(len, message.chunks())), 2e6),
        ):
            tracemalloc.start()
            try:
                made = make()
                _, peak = tracemalloc.get_traced_memory()
            finally:
                tracemalloc.stop()
            self.assertLess(peak, most)
            self.assertGreater(made if isinstance(made, int) else len(made), encoded - 100)

    def test_what_streams_is_what_is_written(self) -> None:
        for size in (0, 1, 56, 57, 58, 76, 58_368, 58_369, 200_000):
            content = b"\xfe" * size
            message = Message(**FIXED, text="x", attachments=[Attachment("b.bin", content), Attachment("c.bin", b"c")])
            sink = BytesIO()
            for chunk in message.chunks():
                sink.write(chunk)
            self.assertEqual(sink.getvalue(), bytes(message))
            part = next(p for p in message_from_bytes(bytes(message)).walk() if p.get_filename() == "b.bin")
            self.assertEqual(part.get_payload(decode=True), content)
            self.assertTrue(all(len(line) <= 76 for line in str(part.get_payload()).splitlines()))


class OnTheWire(unittest.TestCase):
    """What a page's program kept, and its own texts encoded once, are the page."""

    HARD = (
        "",
        ".",
        "From x",
        "x" * 200,
        "=",
        "a=3D",
        " ",
        "end ",
        "\t",
        "a\nFrom b\n.\n",
        "é" * 60,
        "👩‍👩‍👧",
        "100%b",
        "%",
        "a\rb",
        "a\r",
        "\u00a0",
    )
    PAGE = (
        "<p>{{ v }}</p>{{ v }}{{ v }}\n{{ for one in l: }}<i title='{{ one }}' {{ if c: }}class='é'{{ :if }}>{{ one }}</i>\n"
        "{{ v }}\n{{ :for }}<b>{{ if c: }} {{ v }} {{ :else: }}é %d %b{{ :if }}</b>\n<pre>{{ v }}\n</pre>"
    )
    PAGE += "<p>Words that need no encoding, so that base64 is longer.</p>\n" * 20

    def check(self, rendering: Rendering) -> None:
        html = rendering.html
        assert html is not None
        raw = bytes(rendering.message(**FIXED_ENVELOPE))
        page = next(part for part in message_from_bytes(raw).walk() if part.get_content_type() == "text/html")
        body = page.get_payload(decode=True)
        assert isinstance(body, bytes)
        self.assertEqual(body.removesuffix(b"\r\n"), canonical_lines(html).removesuffix(b"\r\n"))
        self.assertEqual([f"{f.rule}: {f}" for f in audit(raw) if f.rule.startswith(("encodings.", "lines."))], [])
        for line in raw.split(b"\r\n"):
            self.assertFalse(line.startswith(b"From ") or line == b".", line)

    def test_hard_values(self) -> None:
        for page in (self.PAGE, self.PAGE + "{{ v }}", "{{ preheader: }}{{ v }} é{{ :preheader }}<body>" + self.PAGE):
            template = Template.from_text(page)
            for value in self.HARD:
                for flag in (True, False):
                    with self.subTest(value=value, flag=flag):
                        self.check(template.render({"v": value, "l": ["é", value, "x"], "c": flag}))

    def test_what_travels_is_what_was_kept(self) -> None:
        rendering = Template.from_text(self.PAGE).render({"v": "é", "l": ["x"], "c": True})
        prepared = bytes(rendering.message(**FIXED_ENVELOPE))
        by_characters = bytes(Message(**FIXED_ENVELOPE, text=rendering.text, html=rendering.html))
        self.assertNotEqual(prepared, by_characters)  # soft breaks stand elsewhere
        pages = [octets(list(message_from_bytes(raw).walk())[2]) for raw in (prepared, by_characters)]
        self.assertEqual(*pages)

    def test_pages_name_the_charset_they_travel_in(self) -> None:
        for page, expected in [
            ('<meta charset="iso-8859-1">é', '<meta charset="utf-8">é'),
            (
                '<meta http-equiv=content-type content="text/html; charset=latin1">é',
                '<meta http-equiv=content-type content="text/html; charset=utf-8">é',
            ),
            ('<meta name="x" content="charset=latin1">é', '<meta name="x" content="charset=latin1">é'),
        ]:
            rendering = Template.from_text(page).render({})
            self.assertEqual(rendering.html, expected)
            found = {f.rule for f in audit(bytes(rendering.message(**FIXED_ENVELOPE)))}
            self.assertNotIn("types.meta", found)

    def test_generated_templates(self) -> None:
        @generated(80, shrink=False)
        @given(saying.templates(), saying.DATUM)
        def check(pair: saying.Pair, data: dict[str, object]) -> None:
            try:
                rendering = Template.from_text(pair[0] + "é").render(data)
            except PribbleError:
                return
            self.check(rendering)

        check()


if __name__ == "__main__":
    unittest.main()
