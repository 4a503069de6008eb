"""Texts and values meant to hang whoever reads them: twice as much of one may take twice as long, not four times."""

from __future__ import annotations

import sys
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cache, partial
from typing import Any

from benchmarks import patterns
from benchmarks.checking import check_page
from benchmarks.inputs import (
    COMPUTED,
    DATA,
    MESSAGES,
    NAMED,
    PAGES,
    PICTURES,
    PLACES,
    REPORTS,
    STYLES,
    TEMPLATES,
    VALUES,
)
from benchmarks.measure import doubling, timed
from benchmarks.takers import UNITS, takers
from pribble import Limits, Picture, PribbleError, Template, TemplateFolder, audit, inline_styles, plain_text
from pribble.errors import Source
from pribble.mime.delivery_report import read_report
from pribble.values.reading import read_json

_LIMITS = Limits(characters=5_000_000, output=50_000_000, text=5_000_000)


Case = Callable[[int], Callable[[], object]]
# So many times as long may twice an input take: 2 is linear, 4 quadratic, and machines are noisy.
MOST = 2.6
_SIZES = 500, 2_000, 4_000
_DOUBTFUL, _LOOKED_AT_AGAIN = 2.25, 4
_SAYS_NOTHING = 0.0025  # seconds: what takes no longer


@dataclass(frozen=True, slots=True)
class Growth:
    """How many times as long twice an input takes, and the seconds that the largest one took."""

    doubling: float
    name: str
    seconds: float


@cache
def worst() -> list[Growth]:
    """The growth of each input, the worst first.  The doubtful ones, and the worst in any case, are measured again:
    several times, and four times as large."""
    cases = _cases()
    found = sorted((_growth(name, case, _SIZES, 1) for name, case in cases.items()), key=_order)
    again = [g.name for n, g in enumerate(found) if n < _LOOKED_AT_AGAIN or g.doubling > _DOUBTFUL]
    sizes = tuple(8 * size for size in _SIZES)
    looked = {name: _growth(name, cases[name], sizes, 2) for name in again}
    # What still grows too fast is asked once more, with more rounds: a machine that was busy is no verdict.
    looked |= {name: _growth(name, cases[name], sizes, 5) for name, growth in looked.items() if growth.doubling > MOST}
    found = [looked.get(growth.name, growth) for growth in found]
    found += (Growth(grown, name, seconds) for name, grown, seconds in patterns.growths())
    return sorted(found, key=_order)


def main() -> int:
    """Print the worst; exits 1 where one grows faster than it may."""
    growths = worst()
    print(f"twice the input, for {len(growths)} hostile ones (linear is 2, at most {MOST}):")
    for growth in growths[:8]:
        print(f"{growth.doubling:6.2f} × {growth.seconds * 1e3:8.0f} ms  {growth.name}")
    return 1 if growths[0].doubling > MOST else 0


def _cases() -> dict[str, Case]:
    folder = TemplateFolder.nowhere()
    folder.world = replace(folder.world, limits=_LIMITS)
    cases: dict[str, Case] = {
        f"template of {name}": partial(_compiling, folder, text) for name, text in TEMPLATES.items()
    }
    cases |= {f"text of {name}": partial(_saying, text) for name, text in PAGES.items()}
    cases |= {f"check of {name}": partial(_checking, text) for name, text in PAGES.items()}
    cases |= {f"audit of {name}": partial(_auditing, raw) for name, raw in MESSAGES.items()}
    cases |= {f"report with {name}": partial(_reported, raw) for name, raw in REPORTS.items()}
    for name, sheet in STYLES.items():
        cases |= {f"styles of {name}": partial(_styling, sheet), f"text by styles of {name}": partial(_shown_by, sheet)}
    for name, (page, data) in COMPUTED.items():
        cases[f"computing {name}"] = partial(_computing, Template.from_text(page, folder=folder), data)
    cases |= {f"names of {name}": partial(_compiling, folder, text) for name, text in NAMED.items()}
    cases |= {f"data of {name}": partial(_reading, text) for name, text in DATA.items()}
    cases |= {f"picture of {name}": partial(_opening, raw) for name, raw in PICTURES.items()}
    for name, take in takers():
        cases |= {f"{name} of {unit!r}": partial(_taking, take, unit) for unit in UNITS}
    for place, page in PLACES.items():
        template = Template.from_text(page, folder=folder)
        cases |= {f"{place}: {name}": partial(_rendering, template, value) for name, value in VALUES.items()}
    return cases


def _order(growth: Growth) -> float:
    return -growth.doubling


def _growth(name: str, case: Case, sizes: tuple[int, ...], rounds: int) -> Growth:
    runs = [(size, case(size)) for size in sizes]
    times = [(size, min(timed(_done, run) for _ in range(rounds))) for size, run in runs]
    longest = times[-1][1]
    return Growth(doubling(times) if longest > _SAYS_NOTHING else 0.0, name, longest)


def _compiling(folder: TemplateFolder, text: Callable[[int], str], size: int) -> Callable[[], object]:
    written = text(size)
    return lambda: Template.from_text(written, folder=folder)


def _saying(text: Callable[[int], str], size: int) -> Callable[[], object]:
    written = text(size)
    return lambda: plain_text(written)


def _checking(text: Callable[[int], str], size: int) -> Callable[[], object]:
    written = text(size)
    return lambda: check_page(written)


def _auditing(raw: Callable[[int], bytes], size: int) -> Callable[[], object]:
    written = raw(5 * size)  # a message is larger than a page
    return lambda: audit(written)


def _reported(raw: Callable[[int], bytes], size: int) -> Callable[[], object]:
    written = raw(8 * size)
    return lambda: read_report(written)


def _styling(sheet: Callable[[int], tuple[str, str]], size: int) -> Callable[[], object]:
    page = "<!DOCTYPE html><style>{}</style>{}".format(*sheet(size))
    return lambda: inline_styles(page)


def _shown_by(sheet: Callable[[int], tuple[str, str]], size: int) -> Callable[[], object]:
    page = "<!DOCTYPE html><style>{}</style>{}".format(*sheet(size))
    return lambda: plain_text(page)


def _computing(template: Template, data: Callable[[int], Any], size: int) -> Callable[[], object]:
    one, other = data(size)
    return lambda: template.render({"v": one, "w": other}).html


def _reading(text: Callable[[int], str], size: int) -> Callable[[], object]:
    source = Source("data", text(size))
    return lambda: read_json(source)


def _opening(raw: Callable[[int], bytes], size: int) -> Callable[[], object]:
    content = raw(10 * size)
    return lambda: Picture.from_bytes(content)


def _taking(take: Callable[[str], object], unit: str, size: int) -> Callable[[], object]:
    text = unit * (size // len(unit))
    return lambda: take(text)


def _rendering(template: Template, value: Callable[[int], str], size: int) -> Callable[[], object]:
    data = {"v": value(size)}

    def render() -> object:
        made = template.render(data)
        return made.html, made.text

    return render


def _done(run: Callable[[], object]) -> None:
    try:
        run()
    except (PribbleError, ValueError) as error:
        str(error)


if __name__ == "__main__":
    sys.exit(main())
