"""Which ways of templates their samples try: branches, loops, choices, optional fields."""

from __future__ import annotations

from collections.abc import Iterable

from pribble.compiler.tracing import Fork
from pribble.errors import Place
from pribble.records import record
from pribble.review.cases import Case
from pribble.review.report import CheckReport


@record(frozen=True, slots=True)
class Way:
    """One way that the data can lead: a branch, a loop that is empty; `place` is where it is written, `what` says it in
    words, `taken` how often it was taken."""

    place: Place
    what: str
    taken: int


@record(frozen=True, slots=True)
class Coverage:
    """The ways of one template, or of several together."""

    ways: tuple[Way, ...] = ()

    @property
    def tried(self) -> int:
        """How many ways were taken at least once."""
        return sum(1 for way in self.ways if way.taken)

    @property
    def untried(self) -> tuple[Way, ...]:
        """The ways that nothing takes."""
        return tuple(way for way in self.ways if not way.taken)

    def __str__(self) -> str:
        return f"{self.tried} of {len(self.ways)} ways" if self.ways else "no ways to choose from"


def coverage_of(cases: Iterable[Case]) -> Coverage:
    """Returns which ways the cases take; a way of a layout or part counts once, whatever it is put into."""
    forks: dict[tuple[str, str, int], tuple[Fork, list[int]]] = {}
    for case in cases:
        for fork, counts in case.traced.forks():
            key = fork.kind, fork.place.source.name, fork.place.start
            known = forks.get(key)
            if known is None:
                forks[key] = fork, list(counts)
            else:
                forks[key] = fork, [one + other for one, other in zip(known[1], counts, strict=True)]
    return Coverage(
        tuple(
            Way(place, _in_words(fork, index), count)
            for fork, counts in forks.values()
            for index, (place, count) in enumerate(zip(fork.places, counts, strict=True))
        )
    )


def _in_words(fork: Fork, way: int) -> str:
    match fork.kind:
        case "loop":
            return ("an empty list here", "a list of one here", "a list of several here")[way]
        case "optional":
            return "this field there" if way == 0 else "this field left out"
        case "choice":
            return f"this choice {fork.ways[way]}"
    return "none of these branches" if fork.ways[way] == "no branch" else "this branch"


def report_untried(coverage: Coverage, report: CheckReport) -> None:
    """Report the ways that no sample takes, each at its line."""
    for way in coverage.untried:
        report.add("data.untried", way.place, way.what)
