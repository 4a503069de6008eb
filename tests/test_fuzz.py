"""Mutated demo templates and data: whatever comes of them, it is a message or an error of ours that says where."""

from __future__ import annotations

import random
import unittest
from typing import Any

from pribble import HeaderError, LimitReached, PribbleError, Template, TemplateFolder
from tests.support import DEMO

SNIPPETS = """{{|}}|{{ if a?: }}|{{ :if }}|{{ :else: }}|{{ for x at p in charges?: }}|{{ :for }}|<|</|>|<td>|</table>|"|'|<!--|-->|{{ # x }}
<style>|</style>|as |money|(|)|:|?|else |{{ let q = 1 }}|{{ q }}|<img src="{{ a? }}">|<a href='|{{ only text: }}|{{ :only }}|\x00
{{ put "parts/button.html" }}|\U000f0000|&amp;|{{ locale "de": }}|{{ :locale }}|<p>|<li>|<title>|%|[0]|.x|{{ text: }}|{{ :text }}
<body>|</head>|{{ slot content }}|{{ "a" as html }}|{{ xs as sum("n") }}|{{ takes a }}""".replace(
    "\n", "|"
).split("|")
STRANGE: list[Any] = [None, True, [], {}, "x\ud800", "<b>\x01", 1e300, float("nan"), 10**50, "javascript:x", b"x", object(), -5,
                      "2026-13-01", {"name": "x"}, ["a"]]  # fmt: skip


class Fuzz(unittest.TestCase):
    def test_mutated_templates_and_data(self) -> None:
        folder = TemplateFolder(DEMO, locale="en_GB")
        texts = {
            name: (DEMO / f"{name}{'.txt' if name == 'gate-code' else '.html'}").read_text(encoding="utf-8")
            for name in folder
        }
        samples = {name: folder[name].samples[""] for name in folder}
        chance = random.Random(20260703)
        rendered = 0
        for _ in range(500):
            name = chance.choice(list(texts))
            text = self.mutated(texts[name], chance)
            try:
                template = Template.from_text(
                    text, name=f"{name}.txt" if name == "gate-code" else name, folder=folder
                )
                template.fields()
                data = self.strange(samples[name], chance)
                problems = template.problems(data)
                try:
                    rendering = template.render(data)
                except PribbleError as error:
                    self.assertIsNotNone(error.place, str(error))
                    self.assertTrue(problems or isinstance(error, LimitReached), str(error))
                    continue
                self.assertEqual(problems, [])
                bytes(rendering.message(sender="a@x.example", to="b@x.example"))
                rendered += 1
            except HeaderError:
                pass  # a subject or body that no message can have
            except PribbleError as error:
                self.assertTrue(str(error))
        self.assertGreater(rendered, 20)

    @staticmethod
    def mutated(text: str, chance: random.Random) -> str:
        for _ in range(chance.randint(0, 4)):
            at, other = chance.randrange(len(text)), chance.randrange(len(text))
            match chance.randrange(3):
                case 0:
                    text = text[:at] + chance.choice(SNIPPETS) + text[at:]
                case 1:
                    text = text[:at] + text[at + chance.randint(1, 30) :]
                case _:
                    text = text[:at] + text[other : other + chance.randint(1, 60)] + text[at:]
        return text

    def strange(self, data: Any, chance: random.Random) -> Any:
        if isinstance(data, dict):
            return {key: self.strange(value, chance) for key, value in data.items() if chance.random() > 0.03}
        if isinstance(data, list):
            return [self.strange(value, chance) for value in data]
        return data if chance.random() > 0.08 else chance.choice(STRANGE)


if __name__ == "__main__":
    unittest.main()
