"""Every place that a mark may have: what it accepts, how it shows it, and that no value changes what is around it."""

from __future__ import annotations

import json
import re
import tomllib
import unittest
from pathlib import Path
from typing import Any

from pribble import Template, UnsafeValue
from tests.support import Case, in_chromium, needs_chromium

PLACES = tomllib.loads((Path(__file__).parent / "data/places.toml").read_text(encoding="utf-8"))


class Places(Case):
    def test_each_place_shows_and_refuses(self) -> None:
        for row in PLACES["row"]:
            for value, expected in row["cases"]:
                with self.subTest(row["name"], value=value):
                    if expected.startswith("! "):
                        said = self.complaint(row["page"], {"v": value}).replace("\n  ", " (")
                        self.assertIn(expected[2:], said)
                    else:
                        self.assertEqual(self.html(row["page"], {"v": value}), expected)

    def test_where_no_mark_may_stand(self) -> None:
        for refused in PLACES["refused"]:
            for page, expected in refused["cases"]:
                with self.subTest(page):
                    lines = self.complaint(page, {"v": "x"}).split("\n")
                    hint = f" ({lines[3].strip()})" if len(lines) > 3 else ""
                    self.assertTrue((lines[0] + hint).startswith(f"t.html:{expected}"), (lines, expected))


if __name__ == "__main__":
    unittest.main()
