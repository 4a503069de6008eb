"""What makes a message cheaper changes nothing: pages, texts, bodies and errors are those of the plain path."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from dataclasses import replace
from email import message_from_bytes, policy
from itertools import product
from typing import Any

from hypothesis import given

from pribble import PribbleError, Template, TemplateFolder
from pribble.compiler.program import Optimisations
from pribble.demo import OFFICE
from tests.compiler import test_walker as walked
from tests.mime.mail import DATE
from tests.plaintext import saying
from tests.support import DEMO, generated

# All of them, none, and each by itself.
WAYS = [Optimisations(*switches) for switches in product((True, False), repeat=3) if sum(switches) != 2]


def folders(path: Any = None) -> Iterator[tuple[Optimisations, TemplateFolder]]:
    """A template folder for each way to compile; the first is the usual one."""
    for way in WAYS:
        folder = TemplateFolder(path, locale="en_GB") if path else TemplateFolder.nowhere()
        folder.world = replace(folder.world, optimisations=way)
        yield way, folder


def made(template: Template, data: Any) -> list[Any]:
    """What a template makes of data: its forms and the decoded bodies of its message, or its error and all problems."""
    try:
        rendering = template.render(data)
        forms = [rendering.subject, rendering.preheader, rendering.html, rendering.text, rendering.fragment()]
        message = rendering.message(sender=OFFICE, to="ana@example.org", date=DATE, seed=b"1")
        parts = message_from_bytes(bytes(message), policy=policy.default).walk()
        # Soft line breaks stand elsewhere on the wire, where its form was made of pieces (RFC 2045 6.7).
        return [*forms, *[part.get_payload(decode=True) for part in parts if not part.is_multipart()]]
    except PribbleError as error:
        return [str(error), *map(str, template.problems(data))]


class SameWithout(unittest.TestCase):
    def check(self, text: str, data: Any) -> None:
        results = []
        for way, folder in folders():
            try:
                results.append((way, made(Template.from_text(text, folder=folder), data)))
            except PribbleError as error:
                results.append((way, [str(error)]))
        for way, result in results[1:]:
            self.assertEqual(result, results[0][1], way)

    @generated(60)
    @given(saying.templates(), saying.DATUM)
    def test_pages(self, pair: saying.Pair, data: dict[str, Any]) -> None:
        self.check(pair[0], data)

    @generated(60)
    @given(walked.TEMPLATES, walked.DATA)
    def test_the_language(self, text: str, data: dict[str, Any]) -> None:
        self.check(text, data)

    def test_the_demo(self) -> None:
        usual: dict[str, list[Any]] = {}
        for way, folder in folders(DEMO):
            for name in folder:
                with self.subTest(name, way=way):
                    result = made(folder[name], folder[name].samples[""])
                    self.assertEqual(result, usual.setdefault(name, result))

    def test_they_are_switched(self) -> None:
        """Each switch does change how a template is compiled."""
        compiled = {way: folder["mooring-statement"]._variant("en_GB") for way, folder in folders(DEMO)}
        for way, one in compiled.items():
            self.assertEqual((one.reuses_html, one.wire_template is not None), (way.value_reuse, way.wire_form))
        usual, without = (len(compiled[Optimisations(on, False, False)].text.constants) for on in (True, False))
        self.assertNotEqual(usual, without)


if __name__ == "__main__":
    unittest.main()
