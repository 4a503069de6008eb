"""Where in a TOML file each key and value stands, held against the standard library's reader."""

from __future__ import annotations

import tomllib
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from pribble.errors import DataError
from pribble.toml_file import TomlFile
from tests.support import generated, large

NAMES = st.sampled_from(["a", "b-c", "d_1", '"e f"', "'g.h'", '"\\u00e9\\""', "'#'"])
TEXTS = [
    '"x"',
    "'a \" b'",
    '"# no comment"',
    '"""a\n"" b\\"""c"""',
    "'''\n]'''",
    '"\\\\"',
    "''",
    '"""x"""""',
    "'''y''''",
]
BARE = ["1", "-2.5e3", "true", "2026-11-30", "07:32:00", "2026-11-30 07:32:00", "inf", "0xff"]
SPACE = st.sampled_from(["", " ", "\t"])
LINES = st.sampled_from(["\n", "\n\n", ' # c [x] "\n', "\t\n"])


@st.composite
def values(draw: st.DrawFn, depth: int = 0) -> str:
    kind = draw(st.integers(0, 5 if depth < 3 else 1))
    if kind < 2:
        return draw(st.sampled_from([*TEXTS, *BARE]))
    inner = draw(st.lists(values(depth + 1), max_size=3))
    if kind < 4:
        gaps = [draw(st.sampled_from(["", " ", "\n", " # ] c\n"])) for _ in inner]
        return "[" + ",".join(gap + value + gap for gap, value in zip(gaps, inner, strict=True)) + "]"
    names = draw(st.lists(NAMES, min_size=len(inner), max_size=len(inner), unique=True))
    return "{" + ", ".join(f"{name} = {value}" for name, value in zip(names, inner, strict=True)) + "}"


@st.composite
def documents(draw: st.DrawFn) -> str:
    text = ""
    for _ in range(draw(st.integers(0, 6))):
        kind = draw(st.integers(0, 4))
        dotted = ".".join(draw(st.lists(NAMES, min_size=1, max_size=3)))
        if kind == 0:
            text += f"[{dotted}]"
        elif kind == 1:
            text += f"[[ {dotted} ]]"
        else:
            text += f"{draw(SPACE)}{dotted}{draw(SPACE)}={draw(SPACE)}{draw(values())}"
        text += draw(LINES)
    return text


def ways(value: Any, way: tuple[str | int, ...] = ()) -> list[tuple[tuple[str | int, ...], Any]]:
    """The way to each value that is no table or array of tables, and the value."""
    if isinstance(value, dict):
        return [found for key, one in value.items() for found in ways(one, (*way, key))]
    if isinstance(value, list) and value and all(isinstance(one, dict) for one in value):
        return [found for number, one in enumerate(value) for found in ways(one, (*way, number))]
    return [(way, value)]


class Places(unittest.TestCase):
    @given(documents())
    @generated(600)
    def test_each_value_stands_where_it_is_said_to(self, text: str) -> None:
        try:
            expected = tomllib.loads(text)
        except tomllib.TOMLDecodeError:
            with self.assertRaises(DataError) as caught:
                TomlFile("x.toml", text)
            self.assertIn("x.toml:", str(caught.exception))
            return
        file = TomlFile("x.toml", text)
        for way, value in ways(expected):
            place = file.place(*way, at="value")
            self.assertEqual(repr(tomllib.loads(f"x = {text[place.start : place.end]}")["x"]), repr(value), way)
            if way and isinstance(way[-1], str):
                place = file.place(*way)
                name = f"{text[place.start : place.end]} = 1"
                (found,) = ways(tomllib.loads(name))
                self.assertEqual(found[0][-1], way[-1])

    def test_what_is_not_there(self) -> None:
        file = TomlFile("x.toml", "a = 1\n[t]\nb = 2\n[[e.m]]\nc = 3\n")
        for way, shown in (
            (("t", "x"), "[t]"),
            (("a", "x"), "a"),
            (("e", "m", 0, "x"), "[[e.m]]"),
            (("e", "m", 7), "[[e.m]]"),
            (("x",), ""),
        ):
            with self.subTest(way):
                place = file.place(*way)
                self.assertEqual(file.source.text[place.start : place.end], shown)

    def test_what_is_no_toml(self) -> None:
        for text, where in (("a = ", "1:5"), ("a = 1\nb = = 2", "2:5"), ("a = 1\r\n[x\r\n", "2:3"), ("=", "1:1")):
            with self.subTest(text), self.assertRaisesRegex(DataError, f"^x.toml:{where}: this is no TOML"):
                TomlFile("x.toml", text.replace("\r\n", "\n"))
        with self.assertRaisesRegex(DataError, "nested too deeply"):
            TomlFile("x.toml", "a = " + "[" * 100_000)

    def test_long_files(self) -> None:
        count = large(100_000)
        text = "".join(f"[[t]]\nk = 'v' # {n}\n" for n in range(count))
        self.assertEqual(TomlFile("x.toml", text).place("t", count - 1, "k").line, 2 * count)
        text = "k = [" + "1," * count + "]"
        self.assertEqual(TomlFile("x.toml", text).place("k", count - 1).column, 4 + 2 * count)


if __name__ == "__main__":
    unittest.main()
