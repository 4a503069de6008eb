"""Tables of data whose form is known when a template is compiled: only their texts differ between messages.

Such a table has a head that is the same in all messages, rows of one form that a loop brings, and rows below them, as
totals are.  What `tables` and `grids` would find out of it for each message is found out once; its lines are theirs.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import chain, groupby
from typing import NamedTuple

from pribble.plaintext.blocks import RowForm, Rows
from pribble.plaintext.characters import are_tidy, joined_texts
from pribble.plaintext.grids import Measured
from pribble.plaintext.line_breaking import is_narrow
from pribble.records import record


@record(frozen=True, slots=True)
class KnownRow:
    """A row below those of the loop: its form, for each cell its text or the number of a text that is put in, and
    whether it is one of the foot."""

    form: RowForm
    cells: tuple[str | int, ...]
    foot: bool


class Columns(NamedTuple):
    """The texts of rows that are alike: for each cell of one those of all rows.  What is known of all of them: whether
    they `are_flat`, which is to say tidy and of one line, and whether each character of them is one column wide."""

    texts: Sequence[Sequence[str]]
    are_flat: bool
    are_narrow: bool

    @classmethod
    def of_rows(cls, texts: Sequence[str], count: int) -> Columns:
        """Returns the columns of the texts of rows, of which each has so many cells."""
        joined = joined_texts(texts)
        return cls([texts[at::count] for at in range(count)], are_tidy(joined), is_narrow(joined))


class KnownTable:
    """A table with these `heads`, then the rows of a loop, all of the form `run`, then the `others`.

    Each cell of the head and of the loop's rows is one column, and there are as many in all of these rows; no cell
    reaches into the rows below it.
    """

    def __init__(self, heads: Sequence[Rows], run: RowForm, others: Sequence[KnownRow]) -> None:
        self.run = run
        self.heads: list[list[str]] = [[text for text in rows.cells[0] if isinstance(text, str)] for rows in heads]
        self.sizes = [max(map(len, column), default=0) for column in zip(*self.heads, strict=True)] or [0] * run.width
        # Rows of one form that follow each other are looked at together.
        self.groups = [
            (form, foot, [row.cells for row in rows])
            for (form, foot), rows in groupby(others, key=lambda row: (row.form, row.foot))
        ]

    def lines(self, given: Columns, texts: Sequence[object], width: int) -> list[str] | None:
        """Returns the lines of the table; `given` are the columns of the loop's rows, `texts` what is put in below.

        None where it takes a closer look: without a row, where a text is more than one line of usual characters, or
        where the table is too wide.
        """
        columns = given.texts
        others = [[_texts(cells, texts) for cells in each] for _, _, each in self.groups]
        joined = joined_texts(chain(*chain(*others)))
        if not (columns[0] and given.are_flat and given.are_narrow and are_tidy(joined) and is_narrow(joined)):
            return None
        run, measured = self.run, Measured([*self.sizes], narrow=True)
        measured.add(run.places, run.shapes, columns, head=False)
        for (form, _, _), below in zip(self.groups, others, strict=True):
            measured.add(form.places, form.shapes, [*zip(*below, strict=True)], head=False)
        setting = measured.setting(width)
        if setting is None:
            return None
        rows = setting.lines(run.places, run.shapes, [*self.heads, *zip(*columns, strict=True)])
        heads, body = rows[: len(self.heads)], rows[len(self.heads) :]
        feet: list[str] = []
        for (form, foot, _), below in zip(self.groups, others, strict=True):
            part = feet if foot else body
            part += setting.lines(form.places, form.shapes, below)
        return setting.ruled((heads, body, feet))


def _texts(cells: Iterable[str | int], texts: Sequence[object]) -> list[str]:
    return [cell if isinstance(cell, str) else str(texts[cell]) for cell in cells]
