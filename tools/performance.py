"""Run the benchmarks and write docs/performance.md's table and figure anew: ``python -m tools.performance``."""

from __future__ import annotations

import json
import platform
import subprocess
import sys
from pathlib import Path
from typing import Any

from benchmarks.__main__ import MORE_IS_BETTER
from matplotlib.figure import Figure
from matplotlib.ticker import NullLocator

ROOT = Path(__file__).parent.parent
PAGE = ROOT / "docs/performance.md"
FIGURE = ROOT / "docs/screenshots/performance.png"
BEGIN, END = "<!-- measured -->\n", "<!-- end -->\n"
_NAVY, _TEAL, _AMBER = "#14364f", "#1f7a7a", "#d98e1f"


def main() -> None:
    done = subprocess.run([sys.executable, "-m", "benchmarks", "--json"], capture_output=True, text=True, cwd=ROOT)
    rows = json.loads(done.stdout)
    text = PAGE.read_text(encoding="utf-8")
    before, _, rest = text.partition(BEGIN)
    machine = f"CPython {platform.python_version()} on {platform.machine()}"
    PAGE.write_text(f"{before}{BEGIN}{table(rows)}\nMeasured with {machine}.\n{END}{rest.partition(END)[2]}", "utf-8")
    drawn(rows).savefig(FIGURE, dpi=100)
    print(f"{PAGE}\n{FIGURE}")


def table(rows: list[dict[str, Any]]) -> str:
    """The rows as a table in Markdown."""
    lines = ["| | what | budget | measured | least | |", "|---|---|---|---|---|---|"]
    for row in rows:
        bound = "at least" if row["unit"] in MORE_IS_BETTER else "at most"
        unit = row["unit"].split()[0]
        least = f"{row['least']:.2f} {unit}" if row["least"] is not None else ""
        verdict = "met" if row["met"] else "**not yet**"
        lines.append(
            f"| {row['name']} | {row['what']} | {bound} {row['budget']:g} {unit} | {row['measured']:.2f} {unit} "
            f"| {least} | {verdict} |"
        )
    return "\n".join(lines) + "\n"


def drawn(rows: list[dict[str, Any]]) -> Figure:
    """How much of its budget each row takes."""
    figure = Figure((12.8, 6.4), layout="constrained")
    axes = figure.add_subplot()
    labels, taken = [], []
    for row in reversed(rows):
        share = row["measured"] / row["budget"]
        taken.append(1 / share if row["unit"] in MORE_IS_BETTER else share)
        labels.append(f"{row['what']}  {row['name']:>4}")
    colours = [_TEAL if share <= 1 else _AMBER for share in taken]
    axes.set_xscale("log")
    axes.barh(labels, [share - 1 for share in taken], left=1, color=colours, height=0.62)
    for row, share in enumerate(taken):
        beside, align = (-6, "right") if share < 1 else (6, "left")
        axes.annotate(
            f"{share:.2f}", (share, row), (beside, 0), textcoords="offset points", ha=align, va="center", color=_NAVY
        )
    axes.axvline(1, color=_NAVY, linewidth=1.2)
    axes.set_title(
        "What is measured, as a share of its budget: left of 1 it is met", color=_NAVY, loc="left", fontsize=12
    )
    axes.set_xlim(min(*taken, 1) / 1.5, max(taken) * 1.5)
    axes.set_xticks([tick for tick in (0.2, 0.5, 1, 2, 5, 10, 20) if min(taken) <= tick <= max(taken)])
    axes.xaxis.set_major_formatter("{x:g} ×")
    axes.xaxis.set_minor_locator(NullLocator())
    axes.tick_params(axis="both", length=0, labelsize=10, labelcolor=_NAVY)
    axes.margins(y=0.02)
    axes.spines[["top", "right", "bottom", "left"]].set_visible(False)
    axes.grid(axis="x", color="#e6e1d6", linewidth=0.8)
    axes.set_axisbelow(True)
    return figure


if __name__ == "__main__":
    main()
