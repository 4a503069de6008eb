"""Whatever stands in any field of anything that messages are made of, the message has the fields and the parts it should.

Each way to make one is called with each of its parameters hostile.  The parameters are read from the signatures: one that
is new has no tame value here, and fails the test until it has.
"""

from __future__ import annotations

import inspect
import unittest
from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime
from email import message_from_bytes, policy
from functools import partial
from typing import Any

from pribble import Address, Attachment, Group, Invitation, Message, Picture, PribbleError, Template, TemplateFolder
from pribble.mime.base import BaseMessage
from pribble.mime.stored import ReadPicture
from tests.mime.mail import PNG
from tests.support import Case, slow

HOSTILE = [
    "\r\nX-Injected: yes", "\nX-Injected: yes", "\r", "\r\n\r\n", "\0", "\x1b[2J", "\x7f", "\x85", "\u2028", "\u202e", "\u2066",
    "\ud800", "../../", "\\", '"', "<", ">", ", eve@evil.example", "; eve@evil.example", ": eve@evil.example;", "(", "é",
    "=?utf-8?q?=0D=0AX-Injected:_yes?=", "%0D%0AX-Injected: yes", " ", "\t",
]  # fmt: skip

FIXED: dict[str, Any] = {"date": datetime(2026, 7, 3, tzinfo=UTC), "seed": b"s", "sender": "berths@skerrow.example"}
TAME: dict[str, Any] = {**FIXED, "to": "ana@example.org", "text": "x\n", "html": "<p>x"}
MESSAGE: dict[str, Any] = {
    **FIXED,
    "sender": ("Berth Office", "berths@skerrow.example"),
    "authors": ["Ana <ana@example.org>", ("Bo", "bo@example.net")],
    "to": [("Cy Öst", "cy@example.org"), "dee@example.org"],
    "cc": "Eda <eda@example.org>",
    "bcc": ["fay@example.org"],
    "reply_to": "office@skerrow.example",
    "envelope_sender": "bounces@skerrow.example",
    "subject": "Your berth",
    "text": "Berth B 14\n",
    "html": "<p>Berth B 14",
    "text_format": "fixed",
    "pictures": [Picture.from_bytes(PNG, "map.png")],
    "invitation": None,
    "attachments": [Attachment("a.txt", "x")],
    "headers": {"X-Berth": "B 14"},
    "message_id": "<a@skerrow.example>",
    "in_reply_to": "<b@skerrow.example>",
    "references": ["<c@skerrow.example>", "<d@skerrow.example>"],
    "importance": "high",
    "language": ["en", "de"],
    "unsubscribe": ["https://skerrow.example/off", "mailto:off@skerrow.example"],
    "one_click": False,
    "auto_submitted": "auto-generated",
    "sign": None,
    "id_domain": "skerrow.example",
}
INVITATION: dict[str, Any] = {
    "start": date(2026, 7, 3),
    "end": date(2026, 7, 4),
    "summary": "Berth B 14",
    "organizer": ("Office", "berths@skerrow.example"),
    "uid": "b-14@skerrow.example",
    "attendees": ["ana@example.org"],
    "location": "Pier B",
    "description": "Stay",
    "sequence": 0,
    "method": "REQUEST",
    "also_attached": True,
}
PICTURE = {"content": PNG, "type": "image/png", "name": "map.png", "width": 4, "height": 4, "density": 1.0}
FOUND = {"type": "image/png", "file_name": "map.png", "content": PNG, "id": "a@skerrow.example"}
RENDERED: dict[str, Any] = {"sender": "berths@skerrow.example", "to": ["Ana <ana@example.org>"], "pictures": []}


def shown(picture: Any) -> Message:
    return Message(**TAME, pictures=[picture])


# What is called, a tame value for each of its parameters, and how a message comes of what it returns.
WAYS: dict[str, tuple[Callable[..., Any], dict[str, Any], Callable[[Any], BaseMessage]]] = {
    "Message": (Message, MESSAGE, lambda made: made),
    "Address": (Address, {"name": "Ana", "addr": "ana@example.org"}, lambda made: Message(**{**TAME, "to": made})),
    "Group": (
        Group,
        {"name": "Crew", "members": ["Ana <ana@example.org>", ("Bo", "bo@example.net")]},
        lambda made: Message(**{**TAME, "to": made}),
    ),
    "Attachment": (
        Attachment,
        {"name": "a.txt", "content": "x", "type": "text/plain", "nested": "file"},
        lambda made: Message(**TAME, attachments=[made]),
    ),
    "Invitation": (Invitation, INVITATION, lambda made: Message(**TAME, invitation=made)),
    "Picture": (Picture, PICTURE, shown),
    "Picture.from_bytes": (Picture.from_bytes, {"content": PNG, "name": "map.png"}, shown),
    "a picture that was read": (ReadPicture, FOUND, shown),
    "Rendering.message": (
        Template.from_text("{{ subject: }}x{{ :subject }}<p>x").render({}).message,
        {**RENDERED, "envelope": {}},
        lambda made: made,
    ),
}


def changed(value: Any) -> Iterator[Any]:
    """A value with each of its texts made hostile in turn: before, within, behind."""
    if isinstance(value, str):
        for bad in HOSTILE:
            yield from (bad + value, value[:2] + bad + value[2:], value + bad)
    elif isinstance(value, list | tuple):
        for index, item in enumerate(value):
            for other in changed(item):
                yield type(value)((*value[:index], other, *value[index + 1 :]))
    elif isinstance(value, dict):
        for name, item in value.items():
            yield from ({**value, name: other} for other in changed(item))
            yield from ({other: item} for other in changed(name))


def structure(raw: bytes) -> list[tuple[str, list[str]]]:
    """Of each part its type and its fields; what may be there or not, by what a text is, left out."""
    found = []
    for part in message_from_bytes(raw, policy=policy.compat32).walk():
        names = {name.lower() for name, _ in part.items()} - {"content-transfer-encoding", "sender"}
        # A name of printable ASCII is one (RFC 5322 3.6.8), however odd.
        found.append((part.get_content_type(), sorted("x-berth" if "b" in n and "x" in n else n for n in names)))
    return found


def _used(way: Callable[..., Any], use: Callable[[Any], BaseMessage], given: dict[str, Any]) -> BaseMessage:
    return use(way(**given))


def _sent(template: Template, picture: Picture) -> BaseMessage:
    return template.render({"p": picture}).message(**FIXED, to="ana@example.org")


class Fields(Case):
    def refused(self, error: Exception) -> None:
        """An error of ours, or one that is documented, in words that a terminal can show."""
        self.assertIsInstance(error, PribbleError | TypeError | ValueError)
        self.assertNotIsInstance(error, UnicodeError)
        self.assertTrue(all(character.isprintable() or character == "\n" for character in str(error)), repr(str(error)))

    @slow
    def test_each_parameter_of_each_way(self) -> None:
        for called, (way, tame, made) in WAYS.items():
            parameters = [name for name in inspect.signature(way).parameters if name != "self"]
            self.assertEqual(sorted(parameters), sorted(tame), f"{called} has other parameters than are tried here")
            good = {name: value for name, value in tame.items() if name != "envelope"}
            message = made(way(**good))
            expected = structure(bytes(message))
            for name, value in good.items():
                for other in changed(value):
                    with self.subTest(called, parameter=name, value=repr(other)[:80]):
                        self.hold(partial(_used, way, made, {**good, name: other}), expected)

    def hold(self, make: Callable[[], BaseMessage], expected: Any) -> None:
        try:
            message = make()
            raw = bytes(message)
        except (PribbleError, TypeError, ValueError) as error:
            self.refused(error)
            return
        header = raw.partition(b"\r\n\r\n")[0]
        self.assertNotIn(b"evil.example>", header.replace(b'@evil.example"', b""))
        self.assertFalse([r for r in message.envelope.recipients if r.endswith("evil.example")])
        self.assertNotRegex(header, rb"(?i)(?:^|[\r\n])X-Injected")
        self.assertNotRegex(header, rb"[\0\x07\x1b\x7f]|\r(?!\n)|(?<!\r)\n")
        found = structure(raw)
        if [kind for kind, _ in found] == [kind for kind, _ in expected]:  # another name of a file, another type
            self.assertEqual(found, expected)
        else:
            self.assertEqual([fields for _, fields in found], [fields for _, fields in expected])

    def test_the_name_that_the_data_give_a_picture(self) -> None:
        template = Template.from_text('<p><img src="{{ p }}" alt="">', folder=TemplateFolder(self.folder().path))
        tame = template.render({"p": Picture.from_bytes(PNG, "map.png")})
        expected = structure(bytes(tame.message(**FIXED, to="ana@example.org")))
        for name in changed("map.png"):
            with self.subTest(name):
                picture = Picture.from_bytes(PNG, name)
                self.hold(partial(_sent, template, picture), expected)

    def test_no_name_reaches_another_message(self) -> None:
        """What is remembered of a picture is by its content, and holds nothing of who used it first."""
        template = Template.from_text('<p><img src="{{ p }}" width="2" height="2" alt="">')
        for name, travels in [
            ("first.png", "first.png"),
            ("a\r\nX-Injected: yes.png", "aX-Injected: yes.png"),
            (None, r"picture-[0-9a-f]{8}\.png"),
            ("second.png", "second.png"),
        ]:
            raw = bytes(template.render({"p": Picture.from_bytes(PNG, name)}).message(**FIXED, to="ana@example.org"))
            part = next(p for p in message_from_bytes(raw, policy=policy.default).walk() if p["Content-ID"])
            self.assertRegex(part.get_filename() or "", rf"\A{travels}\Z")

    def test_what_is_read_and_used_again(self) -> None:
        raw = bytes(shown(Picture.from_bytes(PNG, "map.png")))
        expected = structure(raw)
        for name in (
            "''a%0D%0AX-Injected: yes.png",
            "utf-8''a%0D%0AX-Injected:%20y%00",
            "utf-8''%E2%80%AEgnp.exe",
            "''../../",
        ):
            encoded = raw.replace(b"name=map.png", f"name*={name}".encode())
            with self.subTest(name):
                stored = Message.from_bytes(encoded)
                self.hold(partial(Message, **stored.arguments()), expected)
                self.hold(partial(Message, **TAME, pictures=stored.pictures), expected)

    def test_id_domains(self) -> None:
        for bad in HOSTILE:
            with self.subTest(bad), self.assertRaises(PribbleError):
                TemplateFolder(self.folder().path, id_domain=f"x{bad}y")


class Recipients(Case):
    """What a value looks like never decides what it means."""

    def test_a_bare_tuple_is_refused_where_several_may_stand(self) -> None:
        for pair in (("eve@evil.example", "bo@example.net"), ("Bo", "bo@example.net"), ("a@example.org",) * 3):
            for field in ("authors", "to", "cc", "bcc", "reply_to"):
                with self.subTest(field, pair=pair), self.assertRaisesRegex(TypeError, r"Address\(name, addr\).*list"):
                    Message(**{**TAME, field: pair})
            with self.assertRaises(TypeError):
                Group("Crew", pair)
            with self.assertRaises(TypeError):
                Template.from_text("<p>x").render({}).message(sender="a@example.org", to=pair)

    def test_pairs_in_a_list_and_of_one_mailbox(self) -> None:
        pair = ("eve@evil.example", "bo@example.net")
        message = Message(**{**TAME, "to": [pair, "cy@example.org"], "sender": pair, "cc": Group("Crew", [pair])})
        self.assertEqual(message.envelope.recipients, ("bo@example.net", "cy@example.org"))
        self.assertEqual((message.sender.name, message.sender.addr), pair)
        self.assertEqual((message.to[0].addr, message.cc[0].addr), ("bo@example.net", "bo@example.net"))
        self.assertEqual(message.cc.entries[0].name, "Crew")
        back = message_from_bytes(bytes(message), policy=policy.default)
        self.assertEqual([a.addr_spec for a in back["To"].addresses], ["bo@example.net", "cy@example.org"])
        self.assertEqual(back["From"].addresses[0].display_name, "eve@evil.example")

    def test_what_is_no_mailbox(self) -> None:
        for wrong in (
            5,
            b"a@example.org",
            {"a@example.org": 1},
            [5],
            [["Bo", "bo@example.net"]],
            [("a", "b", "c")],
            None,
        ):
            with self.subTest(wrong), self.assertRaisesRegex(TypeError, "^To: "):
                Message(**{**TAME, "to": wrong})
        with self.assertRaisesRegex(TypeError, "^sender is a string, an Address or a pair"):
            Message(**{**TAME, "sender": ["a@x.example", "b@x.example"]})

    def test_arguments_of_another_kind(self) -> None:
        """A `TypeError` names the argument, whatever it is given."""
        called = {"to": "To", "cc": "Cc", "bcc": "Bcc", "reply_to": "Reply-To"}
        others = {"importance", "auto_submitted"}  # refused by name
        for name in set(inspect.signature(Message).parameters) - others:
            for value in (5, 1.5, object(), [object()], [None], [5], lambda: 0):
                if name == "sign" and callable(value):
                    continue
                with self.subTest(name, value=value), self.assertRaises((TypeError, PribbleError)) as caught:
                    Message(**{**TAME, name: value})
                self.assertIn(called.get(name, name), str(caught.exception))

    def test_arguments_of_what_goes_into_one(self) -> None:
        """Nor does an `Attachment`, a `Picture`, an `Invitation` or a `TemplateFolder` take what is of no use later."""
        noon = datetime(2026, 7, 3, 12, tzinfo=UTC)
        called = {"organizer": "ORGANIZER", "attendees": "ATTENDEE"}  # the property that it is written as
        kinds: list[tuple[Callable[..., Any], dict[str, Any]]] = [
            (Attachment, {"name": "a.txt", "content": b"x"}),
            (Picture, {"content": b"x", "type": "image/png", "name": "a.png", "width": 1, "height": 1}),
            (
                Invitation,
                {"start": noon, "end": noon, "summary": "x", "organizer": "a@x.example", "uid": "u@x.example"},
            ),
            (TemplateFolder, {"path": self.folder().path}),
        ]
        for kind, given in kinds:
            kind(**given)
            for name in inspect.signature(kind).parameters:
                for value in (5j, object(), [object()], {"x": object()}):
                    if name == "common" and isinstance(value, dict):
                        continue  # a template tells when it uses one that it cannot
                    with self.subTest(kind.__name__, name=name), self.assertRaises((TypeError, ValueError)) as caught:
                        kind(**{**given, name: value})
                    self.assertIn(called.get(name, name), str(caught.exception))


class OnTheWire(unittest.TestCase):
    """Lines of what is sent on end in CRLF and in nothing else (RFC 5321 2.3.8)."""

    def test_line_ends_of_a_message_that_was_written_before(self) -> None:
        raw = bytes(Message(**{**TAME, "html": None}))
        self.assertEqual(bytes(Message.from_bytes(raw.replace(b"\r\n", b"\n"))), raw)
        mixed = raw.replace(b"\r\n", b"\n", 3)
        self.assertEqual(bytes(Message.from_bytes(mixed)), raw)
        for end in (b"\r.\r\n", b"\r", b"x\ry\r\n", b"\r\r\n"):
            with self.subTest(end), self.assertRaisesRegex(PribbleError, r"^line \d+: a carriage return without"):
                Message.from_bytes(raw + end)
        eight = raw.replace(b"7bit", b"8bit") + "é\n.\n".encode()
        self.assertNotRegex(bytes(Message.from_bytes(eight)), rb"(?<!\r)\n|\r(?!\n)")
        with self.assertRaisesRegex(PribbleError, "binary part, cannot travel"):
            Message.from_bytes(raw.replace(b"7bit", b"binary") + b"\n")


if __name__ == "__main__":
    unittest.main()
