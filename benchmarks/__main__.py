"""``python -m benchmarks [B1 …] [--json]``: each budget with what was measured; exits 1 where one is missed."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Iterator
from dataclasses import asdict, dataclass
from functools import cache

from benchmarks import batches, checking, delivering, hostile, serving, starts, styles
from benchmarks.links import Links
from benchmarks.measure import Ratio, compared
from benchmarks.messages import Album, Messages
from benchmarks.statement import Statement

# So many messages are made one after the other where they are those of a batch; one by itself finds caches cold.
BATCH = 20
MORE_IS_BETTER = ("× as long", "× as fast")


@dataclass(frozen=True, slots=True)
class Row:
    """What was measured for one budget: in the `unit` "×", "ms", or one of `MORE_IS_BETTER`."""

    name: str
    what: str
    measured: float
    least: float | None
    unit: str
    budget: float
    detail: str

    @property
    def met(self) -> bool:
        """Whether the budget is kept."""
        return self.measured >= self.budget if self.unit in MORE_IS_BETTER else self.measured <= self.budget

    def __str__(self) -> str:
        least = f", least {self.least:.2f}" if self.least is not None else ""
        bound = "at least" if self.unit in MORE_IS_BETTER else "at most"
        verdict = "met" if self.met else "NOT MET"
        measured = f"{self.measured:.2f} {self.unit}{least} ({bound} {self.budget:g}; {self.detail})"
        return f"{self.name:<4} {self.what}: {measured}  {verdict}"


def main() -> int:
    parser = argparse.ArgumentParser(prog="python -m benchmarks")
    parser.add_argument("names", nargs="*", metavar="B1", help=f"only these: {', '.join(ROWS)}")
    parser.add_argument("--json", action="store_true", help="the rows as JSON")
    options = parser.parse_args()
    if unknown := set(options.names) - set(ROWS):
        parser.error(f"there is no {', '.join(sorted(unknown))}")
    made = []
    for name in options.names or ROWS:
        for row in ROWS[name]():
            made.append(row)
            if not options.json:
                print(row, flush=True)
    if options.json:
        print(json.dumps([{**asdict(row), "met": row.met} for row in made], ensure_ascii=False, indent=1))
    return 0 if all(row.met for row in made) else 1


statement, links = cache(Statement), cache(Links)


@cache
def messages() -> Messages:
    return Messages(statement())


def _ratio(name: str, what: str, budget: float, ratio: Ratio, unit: str = "×") -> Iterator[Row]:
    detail = f"{ratio.first * 1e6:,.0f} against {ratio.second * 1e6:,.0f} µs"
    yield Row(name, what, ratio.median, ratio.least, unit, budget, detail)


def b1() -> Iterator[Row]:
    page = statement()
    ratio = compared(page.html, page.html_by_hand, page.recipients)
    yield from _ratio("B1", "the HTML of one statement against by hand", 1.15, ratio)


def b1u() -> Iterator[Row]:
    page = links()
    ratio = compared(page.html, page.html_by_hand, page.recipients)
    yield from _ratio("B1u", "twenty whole addresses against by hand", 1.5, ratio)


def b2() -> Iterator[Row]:
    page = statement()
    ratio = compared(page.text, page.html, page.recipients, prepare=page.kept)
    yield from _ratio("B2", "its derived plain text against its HTML", 1.3, ratio)


def b3() -> Iterator[Row]:
    made = messages()
    ratio = compared(made.written, made.floor, made.renderings, prepare=made.fresh)
    yield from _ratio("B3", "bytes from a rendering against the floor", 1.3, ratio)
    ratio = compared(made.written_in_a_batch, made.floor, made.renderings, together=BATCH, prepare=made.fresh)
    yield from _ratio("B3", "the same in a batch", 0.9, ratio)


def b4() -> Iterator[Row]:
    made = messages()
    ratio = compared(made.whole, made.floors, made.renderings)
    yield from _ratio("B4", "bytes from the data against the three floors", 1.4, ratio)
    ratio = compared(made.whole_in_a_batch, made.floors, made.renderings, together=BATCH)
    yield from _ratio("B4", "the same in a batch", 1.1, ratio)


def b4s() -> Iterator[Row]:
    made = messages()
    faster = compared(made.by_the_library, made.written, made.renderings, rounds=60)
    yield from _ratio("B4s", "the standard library against ours, from a rendering", 20, faster, "× as long")
    faster = compared(made.by_the_library, made.written_in_a_batch, made.renderings, rounds=200, together=BATCH)
    yield from _ratio("B4s", "the same in a batch", 30, faster, "× as long")


def b5() -> Iterator[Row]:
    ratio, own, message, ready = batches.row_time(statement())
    detail = f"{own * 1e6:,.0f} against {message * 1e6:,.0f} µs, and {ready * 1e6:,.0f} µs for table and journal"
    yield Row("B5", "a row of a batch, checked and sent, against its message", ratio, None, "×", 2.2, detail)
    few, many = batches.memory(1_000), batches.memory(10_000)
    detail = f"{many / 1024:,.0f} against {few / 1024:,.0f} MiB"
    yield Row("B5", "memory of 10,000 rows against 1,000", many / few, None, "×", 1.1, detail)


def b6() -> Iterator[Row]:
    bare = starts.started(["-c", "pass"])
    for (what, arguments), budget in zip(starts.STARTS.items(), (5, 50, 150, 250), strict=True):
        added = (starts.started(arguments) - bare) * 1e3
        yield Row("B6", what, added, None, "ms", budget, f"above {bare * 1e3:.0f} ms of a bare interpreter, CPU time")


def b7() -> Iterator[Row]:
    detail = "by the slope over 4 and 8 times the page"
    yield Row("B7", "compiling twice a page with 300 style rules", styles.growth(), None, "×", 2.1, detail)
    against = styles.against_parsing()
    yield from _ratio("B7", "compiling 100 kB of it against html5lib's parse and tinycss2's", 10, against)


def b8() -> Iterator[Row]:
    growth = hostile.worst()[0]
    what = f"twice a hostile input, the worst of {len(hostile.worst())}"
    yield Row("B8", what, growth.doubling, None, "×", hostile.MOST, f"{growth.name}; by the slope over 4 and 8 times")


def b9d() -> Iterator[Row]:
    with delivering.receiving() as port:
        for size in delivering.SIZES:
            for connections in (1, 4):
                ratio, own, plain = delivering.speed(port, size, connections)
                what = f"{size} to the stand-in over {connections}, against a bare loop"
                yield Row("B9d", what, ratio, None, "× as fast", 0.9, f"{own * 1e6:,.0f} against {plain * 1e6:,.0f} µs")


def b9() -> Iterator[Row]:
    with delivering.receiving() as port:
        for connections in (4, 16):
            found = batches.over_smtp(port, connections)
            what = f"a batch with its journal over {connections}, against a bare loop with syncs"
            detail = (
                f"{found.own * 1e6:,.0f} against {found.bare * 1e6:,.0f} µs, a sync takes {found.sync * 1e6:,.0f} µs"
            )
            yield Row("B9", what, found.ratio, None, "× as fast", 0.7, detail)


def b10() -> Iterator[Row]:
    album = Album()
    ratio = compared(album.inside, album.beside, album.recipients, rounds=20)
    yield from _ratio("B10", "a megabyte of pictures inside the page against beside it", 3, ratio)


def b11() -> Iterator[Row]:
    bare = starts.started(["-c", "pass"])
    spent = (starts.started(["-m", "pribble", "check", "--all"]) - bare) * 1e3
    yield Row("B11", "pribble check --all, of the demo", spent, None, "ms", 2000, "CPU time, start included")
    detail = "by the slope over 4 and 8 times the page"
    yield Row("B11", "checking twice a page with 300 style rules", checking.growth(), None, "×", 2.1, detail)
    spent = checking.hundred_kilobytes() * 1e3
    yield Row("B11", "checking 100 kB of it", spent, None, "ms", 3000, "CPU time")


def b12() -> Iterator[Row]:
    for kind, found in serving.measured():
        detail = f"{found.asked * 1e3:.1f} ms, of which {found.bare * 1e3:.1f}; an empty route {found.empty * 1e3:.2f}"
        what = f"a request ({kind}) at eight at once, over the function, in empty routes"
        yield Row("B12", what, found.over, None, "×", 1.5, detail)


ROWS: dict[str, Callable[[], Iterator[Row]]] = {
    "B1": b1,
    "B1u": b1u,
    "B2": b2,
    "B3": b3,
    "B4": b4,
    "B4s": b4s,
    "B5": b5,
    "B6": b6,
    "B7": b7,
    "B8": b8,
    "B9": b9,
    "B9d": b9d,
    "B10": b10,
    "B11": b11,
    "B12": b12,
}


if __name__ == "__main__":
    sys.exit(main())
