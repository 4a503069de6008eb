"""Print each budget with what was measured; exits 1 where one is missed."""

from __future__ import annotations

import cProfile
import pstats
import sys
from collections.abc import Callable

from benchmarks import messages
from benchmarks.hostile import slowest
from benchmarks.measure import compared
from benchmarks.statement import ways
from benchmarks.styles import growth


def main() -> int:
    compiled, by_hand, said = ways()
    assert compiled() == by_hand(), "the two ways differ, so there is nothing to compare"
    b1 = compared(compiled, by_hand)
    kept = b1.median <= 1.25
    print(
        f"B1  HTML of one statement ({len(compiled()):,} characters), compiled against by hand: {b1.median:.2f} × "
        f"(at most 1.25; most rounds {b1.low:.2f} to {b1.high:.2f}; {b1.first * 1e6:.0f} against "
        f"{b1.second * 1e6:.0f} µs)  {'kept' if kept else 'MISSED'}"
    )
    b2 = compared(said, compiled)
    said_soon = b2.median <= 1.5
    print(
        f"B2  its plain text ({len(said()):,} characters), derived and laid out, against its HTML, compiled: "
        f"{b2.median:.2f} × (at most 1.5; most rounds {b2.low:.2f} to {b2.high:.2f}; {b2.first * 1e6:.0f} against "
        f"{b2.second * 1e6:.0f} µs)  {'kept' if said_soon else 'MISSED'}"
    )
    sent = whole_messages(compiled, by_hand)
    if "messages" in sys.argv:
        return 0 if sent else 1
    grown, seconds = growth()
    steady = grown <= 2.2
    print(
        f"B7  compiling twice a page of 100 kB with 300 style rules ({seconds * 1e3:.0f} ms for 100 kB): "
        f"{grown:.2f} × (at most 2.2)  {'kept' if steady else 'MISSED'}"
    )
    worst, name, took = slowest(25_000)
    linear = worst <= 3
    print(
        f"B8  twice as much of a hostile text, the worst of all ({name}, {took * 1e3:.0f} ms for 25,000 characters): "
        f"{worst:.2f} × (linear is 2, quadratic 4; at most 3)  {'kept' if linear else 'MISSED'}"
    )
    if "--profile" in sys.argv:
        profile = cProfile.Profile()
        profile.enable()
        for _ in range(500):
            said() if "text" in sys.argv else compiled()
        profile.disable()
        pstats.Stats(profile).sort_stats("tottime").print_stats(20)
    return 0 if kept and said_soon and sent and linear and steady else 1


def whole_messages(compiled: Callable[[], str], by_hand: Callable[[], str]) -> bool:
    """B3, B4 and B6: the bytes of a message, from its rendering and from the data, and the start of a program."""
    whole, written, floor, text, by_the_library = messages.ways()
    b3 = compared(written, floor)
    print(
        f"B3  bytes of one message ({len(written()):,}), from a rendering whose pictures are encoded, against "
        f"binascii.b2a_qp of both bodies and one join: {b3.median:.2f} × (at most 1.3; most rounds {b3.low:.2f} to "
        f"{b3.high:.2f}; {b3.first * 1e6:.0f} against {b3.second * 1e6:.0f} µs)  "
        f"{'kept' if b3.median <= 1.3 else 'MISSED'}"
    )

    def floors() -> None:
        by_hand(), text(), floor()

    b4 = compared(whole, floors)
    library = compared(by_the_library, whole, rounds=30, calls=2)
    print(
        f"B4  the same from the data, against the three floors: {b4.median:.2f} × (at most 1.5; most rounds "
        f"{b4.low:.2f} to {b4.high:.2f}; {b4.first * 1e6:.0f} against {b4.second * 1e6:.0f} µs)  "
        f"{'kept' if b4.median <= 1.5 else 'MISSED'}"
    )
    print(
        f"    the standard library's email package takes {library.median:.1f} × as long to build and serialise it "
        f"(at least 15; {library.first * 1e3:.1f} ms)  {'kept' if library.median >= 15 else 'MISSED'}"
    )
    bare = messages.start("pass")
    added = {
        name: (messages.start(f"{name}") - bare) * 1e3
        for name in ("import pribble", "from pribble import Message", "from pribble import TemplateFolder")
    }
    print(
        f"B6  import pribble: {added['import pribble']:.0f} ms above a bare interpreter's start of "
        f"{bare * 1e3:.0f} ms (at most 60)  {'kept' if added['import pribble'] <= 60 else 'MISSED'}"
    )
    print(
        f"    what it gives is loaded when asked for: Message {added['from pribble import Message']:.0f} ms, "
        f"TemplateFolder {added['from pribble import TemplateFolder']:.0f} ms"
    )
    return b3.median <= 1.3 and b4.median <= 1.5 and library.median >= 15 and added["import pribble"] <= 60


if __name__ == "__main__":
    sys.exit(main())
