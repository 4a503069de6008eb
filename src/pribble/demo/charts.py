"""What the mooring statement shows and has attached: its chart of shore power, and the statement as a PDF.

Both are drawn by Matplotlib (the extra ``charts``), without a display.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from datetime import date
from decimal import Decimal
from importlib import import_module
from typing import TYPE_CHECKING, Any

from pribble.errors import loaded

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_NAVY, _TEAL, _AMBER, _QUIET, _RULE = "#14364f", "#1f7a7a", "#d98e1f", "#5b6b75", "#d9d2c3"
_INCH = 96  # CSS pixels
_PAPER = "#fbf8f2"
_FONTS = {"font.family": ["DejaVu Sans"], "font.size": 10}


def usage_chart(kwh: Sequence[float], first: date) -> Figure:
    """Returns a bar for each day's kWh from `first` on, 536 CSS pixels wide.  Raises `MissingExtra` without
    Matplotlib."""
    matplotlib = _matplotlib()
    with matplotlib.rc_context(_FONTS):
        figure = matplotlib.figure.Figure((536 / _INCH, 230 / _INCH), facecolor=_PAPER, layout="constrained")
        figure.get_layout_engine().set(w_pad=0.14, h_pad=0.14)
        _bars(figure.subplots(), kwh, first)
    made: Figure = figure
    return made


def _bars(axes: Axes, kwh: Sequence[float], first: date) -> None:
    days = list(range(first.day, first.day + len(kwh)))
    highest = max(kwh, default=0)
    bars = axes.bar(days, list(kwh), width=0.66, color=[_AMBER if used == highest else _TEAL for used in kwh])
    if kwh:
        labels = [f"{float(used):g}" if used == highest else "" for used in kwh]
        axes.bar_label(bars, labels=labels, color=_QUIET, padding=2)
    axes.set_title(f"Shore power, kWh a day: {float(sum(kwh)):g} in all", loc="left", color=_NAVY, fontsize=12, pad=10)
    ticks = [days[0], *(day for day in days if day % 5 == 0)] if days else []
    axes.set_xticks(ticks, [f"{day} {first:%B}" if day == first.day else str(day) for day in ticks])
    for label in axes.get_xticklabels()[:1]:
        label.set_horizontalalignment("left")
    axes.set_facecolor("none")
    axes.set_xlim(days[0] - 0.6 if days else 0, days[-1] + 0.6 if days else 1)
    axes.margins(y=0.16)
    axes.grid(axis="y", color=_RULE, linewidth=0.8)
    axes.set_axisbelow(True)
    axes.tick_params(length=0, colors=_QUIET)
    for side in ("top", "left", "right"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(_NAVY)


def statement_pdf(statement: Any) -> bytes:
    """Returns the statement's data as a page of A4; the same data give the same bytes."""
    matplotlib = _matplotlib()
    head, entries = statement["statement"], statement["entries"]
    with matplotlib.rc_context(_FONTS | {"pdf.fonttype": 42}):
        page = matplotlib.figure.Figure((8.27, 11.69), facecolor="white")
        page.text(0.1, 0.93, "Skerrow Haven Berth Office", color=_QUIET)
        page.text(0.1, 0.895, f"Mooring statement {head['number']}", color=_NAVY, fontsize=20, family="DejaVu Serif")
        berth = f"{statement['berth']['pier']} {statement['berth']['number']}"
        page.text(
            0.1,
            0.865,
            f"{statement['skipper']['name']}, {statement['vessel']['name']}, berth {berth}: "
            f"{_parse_day(head['from'])} to {_parse_day(head['to'])}",
        )
        _bars(page.add_axes((0.1, 0.66, 0.8, 0.15)), statement["usage"]["kwh"], date.fromisoformat(head["from"]))
        _table(page, entries, statement)
        out = io.BytesIO()
        page.savefig(
            out,
            format="pdf",
            metadata={
                "Title": f"Mooring statement {head['number']}",
                "Author": "Skerrow Haven Berth Office",
                "CreationDate": None,
                "Producer": None,
                "Creator": None,
            },
        )
    return out.getvalue()


def _table(page: Figure, entries: Sequence[Any], statement: Any) -> None:
    columns = [(0.1, "left"), (0.2, "left"), (0.66, "right"), (0.78, "right"), (0.9, "right")]
    titles = ("Day", "Entry", "Quantity", "Price", f"Amount, {statement['currency']}")
    rows: list[tuple[Sequence[str], bool]] = [(titles, True)]
    charged = Decimal(0)
    for entry in entries:
        quantity, price = Decimal(str(entry["quantity"])), Decimal(str(entry["price"]))
        charged += quantity * price
        cells = _parse_day(entry["day"]), entry["what"], f"{quantity:g}", f"{price:.2f}", f"{quantity * price:.2f}"
        rows.append((cells, False))
    paid = Decimal(str(statement["paid"]))
    for what, amount in (("Charged", charged), ("Paid already", paid), ("Due", charged - paid)):
        rows.append((("", what, "", "", f"{amount:.2f}"), what == "Due"))
    y, step = 0.6, 0.5 / max(24, len(rows))
    for row, strong in rows:
        for (x, align), cell in zip(columns, row, strict=True):
            page.text(x, y, cell, ha=align, weight="bold" if strong else "normal")
        y -= step
        page.add_artist(_rule(y + step * 0.7))


def _rule(y: float) -> Any:
    from matplotlib.lines import Line2D

    return Line2D((0.1, 0.9), (y - 0.0015, y - 0.0015), color=_RULE, linewidth=0.6)


def _parse_day(written: str) -> str:
    day = date.fromisoformat(written)
    return f"{day.day} {day:%B}"


def _matplotlib() -> Any:
    loaded("matplotlib.figure", extra="charts", message="charts are drawn by Matplotlib")
    return import_module("matplotlib")
