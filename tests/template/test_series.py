"""Messages of one template: those of a series are those of single renderings."""

from __future__ import annotations

import gc
import unittest
import weakref
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from pribble import Attachment, PictureError, TemplateFolder
from pribble.demo import OFFICE
from tests.mime.mail import DATE
from tests.support import DEMO

ON_ITS_OWN: dict[str, Any] = {"date": DATE, "seed": b"1"}
COMMON: dict[str, dict[str, Any]] = {
    "nothing": {},
    "a file": {"attachments": [Attachment("terms.pdf", b"%PDF")]},
    "much": {
        "reply_to": "desk@skerrow.example",
        "language": "en",
        "headers": {"X-Berth": "B 14"},
        "cc": ["c@x.example"],
    },
    "signed": {"sign": lambda raw: b"X-Signed: %d\r\n" % len(raw)},
}
OWN: tuple[dict[str, Any], ...] = (
    {},
    {"subject": "Für Ænne"},
    {"cc": "ünal@example.org"},
    {"reply_to": "x@example.org"},
)


class Series(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = TemplateFolder(DEMO, locale="en_GB")

    def test_each_message_is_that_of_a_rendering(self) -> None:
        for name in self.folder:
            template = self.folder[name]
            for label, data in template.samples.items():
                for said, common in COMMON.items():
                    series = template.series(sender=OFFICE, **common)
                    for own in OWN:
                        with self.subTest(name, label=label, common=said, own=own):
                            given = {**common, **own, **ON_ITS_OWN}
                            expected = template.render(data).message(sender=OFFICE, to="ana@example.org", **given)
                            made = series.message(data, to="ana@example.org", **own, **ON_ITS_OWN)
                            self.assertEqual(bytes(made), bytes(expected))
                            self.assertEqual(made.html, expected.html)

    def test_nothing_is_left_for_the_collector(self) -> None:
        """A batch takes as much memory as one message: all of a message goes when nobody has it any more."""
        gc.disable()
        self.addCleanup(gc.enable)
        for name in self.folder:
            template = self.folder[name]
            for embed in ("cid", "data", "none"):
                with self.subTest(name, embed=embed):
                    rendering = template.render(template.samples[""], embed=embed)
                    message = rendering.message(sender=OFFICE, to="ana@example.org")
                    bytes(message)
                    known = weakref.ref(rendering), weakref.ref(message)
                    del rendering, message
                    self.assertEqual([one() for one in known], [None, None])

    def test_in_the_locale_of_each(self) -> None:
        template = self.folder["berth-confirmed"]
        data = template.samples[""]
        series = template.series(sender=OFFICE)
        made = series.message(data, to="ana@example.org", locale="de", timezone="Europe/Berlin")
        expected = template.render(data, locale="de", timezone="Europe/Berlin")
        self.assertEqual((made.subject, made.text), (expected.subject, expected.text))

    def test_what_no_message_takes(self) -> None:
        template = self.folder["gate-code"]
        refused: list[dict[str, Any]] = [{"html": "x"}, {"atachments": []}]
        for wrong in refused:
            self.assertRaisesRegex(TypeError, "message", template.series, sender=OFFICE, **wrong)
            series = template.series(sender=OFFICE)
            self.assertRaisesRegex(
                TypeError, "message", series.message, template.samples[""], to="a@x.example", **wrong
            )

    def test_a_picture_that_the_data_name_is_asked_for(self) -> None:
        folder = TemplateFolder(DEMO)
        template = type(folder["gate-code"]).from_text('<img src="{{ p }}" alt="">', folder=folder)
        series = template.series(sender=OFFICE)
        self.assertRaises(PictureError, series.message, {"p": "cid:nobody@x.example"}, to="a@x.example")

    def test_threads(self) -> None:
        template = self.folder["mooring-statement"]
        series = template.series(sender=OFFICE)
        samples = list(template.samples.values())

        def one(number: int) -> bytes:
            return bytes(series.message(samples[number % len(samples)], to=f"g{number % 9}@example.org", **ON_ITS_OWN))

        expected = [one(number) for number in range(9 * len(samples))]
        with ThreadPoolExecutor(8) as threads:
            for number, made in enumerate(threads.map(one, range(200))):
                self.assertEqual(made, expected[number % len(expected)])
