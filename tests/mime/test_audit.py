"""The audit: each departure of the catalogue is found under its own rule, and what is right is left alone."""

from __future__ import annotations

import re
import tomllib
import unittest
from typing import ClassVar

from pribble import audit
from pribble.mime.audit.rules import RULES
from tests.mime.mail import bases
from tests.support import TEST_DATA

CASES = tomllib.loads((TEST_DATA / "audit.toml").read_text(encoding="utf-8"))
FILLING = re.compile("‹(?:x([0-9A-F]{2})|([0-9]+))›")


def filled(text: str) -> str:
    """What a case writes shortly, in octets, one character each."""
    octets = text.encode().decode("latin-1")
    short = re.compile(FILLING.pattern.encode().decode("latin-1"))
    return short.sub(lambda found: chr(int(found[1], 16)) if found[1] else "x" * int(found[2]), octets)


def changed(message: str, changes: list[str]) -> bytes:
    """A message with each change made, octets as characters; what is to be changed must be there."""
    for old, new in zip(changes[::2], changes[1::2], strict=True):
        old, new = filled(old), filled(new)
        if old == "^":
            message = new + message
        elif old == "$":
            message += new
        elif old not in message:
            raise AssertionError(f"{old!r} does not occur")
        else:
            message = message[: message.index(old)] if new == filled("✂") else message.replace(old, new)
    return message.encode("latin-1")


class Catalogue(unittest.TestCase):
    maxDiff = None

    bases: ClassVar[dict[str, str]]

    @classmethod
    def setUpClass(cls) -> None:
        cls.bases = {name: raw.decode("latin-1") for name, raw in bases().items()}
        cls.bases |= {name: text.replace("\n", "\r\n") for name, text in CASES["messages"].items()}

    def rules(self, raw: bytes, expected: str = "") -> set[str]:
        found = audit(raw, submitted=True, smtputf8="international.raw" not in expected)
        for finding in found:
            place = finding.where
            assert place is not None
            self.assertTrue(0 <= place.start <= place.end <= len(raw) + 1, finding.rule)
            self.assertTrue(finding.message and finding.fix and finding.reference.startswith("RFC "), finding.rule)
            self.assertIn(finding.message, str(finding))
        return {finding.rule for finding in found}

    def test_each_departure_is_found_under_its_own_rule(self) -> None:
        for what, base, rules, *changes in CASES["found"]:
            with self.subTest(f"{what} ({base})"):
                message = self.bases[base]
                before = self.rules(message.encode("latin-1")) if base not in CASES["messages"] else set()
                found, expected = self.rules(changed(message, changes), rules), set(rules.split())
                self.assertLessEqual(expected, found)
                self.assertEqual(found - before, expected - before)

    def test_what_is_right_is_left_alone(self) -> None:
        for what, base, rules, *changes in CASES["quiet"]:
            with self.subTest(f"{what} ({base})"):
                found = self.rules(changed(self.bases[base], changes))
                self.assertEqual(found, set(rules.split()))
                self.assertTrue(all(RULES[rule].severity == "note" for rule in found))

    def test_every_rule_has_a_case(self) -> None:
        shown = {rule for case in CASES["found"] for rule in case[2].split()} | {"limits.no-final-crlf"}
        elsewhere = {"limits.too-deep", "limits.too-many-parts"}
        elsewhere |= {"machines.dkim-broken", "machines.dkim-unknown"}  # in test_dkim.py: they need keys
        self.assertEqual(set(RULES) - shown, elsewhere)
        self.assertLessEqual(shown, set(RULES))
        self.assertTrue(all(re.fullmatch(r"[a-z]+\.[a-z0-9-]+", rule) for rule in RULES))


if __name__ == "__main__":
    unittest.main()
