"""Tables whose form a template knows: runs of rows that are alike, and tables of data that consist of one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from pribble.compiler.text_steps import FillPattern, FillRow, TextFormStep
from pribble.language.linked_source import Marker
from pribble.plaintext.blocks import RowForm, Rows, Table
from pribble.plaintext.known_tables import KnownRow, KnownTable
from pribble.plaintext.patterns import PatternPart, PatternRow, RowPattern
from pribble.plaintext.tables import is_data

_BLANK = " \t\n\f\r"


def run_of_rows(steps: Iterable[TextFormStep]) -> tuple[str, Rows] | None:
    """Returns what all rows that these steps bring are like, with their section, where each of them is one of texts
    that are put in, and there is nothing else."""
    found: tuple[str, Rows] | None = None
    for step in steps:
        if isinstance(step, FillPattern) and step.pattern.is_row:
            section, row = step.pattern.rows[0]
            assert isinstance(row, RowPattern)
            alike = found is None or (found[0], found[1].form, found[1].head) == (section, row.of.form, row.of.head)
            if not alike:
                return None
            found = section, row.of
        elif not isinstance(step, Marker) and not (isinstance(step, str) and not step.strip(_BLANK)):
            return None
    return found


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
    heads = [row for _, row in rows[:at] if isinstance(row, Rows) and _is_head(row, run.form)]
    others = [_known_row(section, row) for section, row in rows[at + 1 :]]
    known = [row for row in others if row is not None and row.form.width <= run.form.width]
    if section or run.head or not run.form.even or len(heads) < at or len(known) < len(others):
        return None
    if known and known[0].form is run.form and not known[0].foot:  # it would be one of the run
        return None
    one_each = [*heads, run, *[Rows(row.form, [[""] * len(row.cells)]) for row in known]]
    if run.form.header or not is_data(Table(table.arranging, one_each)):
        return None
    return part.index, KnownTable(heads, run.form, known)


def _is_head(rows: Rows, run: RowForm) -> bool:
    """Returns whether rows are one of the head, the same in all messages, with as many columns as those of the run."""
    return (rows.head or rows.form.header) and rows.flat and rows.narrow and _has_columns(rows.form, run.width)


def _has_columns(form: RowForm, count: int) -> bool:
    return form.even and form.width == count and not form.reaching


def _known_row(section: str, row: Rows | RowPattern | PatternPart) -> KnownRow | None:
    of = row.of if isinstance(row, RowPattern) else row
    if not isinstance(of, Rows) or of.head or of.form.header or of.form.reaching or len(of.cells) != 1:
        return None
    cells = row.cells if isinstance(row, RowPattern) else of.cells[0]
    said = tuple(cell for cell in cells if isinstance(cell, str | int))
    if len(said) < len(cells) or any(isinstance(cell, str) and "\n" in cell for cell in said):
        return None
    return KnownRow(of.form, said, section == "tfoot")
