"""Header fields of every form: written in it, refused where a value is not, read back by the standard library."""

from __future__ import annotations

import unittest
from email import message_from_bytes, policy
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import AddressError, Attachment, HeaderError, Invitation, Message, audit
from pribble.mime.fields import FIELDS, MESSAGE, OTHERS
from tests.mime.mail import FIXED, STAY
from tests.support import generated

LONG = "https://skerrow.example/archive/" + "a" * 900

# Of each form, values that are written as they are, and what a reader makes of those that are not ASCII.
WRITTEN = {
    "Archived-At": [
        "<https://skerrow.example/1>",
        f"<{LONG}>",
        "<https://a.example/1>, <mailto:a@example.org> (by mail)",
    ],
    "List-Post": ["NO", "<mailto:berths@skerrow.example>"],
    "List-Id": ["<berths.skerrow.example>", "Berth news <berths.skerrow.example>", "Möwen, gelb <a.example>"],
    "Keywords": ["berths", "berths, Möwen, wind and tide"],
    "Disposition-Notification-To": ["ana@example.org", "Zoë Ünal <zoe@example.org>, bo@example.net"],
    "Expires": ["Fri, 03 Jul 2026 10:15:00 +0100"],
    "Supersedes": ["<a@example.org> <b@example.org>"],
    "Original-Message-ID": ["<a@example.org>"],
    "User-Agent": ['Berths/1.0 (Skerrow Haven; "a b") x="c  d"'],
    "Sensitivity": ["private"],
    "X-Boat": ["Kittiwake", "Möwe aus Skerrow Haven"],
}
REFUSED = {
    "Archived-At": ["https://skerrow.example/", "<skerrow>", "<https://a.example/ b>", "<https://a.example/ä>"],
    "List-Archive": ["<https://a.example/>,", "<https://a.example/> <https://b.example/>", "see <https://a.example/>"],
    "List-Id": ["berths.skerrow.example", "<berths>", "<a b.example>", "<ä.example>", "Crew <a.example> of all"],
    "Keywords": ["a,,b", "a,", ","],
    "Disposition-Notification-To": ["Ana", "Crew: ana@example.org;", "a@example.org b@example.org", ","],
    "Expires": ["tomorrow", "2026-07-03", "Fri, 03 Jul 2026 10:15:00 GMT", "Fri, 31 Feb 2026 10:15:00 +0100"],
    "Supersedes": ["a@example.org", "<a@example.org>,<b@example.org>", "<a>"],
    "Original-Message-ID": ["<a@example.org> <b@example.org>"],
    "User-Agent": ['Berths "1.0', "Häfen/1.0", "=?utf-8?Q?Berths?="],
    "X-Boat": [" ", "\t \t", "\u00a0"],
}


def head(**given: Any) -> str:
    return bytes(Message(**{**FIXED, **given}, text="x")).partition(b"\r\n\r\n")[0].decode("ascii")


class Fields(unittest.TestCase):
    def test_each_form_is_written_and_read_back(self) -> None:
        for name, values in WRITTEN.items():
            for value in values:
                with self.subTest(name=name, value=value[:60]):
                    raw = bytes(Message(**FIXED, text="x", headers={name: value}))
                    read = str(message_from_bytes(raw, policy=policy.default)[name])
                    self.assertEqual(read.replace(" ,", ",").replace('"Möwen, gelb"', "Möwen, gelb"), value)
                    told = [finding for finding in audit(raw) if finding.rule != "lines.wide-token"]
                    self.assertEqual(told, [])
                    if value.isascii():
                        self.assertNotIn("=?", raw.decode("ascii"))

    def test_what_is_not_of_its_form_is_refused(self) -> None:
        for name, values in REFUSED.items():
            for value in values:
                with self.subTest(name=name, value=value), self.assertRaises((HeaderError, AddressError)) as caught:
                    Message(**FIXED, headers={name: value})
                self.assertTrue(str(caught.exception).startswith(f"{name}: "), str(caught.exception))
        self.assertNotIn("X-Boat", head(headers={"X-Boat": ""}))

    def test_a_word_is_never_broken_and_no_longer_than_a_line(self) -> None:
        self.assertIn(f"Archived-At: <{LONG}>", head(headers={"Archived-At": f"<{LONG}>"}))
        self.assertIn(f",\r\n <{LONG}>", head(headers={"List-Help": f"<mailto:a@example.org>, <{LONG}>"}))
        with self.assertRaisesRegex(HeaderError, "too long for a line of 998 octets"):
            Message(**FIXED, headers={"Archived-At": f"<{LONG}{'a' * 100}>"})
        quoted = "x " * 30 + '"' + "a b " * 20 + '"'
        self.assertIn('\r\n "' + "a b " * 20, head(headers={"User-Agent": quoted}))

    def test_who_may_set_a_field_and_how_often(self) -> None:
        for one in FIELDS.values():
            if one.setter != "headers":
                says = "on its way" if one.setter == OTHERS else "itself" if one.setter == MESSAGE else one.setter
                with self.assertRaisesRegex(HeaderError, f"(?i)^{one.name}: this field is not set by headers.*{says}"):
                    Message(**FIXED, headers={one.name.upper(): "x"})
            else:
                value = WRITTEN.get(one.name, ["<https://a.example/>"] if one.syntax == "uris" else None)
                if one.once and value is not None:
                    with self.assertRaisesRegex(HeaderError, f"once at most .{one.reference}"):
                        Message(**FIXED, headers=[(one.name, value[0]), (one.name.lower(), value[0])])
        self.assertEqual(head(headers=[("Comments", "one"), ("Comments", "two")]).count("Comments"), 2)

    def test_arguments_of_message_are_those_that_set_fields(self) -> None:
        for one in FIELDS.values():
            if one.setter not in (OTHERS, MESSAGE):
                self.assertIn(one.setter, Message.__init__.__annotations__, one.name)

    @generated(100)
    @given(st.text(max_size=80), st.sampled_from(sorted(WRITTEN)))
    def test_any_value_is_written_or_refused(self, value: str, name: str) -> None:
        try:
            raw = bytes(Message(**FIXED, text="x", headers={name: value}))
        except (HeaderError, AddressError) as error:
            self.assertTrue(str(error).startswith(f"{name}: "), str(error))
        else:
            self.assertFalse([f for f in audit(raw) if f.severity == "error"], raw)
            self.assertEqual(len(message_from_bytes(raw, policy=policy.default).keys()), 8 + bool(value))


class Names(unittest.TestCase):
    def test_what_looks_like_an_encoded_word_is_read_as_it_is(self) -> None:
        for name in ("=?utf-8?q?invoice.exe?=.pdf", "a =?x.pdf", "=?" + "b" * 300 + "?=.pdf", "=?ü?=.txt"):
            raw = bytes(Message(**FIXED, text="x", attachments=[Attachment(name, b"x")]))
            self.assertNotIn(b"=?", raw)
            part = next(message_from_bytes(raw, policy=policy.default).iter_attachments())
            self.assertEqual(part.get_filename(), name)
            self.assertEqual(audit(raw).findings, ())

    def test_addresses_in_calendars_are_uris(self) -> None:
        for address, written in [
            ('"a b%c"@example.org', "mailto:%22a%20b%25c%22@example.org"),
            ("a?b&c/d=e@example.org", "mailto:a%3Fb%26c%2Fd%3De@example.org"),
            ("grüße@example.org", "mailto:gr%C3%BC%C3%9Fe@example.org"),
            ("a@[IPv6:2001:db8::1]", "mailto:a@%5BIPv6%3A2001%3Adb8%3A%3A1%5D"),
            ("a+b@büro.example", "mailto:a+b@xn--bro-hoa.example"),
        ]:
            stay = Invitation(STAY.start, STAY.end, "Stay", address, "u@skerrow.example", method="PUBLISH")
            message = Message(sender="a@example.org", text="x", invitation=stay)
            part = message_from_bytes(bytes(message), policy=policy.default).get_body(("calendar",))
            assert part is not None
            calendar = part.get_content()
            self.assertIn(f"ORGANIZER:{written}\n", calendar.replace("\r\n", "\n").replace("\n ", ""))
            self.assertFalse([finding for finding in audit(bytes(message)) if finding.severity == "error"])


if __name__ == "__main__":
    unittest.main()
