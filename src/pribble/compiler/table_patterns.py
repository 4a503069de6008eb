"""Tables whose form a template knows: runs of rows that are alike, and tables of data that consist of one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from pribble.compiler.text_steps import FillPattern, FillRow, TextFormStep, is_white_space
from pribble.language.linked_source import Marker
from pribble.plaintext.blocks import Rows, Table
from pribble.plaintext.known_tables import KnownRow, KnownTable
from pribble.plaintext.patterns import Pattern, PatternPart, PatternRow, RowPattern
from pribble.plaintext.tables import is_data


def run_of_rows(steps: Iterable[TextFormStep]) -> tuple[str, Rows] | None:
    """Returns what all rows that these steps bring are like, with their section, where each of them is one of texts
    that are put in, and there is nothing else."""
    found: tuple[str, Rows] | None = None
    for step in steps:
        if isinstance(step, FillPattern) and (row := _only_row(step.pattern)) is not None:
            if found is not None and (found[0], found[1].form, found[1].head) != (row[0], row[1].form, row[1].head):
                return None
            found = row
        elif not isinstance(step, Marker) and not is_white_space(step):
            return None
    return found


def _only_row(pattern: Pattern) -> tuple[str, Rows] | None:
    """Returns the row that a pattern consists of, with its section, where there is nothing in it but texts that are put
    in, in order."""
    match pattern:
        case Pattern(blocks=[], rows=[(section, RowPattern(of=row, cells=cells))]) if cells == [*range(len(cells))]:
            return section, row
    return None


def rows_alone(steps: Iterable[TextFormStep]) -> Iterator[TextFormStep]:
    """Yields the steps of such a run: white space between rows says nothing."""
    for step in steps:
        if isinstance(step, FillPattern):
            yield FillRow(step.texts)
        elif not isinstance(step, str):
            yield step


def known_table(table: Table, rows: Sequence[PatternRow]) -> tuple[int, KnownTable] | None:
    """Returns a table of data, and which of the texts that are put in are those of its run of rows; None where its form
    depends on more than texts."""
    parts = [(at, row) for at, (_, row) in enumerate(rows) if isinstance(row, PatternPart)]
    if len(parts) != 1 or table.caption:
        return None
    at, part = parts[0]
    if part.run is None:
        return None
    section, run = part.run
    form = run.form
    if section or run.head or form.header or not form.even or form.reaching:
        return None
    heads = [row for _, row in rows[:at] if isinstance(row, Rows) and _is_head(row, form.width)]
    others = [_known_row(section, row) for section, row in rows[at + 1 :]]
    known = [row for row in others if row is not None and row.form.width <= form.width]
    if len(heads) < at or len(known) < len(others):
        return None
    if known and known[0].form is form and not known[0].foot:  # it would be one of the run
        return None
    one_each = [*heads, run, *[Rows(row.form, [[""] * len(row.cells)]) for row in known]]
    return (part.index, KnownTable(heads, form, known)) if is_data(Table(table.arranging, one_each)) else None


def _is_head(rows: Rows, width: int) -> bool:
    """Returns whether a row is one of the head, the same in all messages, each cell one of so many columns."""
    form = rows.form
    is_head = rows.head or form.header
    return is_head and rows.flat and rows.narrow and form.even and form.width == width and not form.reaching


def _known_row(section: str, row: Rows | RowPattern | PatternPart) -> KnownRow | None:
    """Returns a row below those of the run; None where it is one of the head, or more than a line of texts."""
    of = row.of if isinstance(row, RowPattern) else row
    if not isinstance(of, Rows) or of.head or of.form.header or of.form.reaching or len(of.cells) != 1:
        return None
    cells = row.cells if isinstance(row, RowPattern) else of.cells[0]
    said = tuple(cell for cell in cells if isinstance(cell, str | int))
    if len(said) < len(cells) or any(isinstance(cell, str) and "\n" in cell for cell in said):
        return None
    return KnownRow(of.form, said, section == "tfoot")
