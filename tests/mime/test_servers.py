"""Real servers as judges: Dovecot's ENVELOPE and BODYSTRUCTURE (RFC 3501 7.4.2) say what was meant, and Postfix carries
what it is given unchanged."""

from __future__ import annotations

import difflib
import re
import time
import unittest
from email.header import decode_header, make_header
from imaplib import IMAP4
from typing import Any, ClassVar

from hypothesis import given

from pribble import Address, Group, Message, audit
from pribble.mime.audit import AuditedPart
from pribble.mime.base import BaseMessage
from tests.mime.mail import bases
from tests.mime.messages import Made, messages
from tests.mime.test_messages import squeezed
from tests.servers import dovecot, needs_server, postfix
from tests.support import generated, proof


def parsed(response: list[Any]) -> list[Any]:
    """The lists, strings and numbers of a FETCH response (RFC 3501 9), literals among them."""
    tokens: list[Any] = []
    for item in response:
        text, literal = item if isinstance(item, tuple) else (item, None)
        for found in re.finditer(rb'"((?:[^"\\]|\\.)*)"|([()])|([^\s()"]+)', text):
            if found[1] is not None:
                tokens.append(("text", re.sub(rb"\\(.)", rb"\1", found[1]).decode()))
            elif found[2]:
                tokens.append((found[2].decode(), ""))
            elif not (literal is not None and re.fullmatch(rb"\{\d+\}", found[3])):
                tokens.append(("text", None) if found[3] == b"NIL" else ("text", found[3].decode()))
        if literal is not None:
            tokens.append(("text", literal.decode()))
    stack: list[list[Any]] = [[]]
    for kind, value in tokens:
        if kind == "(":
            stack.append([])
        elif kind == ")":
            done = stack.pop()
            stack[-1].append(done)
        else:
            stack[-1].append(value)
    return stack[0]


def shown(text: str | None) -> str:
    return squeezed(str(make_header(decode_header(text)))) if text else ""


def people(given: list[Any] | None) -> list[Any]:
    """The mailboxes of an envelope's field, and the marks of groups: (name, None) opens one, (None, None) ends it."""
    return [
        (shown(name), f"{squeezed(local)}@{host}") if host is not None else (shown(local) if local else None, None)
        for name, _, local, host in given or []
    ]


def meant(given: list[Any]) -> list[Any]:
    found: list[Any] = []
    for one in given:
        members = one.members if isinstance(one, Group) else (one,)
        mailboxes = [(squeezed(a.name), f"{squeezed(unquoted(a))}@{a.domain}") for a in members]
        found += [(squeezed(one.name), None), *mailboxes, (None, None)] if isinstance(one, Group) else mailboxes
    return found


def unquoted(address: Address) -> str:
    local = address.addr.rpartition("@")[0]
    return re.sub(r"\\(.)", r"\1", local[1:-1]) if local.startswith('"') else local


def structure(part: list[Any]) -> list[Any]:
    """A BODYSTRUCTURE as types, encodings, sizes, ids and dispositions."""
    if isinstance(part[0], list):
        parts = [
            inner
            for inner in part
            if isinstance(inner, list) and inner and (isinstance(inner[0], list) or len(inner) > 6)
        ]
        return [f"multipart/{part[len(parts)]}", [structure(inner) for inner in parts]]
    kind = f"{part[0]}/{part[1]}"
    if kind == "message/rfc822":
        return [kind, part[5], int(part[6]), [structure(part[8])]]
    disposition = next(
        (
            item[0]
            for item in part[7:]
            if isinstance(item, list) and item and isinstance(item[0], str) and item[0] in ("inline", "attachment")
        ),
        "",
    )
    return [kind, part[5], int(part[6]), (part[3] or "").strip("<>"), disposition]


def expected(part: AuditedPart) -> list[Any]:
    if part.type.startswith("multipart/"):
        return [part.type, [expected(inner) for inner in part.parts]]
    if part.type == "message/rfc822":
        return [part.type, part.encoding, part.size, [expected(inner) for inner in part.parts]]
    return [part.type, part.encoding, part.size, part.content_id, part.disposition]


@proof
@needs_server("dovecot")
class InAMailbox(unittest.TestCase):
    maxDiff = None

    server: ClassVar[IMAP4]

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = cls.enterClassContext(dovecot())
        cls.server.select("INBOX")

    def fetched(self, raw: bytes) -> dict[str, Any]:
        """What the server says of a message that it took."""
        status, said = self.server.append("INBOX", "", "", raw)
        self.assertEqual(status, "OK", said)
        found = re.search(rb"APPENDUID \d+ (\d+)", said[0])
        assert found is not None
        status, response = self.server.uid("FETCH", found[1].decode(), "(RFC822.SIZE ENVELOPE BODYSTRUCTURE)")
        self.assertEqual(status, "OK")
        values = parsed(response)[1]
        return dict(zip(values[::2], values[1::2], strict=True))

    @generated(100, shrink=False)
    @given(messages())
    def test_its_envelope_and_structure_are_what_was_meant(self, made: Made) -> None:
        given, raw = made.given, bytes(made.message)
        said = self.fetched(raw)
        self.assertEqual(int(said["RFC822.SIZE"]), len(raw))
        date, subject, author, sender, reply_to, to, cc, bcc, in_reply_to, message_id = said["ENVELOPE"]
        authors = given["authors"] or [given["sender"]]
        self.assertEqual(f"\r\nDate: {date}\r\n".encode() in raw, True)
        self.assertEqual(shown(subject), squeezed(given["subject"] or ""))
        self.assertEqual((in_reply_to, message_id, bcc), (given["in_reply_to"], made.message.message_id, None))
        self.assertEqual(people(author), meant(authors))
        self.assertEqual(
            people(to), meant(given["to"]) or ([] if given["cc"] else [("undisclosed-recipients", None), (None, None)])
        )
        self.assertEqual(people(cc), meant(given["cc"]))
        if given["reply_to"]:
            self.assertEqual(people(reply_to), meant(given["reply_to"]))
        named = [a.addr for a in authors] != [given["sender"].addr]
        self.assertEqual(people(sender), meant([given["sender"]] if named else authors))
        self.assertEqual(structure(said["BODYSTRUCTURE"]), expected(audit(raw).tree))

    def test_every_shape(self) -> None:
        for name, raw in bases().items():
            with self.subTest(name):
                said = self.fetched(raw)
                self.assertEqual(structure(said["BODYSTRUCTURE"]), expected(audit(raw).tree))


@proof
@needs_server("postfix")
class OnTheWay(unittest.TestCase):
    def test_what_is_delivered_is_what_was_sent(self) -> None:
        sent: list[bytes] = []
        with postfix() as (server, folder):

            @generated(40, shrink=False)
            @given(messages())
            def send(made: Made) -> None:
                self.send(server, made.message, sent)

            send()
            for raw in bases().values():
                self.send(server, Message.from_bytes(raw), sent)
            for _ in range(300):
                if folder.is_dir() and len(list(folder.iterdir())) == len(sent):
                    break
                time.sleep(0.1)
            delivered = [path.read_bytes().replace(b"\n", b"\r\n") for path in folder.iterdir()]
        self.assertEqual(len(delivered), len(sent))
        for original in sent:
            # Nothing but the fields of its journey stands before it; a message that ends with it is longer.
            found = min((raw for raw in delivered if raw.endswith(b"\r\n" + original)), key=len, default=None)
            if found is None:
                self.fail("\n".join(self.differences(original, delivered)))
            delivered.remove(found)
            added = re.findall(rb"^[^\s:]+", found.removesuffix(original), re.MULTILINE)
            self.assertLessEqual(set(added), {b"Return-Path", b"X-Original-To", b"Delivered-To", b"Received"})

    def differences(self, original: bytes, delivered: list[bytes]) -> list[str]:
        """What became of a message on the way, line by line."""
        named = original[original.index(b"\r\nMessage-ID:") + 2 :].partition(b"\r\n")[0]
        found = [raw for raw in delivered if named in raw]
        if not found:
            return [f"nothing arrived with {named!r}"]
        before, after = ([repr(line) for line in raw.split(b"\r\n")] for raw in (original, found[0]))
        return list(difflib.unified_diff(before, after, "sent", "delivered", n=0, lineterm=""))

    def send(self, server: Any, message: BaseMessage, sent: list[bytes]) -> None:
        raw = bytes(message)
        options = ["BODY=8BITMIME"] if "8bit" in message.needs else []
        options += ["SMTPUTF8"] if "smtputf8" in message.needs else []
        self.assertEqual(server.sendmail("berths@skerrow.example", ["ana@example.org"], raw, options), {})
        sent.append(raw)


if __name__ == "__main__":
    unittest.main()
