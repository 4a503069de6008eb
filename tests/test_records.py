"""Records against the standard library's data classes, and lazy regular expressions against its compiled ones."""

from __future__ import annotations

import copy
import dataclasses
import inspect
import pickle
import pprint
import re
import threading
import unittest
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any, ClassVar

from hypothesis import given
from hypothesis import strategies as st

from pribble import records
from pribble.records import record
from pribble.regexes import Regex, regex
from tests.support import generated

# One class in all its forms: what decorates it, and how its fields are said.
SOURCE = """
@decorated(ARGUMENTS)
class Berth:
    '''A berth.'''
    pier: str
    number: int = 14
    names: list[str] = field(default_factory=list)
    secret: str = field(default="s", repr=False)
    noise: float = field(default=0.5, compare=False)
    known: int = field(default=3, init=False)
    kinds: ClassVar[int] = 5

    def __post_init__(self) -> None:
        object.__setattr__(self, "known", self.number + 1)

    @property
    def label(self) -> str:
        return f"{self.pier} {self.number}"


@decorated(ARGUMENTS)
class Guest(Berth):
    nights: int = 2


@decorated(ARGUMENTS)
class Empty:
    pass


@decorated(ARGUMENTS)
class Single:
    value: float


@decorated(ARGUMENTS)
class Own:
    value: int

    def __eq__(self, other: object) -> bool:
        return True

    def __hash__(self) -> int:
        return 7

    def __repr__(self) -> str:
        return "mine"
"""
FORMS = (
    "frozen=True, slots=True",
    "slots=True",
    "frozen=True",
    "",
    "eq=False",
    "frozen=True, eq=False",
    "frozen=True, slots=True, eq=False",
)


def classes(arguments: str, decorated: Any, field: Any) -> dict[str, Any]:
    """The classes above, made by one or the other."""
    names: dict[str, Any] = {"decorated": decorated, "field": field, "__name__": __name__}
    exec("from __future__ import annotations\n" + SOURCE.replace("ARGUMENTS", arguments), names)
    return names


def told(call: Callable[[], Any]) -> str:
    """What a call gives, or the type of what it raises."""
    try:
        return repr(call())
    except Exception as error:
        return type(error).__name__


class Records(unittest.TestCase):
    def both(self, arguments: str) -> tuple[dict[str, Any], dict[str, Any]]:
        ours = classes(arguments, record, records.field)
        theirs = classes(arguments, dataclasses.dataclass, dataclasses.field)
        return ours, theirs

    def test_they_do_what_data_classes_do(self) -> None:
        tried = (
            "Berth('B')",
            "Berth('B', 3, ['x'])",
            "Berth(pier='B', secret='t')",
            "Berth()",
            "Berth('B', known=4)",
            "Berth('B', other=4)",
            "Berth('B').known, Berth('B').names is Berth('B').names, Berth.kinds, Berth('B').label",
            "Guest('B', nights=9)",
            "Guest('B') == Guest('B'), Guest('B') == Berth('B'), Berth('B') == Berth('C')",
            "Berth('B', noise=1) == Berth('B', noise=2), Berth('B', secret='x') == Berth('B')",
            "len({Single(1.0), Single(1)})",
            "Single(float('nan')) == Single(float('nan'))",
            "Single(1) == 1, Single(1) != Single(2)",
            "Empty(), Empty() == Empty(), Berth.__match_args__, Guest.__match_args__",
            "Own(1), Own(1) == 5, hash(Own(3))",
            "setattr(Single(1), 'value', 2)",
            "delattr(Single(1), 'value')",
            "setattr(type('Sub', (Single,), {})(3), 'value', 1)",
            "hasattr(Single(1), '__dict__'), Berth.__doc__, Berth.__qualname__, Berth.__module__",
        )
        for arguments in FORMS:
            ours, theirs = self.both(arguments)
            for written in tried:
                with self.subTest(arguments, written=written):
                    self.assertEqual(told(partial(eval, written, ours)), told(partial(eval, written, theirs)))

    def test_what_is_frozen_takes_nothing_new(self) -> None:
        # The standard library of 3.11 fails here with a `TypeError` of its own.
        self.assertRaises(dataclasses.FrozenInstanceError, setattr, Place("a", 1), "other", 2)
        more = type("More", (Place,), {})("a", 1)
        more.added = 3
        self.assertEqual((more.added, repr(more)), (3, "More(name='a', line=1)"))

    def test_the_standard_librarys_functions_take_them(self) -> None:
        for arguments in FORMS:
            ours, theirs = self.both(arguments)
            for name in ("Berth", "Guest", "Empty", "Single"):
                one, other = ours[name], theirs[name]
                with self.subTest(arguments, name=name):
                    self.assertEqual(str(inspect.signature(one)), str(inspect.signature(other)))
                    described = [
                        [(f.name, f.type, f.init, f.repr, f.compare, f.default) for f in dataclasses.fields(of)]
                        for of in (one, other)
                    ]
                    self.assertEqual(*described)
            mine, their = ours["Guest"]("B", 3), theirs["Guest"]("B", 3)
            self.assertEqual(dataclasses.asdict(mine), dataclasses.asdict(their))
            changed = records.replace(mine, number=8)
            self.assertEqual(repr(changed), repr(dataclasses.replace(their, number=8)))
            self.assertEqual(repr(dataclasses.replace(mine, number=8)), repr(changed))

    def test_a_data_class_may_stand_above_one(self) -> None:
        @dataclasses.dataclass(frozen=True)
        class Further(Place):
            column: int = 3

        one = Further("a", 1)
        self.assertEqual(
            (one, repr(one).rpartition(".")[2]), (Further("a", 1, 3), "Further(name='a', line=1, column=3)")
        )
        self.assertEqual(dataclasses.replace(one, line=2), Further("a", 2))
        self.assertRaises(dataclasses.FrozenInstanceError, setattr, one, "line", 5)

    def test_copies_and_other_processes(self) -> None:
        for place in (Place("a", 1), Mutable("a", [1])):
            for made in (copy.copy(place), copy.deepcopy(place), pickle.loads(pickle.dumps(place))):
                self.assertEqual(made, place)
        self.assertIsNot(copy.deepcopy(given := Mutable("a", [1])).items, given.items)

    def test_one_within_itself(self) -> None:
        one = Mutable("a", [])
        one.items.append(one)
        self.assertEqual(repr(one), "Mutable(name='a', items=[...])")

    def test_one_that_another_thread_is_writing(self) -> None:
        begun, asked = threading.Event(), threading.Event()

        class Waiting:
            def __repr__(self) -> str:
                begun.set()
                asked.wait(10)
                return "waited"

        one = Mutable("a", [Waiting()])
        with ThreadPoolExecutor() as pool:
            other = pool.submit(repr, one)
            self.assertTrue(begun.wait(10))
            asked.set()
            self.assertEqual(repr(one), other.result())

    def test_pretty_printing(self) -> None:
        long = Mutable("a" * 40, [Place("b" * 40, 2)])
        self.assertEqual(pprint.pformat({"one": long}), f"{{'one': {long!r}}}")

    def test_a_pattern_takes_them_apart(self) -> None:
        match Place("a", 2):
            case Place(name, line=line):
                self.assertEqual((name, line), ("a", 2))
            case _:
                self.fail()


@record(frozen=True, slots=True)
class Place:
    known: ClassVar[int] = 5  # the standard library finds what that is in this module
    name: str
    line: int


@record(slots=True)
class Mutable:
    name: str
    items: list[Any] = records.field(default_factory=list)


class Regexes(unittest.TestCase):
    @given(st.from_regex(r"[a-c]{0,6}", fullmatch=True), st.sampled_from(("a+", "(a)|b", "c*", "a(?P<n>b)?")))
    @generated(60)
    def test_they_do_what_compiled_ones_do(self, text: str, written: str) -> None:
        ours, theirs = regex(written), re.compile(written)
        for method in ("match", "fullmatch", "search"):
            found, expected = getattr(ours, method)(text), getattr(theirs, method)(text)
            self.assertEqual(
                found and (found.span(), found.groups()), expected and (expected.span(), expected.groups())
            )
        self.assertEqual(ours.findall(text), theirs.findall(text))
        self.assertEqual(ours.sub("-", text), theirs.sub("-", text))
        self.assertEqual(ours.subn("-", text), theirs.subn("-", text))
        self.assertEqual(ours.split(text), theirs.split(text))
        self.assertEqual([m.span() for m in ours.finditer(text)], [m.span() for m in theirs.finditer(text)])
        self.assertEqual((ours.pattern, ours.groups, ours.groupindex), (written, theirs.groups, theirs.groupindex))

    def test_what_is_none_says_so_when_it_is_used(self) -> None:
        one = regex("(")
        self.assertRaises(re.error, lambda: one.match(""))
        self.assertFalse(hasattr(regex("a"), "nothing"))
        self.assertIsInstance(one, Regex)
