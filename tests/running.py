"""Run the tests in parallel processes: ``python -m tests quick|test|proofs [--rooms R …] [--slowest N]``.

They are ordinary unittest cases, and ``python -m unittest discover -s tests -t .`` runs them all as well, one after
another.  Here each test is a piece of work for one of as many processes as there are processors; those marked as slow
come first, so that none of them is left for the end.
"""

from __future__ import annotations

import argparse
import io
import multiprocessing
import os
import time
import unittest
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from pathlib import Path

from tests.support import PROOF, QUICK, SLOW

STAGES = {"quick": (QUICK,), "test": (SLOW, QUICK), "proofs": (PROOF,)}
HERE = Path(__file__).parent


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of one test: its failures as texts, why it or parts of it were skipped, and the seconds it took."""

    name: str
    failures: tuple[str, ...]
    skipped: tuple[str, ...]
    seconds: float


@dataclass(slots=True)
class Report:
    """What became of all of them."""

    outcomes: list[Outcome] = field(default_factory=list)

    def add(self, outcome: Outcome) -> None:
        """Take in one, and show at once what failed."""
        self.outcomes.append(outcome)
        for failure in outcome.failures:
            print(f"FAILED {outcome.name}\n{failure}", flush=True)

    def close(self, stage: str, slowest: int, began: float) -> int:
        """Print what ran; returns the exit code."""
        for outcome in sorted(self.outcomes, key=lambda outcome: -outcome.seconds)[:slowest]:
            print(f"{outcome.seconds:6.1f} s  {outcome.name}")
        for reason, times in Counter(why for outcome in self.outcomes for why in outcome.skipped).items():
            print(f"skipped {times} × {reason}")
        failed = [outcome.name for outcome in self.outcomes if outcome.failures]
        if failed:
            print("failed:", *failed, sep="\n  ")
        skipped = sum(bool(outcome.skipped) for outcome in self.outcomes)
        passed = len(self.outcomes) - len(failed) - skipped
        print(f"{time.monotonic() - began:.0f} s")
        print(f"{stage}: {passed} passed, {len(failed)} failed, {skipped} skipped")
        return 1 if failed or not self.outcomes else 0


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m tests", description="Run the tests in parallel processes.")
    parser.add_argument("stage", choices=STAGES, help="quick: under a minute; test: all but the proofs")
    parser.add_argument("--rooms", nargs="*", default=(), metavar="R", help=f"only these: {', '.join(rooms())}")
    parser.add_argument("--slowest", type=int, default=0, metavar="N", help="say which N tests took longest")
    parser.add_argument("--processes", type=int, default=os.cpu_count(), metavar="N", help="how many (all processors)")
    options = parser.parse_args()
    if unknown := [room for room in options.rooms if room not in rooms()]:
        parser.error(f"there are no tests of {', '.join(unknown)}; there are {', '.join(rooms())}")
    if options.stage == "quick":
        os.environ["PRIBBLE_QUICK"] = "1"
    began, report = time.monotonic(), Report()
    names = chosen(STAGES[options.stage], options.rooms)
    spawning = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(options.processes, mp_context=spawning) as pool:
        running = {pool.submit(run, name): name for name in names}
        for future in as_completed(running):
            try:
                report.add(future.result())
            except BrokenProcessPool:
                report.add(Outcome(running[future], ("the process that ran it, or one beside it, has gone",), (), 0))
    return report.close(options.stage, options.slowest, began)


def rooms() -> list[str]:
    """The rooms that have tests: the folders here, and the modules beside them."""
    folders = [path.parent.name for path in HERE.glob("*/test_*.py")]
    return sorted({*folders, *(path.stem.removeprefix("test_") for path in HERE.glob("test_*.py"))})


def chosen(stages: tuple[str, ...], only: list[str]) -> list[str]:
    """The names of the tests of these stages, and rooms if any are given, those of an earlier stage first."""
    found: dict[str, list[str]] = {stage: [] for stage in stages}
    for path in sorted(HERE.rglob("test_*.py")):
        room = path.stem.removeprefix("test_") if path.parent == HERE else path.parent.name
        if only and room not in only:
            continue
        name = ".".join(("tests", *path.relative_to(HERE).with_suffix("").parts))
        for test in _cases(unittest.defaultTestLoader.loadTestsFromName(name)):
            method = getattr(test, test._testMethodName)
            stage = getattr(method, "stage", None) or getattr(type(test), "stage", QUICK)
            if stage in found:
                found[stage].append(test.id())
    return [name for stage in stages for name in found[stage]]


def _cases(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            yield from _cases(test)
        else:
            yield test


def run(name: str) -> Outcome:
    """Run one test, in a process of the pool."""
    began = time.monotonic()
    runner = unittest.TextTestRunner(stream=io.StringIO(), buffer=True)
    result = runner.run(unittest.defaultTestLoader.loadTestsFromName(name))
    failures = [text for _, text in [*result.failures, *result.errors]]
    failures += [f"{test.id()} passes, and was expected to fail" for test in result.unexpectedSuccesses]
    return Outcome(name, tuple(failures), tuple(why for _, why in result.skipped), time.monotonic() - began)
