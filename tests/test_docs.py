"""What the documentation shows is run: the examples of docs/language.md and places.md with the demo's data."""

from __future__ import annotations

import re
import unittest

from tools.mime_tables import PAGE, written

from pribble import PribbleError, Template, TemplateFolder
from pribble.mime.audit.rules import RULES
from pribble.mime.fields import FIELDS
from tests.support import DEMO, ROOT, Case


class Documentation(Case):
    def test_examples_of_the_language_and_its_places(self) -> None:
        folder = TemplateFolder(DEMO, locale="en_GB", timezone="Europe/London")
        data = {**folder["mooring-statement"].samples[""], **folder["berth-confirmed"].samples[""]}
        page = "".join((ROOT / f"docs/{name}.md").read_text(encoding="utf-8") for name in ("language", "places"))
        examples = re.findall(r"```pribble\n(.*?)```", page, re.DOTALL)
        self.assertGreater(len(examples), 14)
        for example in examples:
            for template, kind, expected in re.findall(r"(.*?)\n(→|error:) ?(.*)\n", example):
                with self.subTest(template):
                    if kind == "error:":
                        with self.assertRaises(PribbleError) as caught:
                            Template.from_text(template, folder=folder).render(data)
                        error = caught.exception  # not as a string: its layout hangs on the folder's path
                        self.assertIn(expected, f"{error.problem} ({error.hint})")
                    else:
                        made = str(Template.from_text(template, folder=folder).render(data).html)
                        self.assertEqual(re.sub("[\u00a0\u202f]", " ", made).rstrip(), expected)

    def test_every_rule_of_the_audit_and_every_field_is_written_up(self) -> None:
        self.assertEqual(PAGE.read_text(encoding="utf-8"), written(PAGE.read_text(encoding="utf-8")))
        page = PAGE.read_text(encoding="utf-8")
        self.assertEqual(re.findall(r"^\| `(\S+)` \| \w+ \| ", page, re.MULTILINE), list(RULES))
        self.assertEqual(
            re.findall(r"^\| ([A-Z][\w-]+) \| ", page, re.MULTILINE), [one.name for one in FIELDS.values()]
        )

    def test_links_lead_somewhere(self) -> None:
        for path in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
            for link in re.findall(r"\]\(([^)#]+)\)", path.read_text(encoding="utf-8")):
                self.assertTrue((path.parent / link).exists(), f"{path.name}: {link}")


if __name__ == "__main__":
    unittest.main()
