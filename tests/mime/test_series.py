"""Messages of a series are what a `Message` with all their arguments is, and refuse what it refuses."""

from __future__ import annotations

import unittest
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from pribble import Attachment, Message
from pribble.mime import encoding, part
from pribble.mime.message_series import MessageSeries
from tests.mime.mail import CID, FIXED, LOGO, PAGE, TEXT
from tests.mime.messages import Made, messages
from tests.mime.test_rules import PLACES
from tests.support import generated

OF_EACH = ("to", "text", "html", "pictures")


def told(call: Any) -> tuple[str, str]:
    """What a call raises, or the bytes that it gives."""
    try:
        return "bytes", repr(bytes(call()))
    except Exception as error:
        return type(error).__name__, str(error)


class Series(unittest.TestCase):
    @given(messages(), st.data())
    @generated(120)
    def test_each_is_the_message_with_the_same_arguments(self, made: Made, data: st.DataObject) -> None:
        each = {name: made.given[name] for name in OF_EACH if name in made.given}
        rest = {name: value for name, value in made.given.items() if name not in OF_EACH}
        own = data.draw(
            st.sets(st.sampled_from(sorted(rest.keys() - {"sender", "id_domain"})))
            | st.just({"subject", "date", "seed"})
        )
        if own & {"unsubscribe", "one_click"}:  # the one says how the other works
            own |= {"unsubscribe", "one_click"} & rest.keys()
        common = {name: value for name, value in rest.items() if name not in own}
        if "invitation" in common:  # that needs somebody who is asked
            self.assertEqual(told(lambda: MessageSeries(**common))[0], told(lambda: Message(**common))[0])
            own, common = {*own, "invitation"}, {n: v for n, v in common.items() if n != "invitation"}
        series = MessageSeries(**common)
        for _ in range(2):
            one = series.message(**each, **{name: rest[name] for name in own})
            self.assertEqual(bytes(one), bytes(made.message))
            self.assertEqual(b"".join(one.chunks()), bytes(one))
            self.assertEqual((one.envelope, one.needs), (made.message.envelope, made.message.needs))
            self.assertEqual(one, made.message)
            self.assertEqual(one.draft(), made.message.draft())

    def test_what_a_message_refuses_is_refused_in_its_words(self) -> None:
        for name, (argument, _) in PLACES.items():
            for value in ("\r\nBcc: x@example.org", "\n", "\0", "\ud800", "\u202e"):
                common = {**FIXED, name: argument(value)}
                expected = told(lambda common=common: Message(**common))
                each = {key: common.pop(key) for key in ("to", "subject") if key in common}
                with self.subTest(name, value=value):
                    self.assertEqual(told(lambda c=common, e=each: MessageSeries(**c).message(**e)), expected)

    def test_arguments_of_another_kind(self) -> None:
        wrong: list[dict[str, Any]] = [
            {"to": 5},
            {"to": ("a", "b", "c")},
            {"text": b"x"},
            {"html": 1},
            {"subject": 2},
            {"date": "now"},
            {"date": FIXED["date"].replace(tzinfo=None)},
            {"seed": "x"},
            {"pictures": [1], "html": "x"},
            {"pictures": [1]},
            {"importance": "most"},
            {"one_click": True},
        ]
        fixed = {name: value for name, value in FIXED.items() if name != "to"}
        series = MessageSeries(**fixed)
        for one in wrong:
            with self.subTest(given=one):
                expected = told(lambda one=one: Message(**{**fixed, **one}))
                self.assertNotEqual(expected[0], "bytes")
                self.assertEqual(told(lambda one=one: series.message(**one)), expected)

    def test_a_file_for_all_is_encoded_once(self) -> None:
        terms = Attachment("terms.pdf", b"%PDF" * 20_000)
        with mock.patch.object(part, "base64_lines", wraps=encoding.base64_lines) as encoded:
            series = MessageSeries(**FIXED, attachments=[terms])
            made = [series.message(to=f"guest{number}@example.org", text=TEXT) for number in range(5)]
            sent = [bytes(one) for one in made]
        self.assertEqual(encoded.call_count, 1)
        self.assertEqual(Message.from_bytes(sent[3]).attachments[0].content, terms.content)
        self.assertEqual(
            sent[3], bytes(Message(**{**FIXED, "to": "guest3@example.org"}, text=TEXT, attachments=[terms]))
        )

    def test_each_has_an_id_and_a_seed_of_its_own(self) -> None:
        series = MessageSeries(sender=FIXED["sender"])
        made = [series.message(to="ana@example.org", text=TEXT) for _ in range(50)]
        self.assertEqual(len({one.message_id for one in made}), 50)
        self.assertEqual(len({bytes(one) for one in made}), 50)

    def test_threads(self) -> None:
        series = MessageSeries(sender=FIXED["sender"], date=FIXED["date"], id_domain="skerrow.example")

        def one(number: int) -> bytes:
            seed = str(number % 7).encode()
            return bytes(series.message(to="ana@example.org", html=PAGE, pictures=[LOGO], seed=seed))

        expected = [one(number) for number in range(7)]
        self.assertIn(CID.encode(), expected[0])
        with ThreadPoolExecutor(8) as threads:
            for number, made in enumerate(threads.map(one, range(400))):
                self.assertEqual(made, expected[number % 7])
