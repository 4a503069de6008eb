"""Data that hurt: what they break is told, what is mended is not, and they are the same each time."""

from __future__ import annotations

import json
import shutil
import unittest
from typing import Any

from pribble import Template, TemplateFolder
from pribble.review import check
from pribble.review.strain import LONG_WORD, MOST, RIGHT_TO_LEFT, strains_of
from tests.review.mutating import DESIGNS, STRAINED
from tests.review.test_checks import PAGE
from tests.support import ROOT, Case, pribble, slow

TEMPLATES = ROOT / "tests/data/strained"


def found(templates: TemplateFolder | Template) -> dict[str, set[str]]:
    """What strained data bring about: the templates, by rule."""
    made: dict[str, set[str]] = {}
    for one in check(templates, strain=True):
        if one.severity != "note":
            assert one.where is not None
            made.setdefault(one.rule, set()).add(one.where.source.name.rpartition("/")[2].partition(".")[0])
    return made


class Weaknesses(Case):
    @slow
    def test_what_was_planted_is_found_and_what_is_mended_is_not(self) -> None:
        made = found(TemplateFolder(TEMPLATES))
        planted: dict[str, set[str]] = {}
        for one in STRAINED:
            planted.setdefault(one["rule"], set()).add(one["template"])
        planted["strain.lone"].add("columns")  # its table without a row
        self.assertEqual(made, planted)
        for one in STRAINED:
            with self.subTest(one["rule"], template=one["template"]):
                self.assertNotIn(one["rule"], found(self.mended(one)))

    def mended(self, one: dict[str, Any]) -> TemplateFolder:
        folder = self.folder()
        for path in TEMPLATES.glob(f"{one['template']}.*"):
            text = path.read_text(encoding="utf-8")
            if path.suffix == ".html":
                self.assertEqual(text.count(one["before"]), 1)
                text = text.replace(one["before"], one["after"])
            (folder.path / path.name).write_text(text, encoding="utf-8")
        return folder

    def test_the_summary_and_what_is_kept(self) -> None:
        folder = self.folder()
        shutil.copytree(TEMPLATES, folder.path / "templates")
        (folder.path / "kept").mkdir()
        given = ("check", "subject", "lone-heading", "--strain", "--keep", "kept")
        done = pribble(*given, cwd=folder.path)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertRegex(done.stdout, r"\d+ strained data tried\.")
        kept = sorted(path.name for path in (folder.path / "kept").iterdir())
        self.assertEqual(
            kept, ["lone-heading.sample-strain-visitors-empty.json", "subject.sample-strain-berth-left-out.json"]
        )
        sample = json.loads((folder.path / "kept" / kept[1]).read_text(encoding="utf-8"))
        self.assertEqual(sample, {"name": "Ana Bell", "from": "2026-07-03"})
        (folder.path / "kept" / kept[1]).write_text("mine", encoding="utf-8")
        self.assertEqual(pribble(*given, cwd=folder.path).returncode, 0)
        self.assertEqual((folder.path / "kept" / kept[1]).read_text(encoding="utf-8"), "mine")
        for wrong, says in (("nowhere", "there is no folder"), ("templates/subject.html", "there is no folder")):
            done = pribble("check", "subject", "--strain", "--keep", wrong, cwd=folder.path)
            self.assertEqual(done.returncode, 2)
            self.assertIn(says, done.stderr)
        self.assertIn("--keep", pribble("check", "subject", "--keep", "kept", cwd=folder.path).stderr)
        answer = json.loads(pribble("check", "subject", "--strain", "--json", cwd=folder.path).stdout)
        self.assertEqual(answer[0]["strained"]["subject"]["broke"], ["berth left out"])


class Made(Case):
    def kinds(self, text: str, data: Any) -> dict[str, Any]:
        made, left = strains_of(Template.from_text(f"{PAGE}{text}"), data)
        self.assertEqual(left, 0)
        return {one.what: one.data for one in made}

    def test_each_kind_is_made(self) -> None:
        made = self.kinds(
            "{{ note? }} {{ name }} {{ sum as number }} {{ day as date }} {{ for l in ls: }}{{ l.t }}{{ :for }}"
            "{{ if force >= 10: }}x{{ :elif wind == 'north': }}y{{ :if }}{{ 'a' if paid else 'b' }}",
            {"note": "Mind the gap", "name": "Ana Bell", "sum": 3, "day": "2026-07-03", "ls": [{"t": "Ropes"}, {"t": "Oil"}],
             "force": 8, "wind": "west", "paid": True},
        )  # fmt: skip
        self.assertNotIn("note", made["note left out"])
        self.assertEqual((made["ls empty"]["ls"], len(made["40 items in ls"]["ls"])), ([], 40))
        self.assertEqual(made["one item in ls"]["ls"], [{"t": "Ropes"}])
        self.assertEqual(made["one long word in name"]["name"], LONG_WORD)
        self.assertEqual(made["name from right to left"]["name"], RIGHT_TO_LEFT)
        self.assertEqual(made["one long word in ls[].t"]["ls"], [{"t": LONG_WORD}, {"t": "Oil"}])
        self.assertEqual([made[f"sum {value}"]["sum"] for value in (0, 1, -3, 1234567)], [0, 1, -3, 1234567])
        self.assertEqual(made["day on 2199-12-31"]["day"], "2199-12-31")
        self.assertEqual([made[f"force {value}"]["force"] for value in (9, 10, 11)], [9, 10, 11])
        self.assertEqual(made["wind north"]["wind"], "north")
        self.assertEqual(made["paid false"]["paid"], False)

    def test_they_are_the_same_each_time_and_bounded(self) -> None:
        template = Template.from_text(PAGE + "".join(f"{{{{ f{index} }}}}" for index in range(100)))
        data = {f"f{index}": "Some words" for index in range(100)}
        first, left = strains_of(template, data)
        self.assertEqual((first, left), strains_of(template, data))
        self.assertEqual((len(first), len(first) + left), (MOST, 400))
        self.assertEqual(data, {f"f{index}": "Some words" for index in range(100)})

    def test_without_a_sample_they_begin_from_a_skeleton(self) -> None:
        made = check(Template.from_text(f"{PAGE}<p>{{{{ name }}}} has words"), strain=True)
        self.assertGreater(made.strained["template"].tried, 3)

    @slow
    def test_sound_designs_are_tried_without_an_error(self) -> None:
        made = check(TemplateFolder(DESIGNS), strain=True)
        self.assertEqual([str(one) for one in made.of("error")], [])


if __name__ == "__main__":
    unittest.main()
