"""Bodies in JSON, read again by the standard library."""

from __future__ import annotations

import json
import unittest

from hypothesis import given
from hypothesis import strategies as st

from pribble.serving.json_body import json_body
from tests.support import generated

# What JSON escapes, what it need not, and what UTF-8 has not; a long text of them is escaped as a whole.
PIECES = ['"', "\\", "\\n", "\n", "\r", "\t", "\x00", "\x1f", "\x7f", "/", "é", "\u2028", "🌊", "\ud800", "text " * 100]
TEXTS = st.lists(st.sampled_from(PIECES) | st.characters(), max_size=30).map("".join)


class JsonBodies(unittest.TestCase):
    @generated(300)
    @given(st.dictionaries(TEXTS, TEXTS | st.none() | st.lists(TEXTS | st.integers(), max_size=3), max_size=4))
    def test_what_is_read_is_what_was_written(self, given: dict[str, object]) -> None:
        body = json_body(given)
        self.assertTrue(body.startswith(b"{") and body.endswith(b"}\n"))
        # In order, so that a member that is there twice is one too many; a lone surrogate is a question mark.
        asked = json.dumps(given, ensure_ascii=False).encode("utf-8", "replace")
        self.assertEqual(json.loads(body, object_pairs_hook=list), json.loads(asked, object_pairs_hook=list))

    def test_every_character_that_ends_or_breaks_a_text(self) -> None:
        for code in (*range(0x21), 0x22, 0x5C, 0x7F, 0x2028, 0xFFFE, 0x1F30A):
            for size in (1, 1000):
                with self.subTest(code=code, size=size):
                    text = f"{'a' * size}{chr(code)}"
                    body = json_body({"text": text})
                    self.assertEqual({"text": text}, json.loads(body))
                    self.assertFalse(any(octet < 0x20 for octet in body[:-1]))
