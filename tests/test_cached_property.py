"""Kept attributes: computed once, the same for all threads, and like those of the standard library."""

from __future__ import annotations

import copy
import functools
import threading
import unittest
from concurrent.futures import ThreadPoolExecutor

from pribble.cached_property import cached_property


class Counted:
    """Counts how often its attribute is computed; two computations wait for each other."""

    def __init__(self, together: int = 1) -> None:
        self.computed = 0
        self.barrier = threading.Barrier(together)

    @cached_property
    def thing(self) -> list[int]:
        """What it computes."""
        self.barrier.wait(5)
        self.computed += 1
        return []


class CachedProperty(unittest.TestCase):
    def test_it_is_computed_once(self) -> None:
        one = Counted()
        self.assertIs(one.thing, one.thing)
        self.assertEqual((one.computed, vars(one)["thing"]), (1, []))

    def test_it_is_that_of_the_standard_library_to_who_looks(self) -> None:
        self.assertEqual(vars(Counted)["thing"].__doc__, "What it computes.")
        self.assertIs(Counted.thing, vars(Counted)["thing"])
        self.assertEqual(type(vars(Counted)["thing"]).__name__, functools.cached_property.__name__)

    def test_a_copy_has_what_was_computed(self) -> None:
        one = Counted()
        one.thing.append(1)
        two = copy.copy(one)
        self.assertIs(two.thing, one.thing)

    def test_two_threads_that_compute_at_once_get_one_value(self) -> None:
        one = Counted(together=2)
        with ThreadPoolExecutor(2) as pool:
            first, second = pool.map(lambda _: one.thing, range(2))
        self.assertIs(first, second)
        self.assertEqual(one.computed, 2)


if __name__ == "__main__":
    unittest.main()
