"""Print each budget with what was measured; exits 1 where one is missed."""

from __future__ import annotations

import cProfile
import pstats
import sys

from benchmarks.hostile import slowest
from benchmarks.measure import compared
from benchmarks.statement import ways
from benchmarks.styles import growth


def main() -> int:
    compiled, by_hand, said = ways()
    assert compiled() == by_hand(), "the two ways differ, so there is nothing to compare"
    b1 = compared(compiled, by_hand)
    kept = b1.median <= 1.25
    print(f"B1  HTML of one statement ({len(compiled()):,} characters), compiled against by hand: {b1.median:.2f} × "
          f"(at most 1.25; most rounds {b1.low:.2f} to {b1.high:.2f}; {b1.first * 1e6:.0f} against "
          f"{b1.second * 1e6:.0f} µs)  {'kept' if kept else 'MISSED'}")
    b2 = compared(said, compiled)
    said_soon = b2.median <= 1.5
    print(f"B2  its plain text ({len(said()):,} characters), derived and laid out, against its HTML, compiled: "
          f"{b2.median:.2f} × (at most 1.5; most rounds {b2.low:.2f} to {b2.high:.2f}; {b2.first * 1e6:.0f} against "
          f"{b2.second * 1e6:.0f} µs)  {'kept' if said_soon else 'MISSED'}")
    grown, seconds = growth()
    steady = grown <= 2.2
    print(f"B7  compiling twice a page of 100 kB with 300 style rules ({seconds * 1e3:.0f} ms for 100 kB): "
          f"{grown:.2f} × (at most 2.2)  {'kept' if steady else 'MISSED'}")
    worst, name, took = slowest(25_000)
    linear = worst <= 3
    print(f"B8  twice as much of a hostile text, the worst of all ({name}, {took * 1e3:.0f} ms for 25,000 characters): "
          f"{worst:.2f} × (linear is 2, quadratic 4; at most 3)  {'kept' if linear else 'MISSED'}")
    if "--profile" in sys.argv:
        profile = cProfile.Profile()
        profile.enable()
        for _ in range(500):
            said() if "text" in sys.argv else compiled()
        profile.disable()
        pstats.Stats(profile).sort_stats("tottime").print_stats(20)
    return 0 if kept and said_soon and linear and steady else 1


if __name__ == "__main__":
    sys.exit(main())
