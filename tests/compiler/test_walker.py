"""The compiled language against a second implementation that walks trees, on generated templates and data."""

from __future__ import annotations

import unittest
from decimal import Decimal
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble import PribbleError, Template, TemplateError
from tests.compiler.walker import Wrong, walk
from tests.support import generated

TEXTS = st.sampled_from(["", " ", "a", "b c", "<é>", "0", "x\ny", "&\"'"])
NUMBERS = st.one_of(
    st.integers(-9, 99), st.decimals(-9, 99, places=2), st.sampled_from([0, Decimal("0.00"), Decimal("1.50")])
)
VALUES = st.recursive(
    st.one_of(TEXTS, NUMBERS, st.booleans(), st.none()),
    lambda inner: st.one_of(
        st.lists(inner, max_size=3), st.dictionaries(st.sampled_from(["x", "y", "in"]), inner, max_size=3)
    ),
    max_leaves=6,
)
DATA = st.fixed_dictionaries(
    {
        "n": NUMBERS,
        "m": NUMBERS,
        "t": TEXTS,
        "xs": st.lists(NUMBERS, max_size=3),
        "r": st.fixed_dictionaries({"x": VALUES}),
    },
    optional={
        "a": VALUES,
        "b": VALUES,
        "ts": st.lists(TEXTS, max_size=3),
        "pairs": st.dictionaries(TEXTS, NUMBERS, max_size=3),
    },
)

LEAVES = st.sampled_from(
    [
        "n",
        "m",
        "t",
        "xs",
        "r.x",
        "a",
        "b",
        "a?",
        "b?",
        "r.x?",
        "r.y?",
        "a?.x",
        "a?.x?.y?",
        "xs[0]",
        "xs[9]?",
        "xs[n]?",
        'r["x"]',
        "all.n",
        "ts?",
        "v",
        '"s"',
        "'<'",
        "3",
        "1.5",
        "0",
        "none",
        "true",
        "false",
        '["a", n]',
        "[]",
    ]
)


def grown(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    operators = st.sampled_from(
        ["+", "-", "*", "/", "%", "==", "!=", "<", "<=", ">", ">=", "in", "not in", "and", "or", "else"]
    )
    return st.one_of(
        st.tuples(inner, operators, inner).map(lambda made: f"({made[0]}) {made[1]} ({made[2]})"),
        st.tuples(inner, st.sampled_from(["+", "*", "-"]), inner, st.sampled_from(["==", "and"]), inner).map(
            lambda m: f"({m[0]}) {m[1]} ({m[2]}) {m[3]} ({m[4]})"
        ),
        st.tuples(inner, inner, inner).map(lambda made: f"({made[0]}) if ({made[1]}) else ({made[2]})"),
        st.tuples(inner, inner).map(lambda made: f"({made[0]}) if ({made[1]})"),
        inner.map(lambda one: f"not ({one})"),
        inner.map(lambda one: f"-({one})"),
        st.tuples(inner, st.sampled_from(["upper", "trim", "count", "join", "first", "reverse", "sum"])).map(
            lambda made: f"({made[0]}) as {made[1]}"
        ),
    )


EXPRESSIONS = st.recursive(LEAVES, grown, max_leaves=6)


def blocks(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    return st.one_of(
        st.tuples(EXPRESSIONS, inner, inner).map(
            lambda m: f"{{{{ if {m[0]}: }}}}{m[1]}{{{{ :else: }}}}{m[2]}{{{{ :if }}}}"
        ),
        st.tuples(EXPRESSIONS, inner, EXPRESSIONS, inner).map(
            lambda m: f"{{{{ if {m[0]}: }}}}{m[1]}{{{{ :elif {m[2]}: }}}}\n{m[3]}\n{{{{ :if }}}}\n"
        ),
        st.tuples(st.sampled_from(["xs", "ts?", "a", "[n, m, t]", "a?"]), inner, inner).map(
            lambda m: (
                f"{{{{ for v at p in {m[0]}: }}}}{{{{ p.number }}}}{m[1]}{{{{ ';' if p.last }}}}\n{{{{ :else: }}}}{m[2]}{{{{ :for }}}}"
            )
        ),
        inner.map(lambda one: f"{{{{ for k, v in pairs?: }}}}{{{{ k }}}}{one}{{{{ :for }}}}"),
        st.tuples(EXPRESSIONS, inner).map(
            lambda m: f"{{{{ only html: }}}}{{{{ let w = {m[0]} }}}}{m[1]}{{{{ w else '' }}}}{{{{ :only }}}}".replace(
                "{{ let w", "{{ if true: }}\n{{ let w"
            ).replace("{{ :only }}", "{{ :if }}{{ :only }}")
        ),
        st.tuples(inner, inner).map("".join),
    )


TEMPLATES = st.recursive(
    st.one_of(
        EXPRESSIONS.map(lambda one: f"{{{{ {one} }}}}"), st.sampled_from(["text ", "<b>x</b>", "\n", "{ } }}", "  \n"])
    ),
    blocks,
    max_leaves=6,
)


class Walker(unittest.TestCase):
    @generated(600)
    @given(TEMPLATES, DATA)
    def test_compiled_equals_walked(self, text: str, data: dict[str, Any]) -> None:
        try:
            template = Template.from_text(text)
        except TemplateError:
            return  # both read it with the same parser; what it refuses is tested elsewhere
        try:
            wanted: str | None = walk(text, data)
        except Wrong:
            wanted = None
        try:
            made: str | None = template.render(data).html
        except PribbleError as error:
            made = None
            self.assertIsNotNone(error.place)
            self.assertTrue(template.problems(data))
        self.assertEqual(made, wanted)
        if made is not None:
            self.assertEqual(template.problems(data), [])


if __name__ == "__main__":
    unittest.main()
