"""Tables of data: set in columns, numbers to the right, or, where that is too wide, as one record a row."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from pribble.plaintext.blocks import Content, Placed, RowLines, Rows, Table, TableShape
from pribble.plaintext.characters import BINDING, ENDS
from pribble.plaintext.line_breaking import GOES_ON, JOINED, is_narrow, terminal_columns, wrap
from pribble.regexes import regex

Blocks = Callable[[Iterable[Placed], int], list[str]]

_APART = 2
_BETWEEN = " " * _APART
_SPACE = f"[ {BINDING}]"
_AMOUNT = regex(rf"(?:[A-Z]{{3}}{_SPACE}?)?[^A-Za-z]*(?:{_SPACE}?[A-Z]{{3}})?")
_CURRENCIES = "$£¥€¢¤₠-₿৳฿៛﷼"
_NO_FIGURE = regex(f"[^0-9.,'’+−–—%‰() {BINDING}{_CURRENCIES}-]")
_NO_AMOUNT = regex(f"[^0-9A-Z.,'’+−–—%‰() {BINDING}{_CURRENCIES}-]")
# The unit of a measure, where it is the same in a whole column.
_UNIT = regex(rf"(?<=[0-9]){_SPACE}(?:[A-Za-zµ°]{{1,2}}[²³]?|kWh|min)\Z")
_DIGIT = regex("[0-9]")


def are_numbers(texts: Sequence[str]) -> bool:
    """Returns whether all of these are numbers, with a currency, a sign or the same unit, or dashes that stand for
    none."""
    joined = "".join(texts)
    if _NO_FIGURE.search(joined) is None:
        return _DIGIT.search(joined) is not None
    if (unit := _UNIT.search(texts[0])) and all(text.endswith(unit[0]) for text in texts):
        return _NO_FIGURE.search("".join([text.removesuffix(unit[0]) for text in texts])) is None
    return _NO_AMOUNT.search(joined) is None and all(map(_AMOUNT.fullmatch, texts)) and bool(_DIGIT.search(joined))


def widest(texts: Sequence[str]) -> int:
    """Returns the columns of the widest of these."""
    return max(map(len if is_narrow("".join(texts)) else terminal_columns, texts), default=0)


def filled_up(texts: Sequence[str], width: int, *, right: bool = False) -> list[str]:
    """Returns texts of one column, with spaces up to its width."""
    if is_narrow("".join(texts)):
        return [text.rjust(width) for text in texts] if right else [text.ljust(width) for text in texts]
    spaces = [" " * (width - terminal_columns(text)) for text in texts]
    return [s + t if right else t + s for s, t in zip(spaces, texts, strict=True)]


def data_lines(table: Table, width: int, blocks: Blocks) -> list[str]:
    """Returns the lines of a table of data; `blocks` gives those of what a cell holds."""
    grid = _Grid(table)
    return grid.in_columns(width, blocks) or grid.as_records(width, blocks)


class _Stretch(NamedTuple):
    """Rows that are alike: the columns at which their cells begin and how many there are, and what cells of rows above
    reach into them, with their columns."""

    rows: Rows
    places: tuple[int, ...]
    width: int
    reaching: tuple[tuple[int, Content], ...] = ()

    @property
    def cells(self) -> list[Sequence[Content]]:
        return self.rows.cells

    @property
    def shapes(self) -> Sequence[TableShape]:
        return self.rows.form.shapes


class _Grid:
    """The rows of a table at their places."""

    def __init__(self, table: Table) -> None:
        self.stretches, self.feet = _placed(table)
        self.count = max([s.width for s in self.stretches])
        self.heads = 0
        for stretch in self.stretches[: self.feet]:
            if not (stretch.rows.head or stretch.rows.form.header):
                break
            self.heads += 1

    # -- in columns --

    def in_columns(self, width: int, blocks: Blocks) -> list[str] | None:
        """Returns the lines of the table in columns; None where it is too wide."""
        lines = [_row_lines(stretch.rows, width, blocks) for stretch in self.stretches]
        measured = Measured([0] * self.count, narrow=all([each.narrow for each in lines]))  # noqa: C419 - quicker
        for number, (stretch, each) in enumerate(zip(self.stretches, lines, strict=True)):
            columns = [*zip(*each.texts, strict=True)]
            measured.add(stretch.places, stretch.shapes, columns, head=number < self.heads)
        setting = measured.setting(width)
        if setting is None:
            return None
        parts: list[list[str]] = []
        for start, end in ((0, self.heads), (self.heads, self.feet), (self.feet, len(lines))):
            part: list[str] = []
            tall = max(map(max, [each.heights or (0,) for each in lines[start:end]]), default=0) > 1
            for stretch, each in zip(self.stretches[start:end], lines[start:end], strict=True):
                made = setting.lines(stretch.places, stretch.shapes, each.texts)
                part += made if not tall else _rows_apart(made, each.heights, first=not part)
            parts.append(part)
        return setting.ruled(parts)

    # -- as records --

    def as_records(self, width: int, blocks: Blocks) -> list[str]:
        """Returns one record a row: each cell behind the header of its column."""
        names = self._names(width, blocks)
        lines: list[str] = []
        for stretch in self.stretches[self.heads :]:
            for cells in stretch.cells:
                record = list(self._record(stretch, cells, names, width, blocks))
                if record:
                    lines += ["", *record] if lines else record
        return lines

    def _names(self, width: int, blocks: Blocks) -> list[str]:
        names = [""] * self.count
        for stretch in self.stretches[: self.heads]:
            for content, place, shape in zip(stretch.cells[0], stretch.places, stretch.shapes, strict=True):
                text = " ".join(_cell_lines(content, width, blocks))
                for at in range(place, min(self.count, place + shape.columns)):
                    names[at] = f"{names[at]} {text}".strip() if text not in names[at] else names[at]
        return names

    def _record(
        self, stretch: _Stretch, given: Sequence[Content], names: list[str], width: int, blocks: Blocks
    ) -> Iterator[str]:
        cells = [(place, 1, content) for place, content in stretch.reaching]
        cells += [
            (place, shape.columns, content)
            for content, place, shape in zip(given, stretch.places, stretch.shapes, strict=True)
        ]
        filled = [cell for cell in sorted(cells, key=lambda cell: cell[0]) if cell[2]]
        if not filled:
            return
        first, rest = filled[0], filled[1:]
        labelled = stretch.shapes[0].header and not self.heads
        if len(rest) == 1 and isinstance(first[2], str) and (first[1] > 1 or labelled):
            yield from _named(first[2], rest[0][2], width, blocks)  # "Total: 40 €"
            return
        for place, span, content in filled:
            label = span > 1 and not place
            name = "" if label else ", ".join(dict.fromkeys(filter(None, names[place : place + span])))
            yield from _named(name, content, width, blocks)


class Measured:
    """How wide the columns of a table are, and which are numbers, but for their heads; `sizes` are what is known of
    that, `narrow` whether each character is one column wide."""

    def __init__(self, sizes: list[int], *, narrow: bool) -> None:
        self.sizes, self.narrow = sizes, narrow
        self.spanning: list[tuple[int, int, int]] = []  # the texts of cells that span columns: which, and how wide
        self.figures: list[bool | None] = [None] * len(sizes)

    def add(
        self, places: Sequence[int], shapes: Sequence[TableShape], columns: Sequence[Sequence[str]], *, head: bool
    ) -> None:
        """Measure rows that are alike: the columns at which their cells begin, and the texts below each other."""
        size, sizes, figures = len if self.narrow else terminal_columns, self.sizes, self.figures
        for place, shape, column in zip(places, shapes, columns, strict=False):  # without a line there is no column
            most = max(map(size, column))
            if shape.columns > 1:
                self.spanning.append((place, shape.columns, most))
            elif most:
                if most > sizes[place]:
                    sizes[place] = most
                if not head and figures[place] is not False:
                    figures[place] = are_numbers(column)

    def setting(self, width: int) -> Setting | None:
        """Returns what sets the table in so many columns of a line; None where it is too wide."""
        sizes = self.sizes
        for place, span, size in self.spanning:  # there is room for what spans several columns
            lack = size - _across(sizes[place : place + span])
            if lack > 0:
                sizes[place + span - 1] += lack
        total = _across(sizes)
        return Setting(sizes, self.figures, total, narrow=self.narrow) if 0 < total <= width else None


class Setting:
    """Sets lines into columns of these sizes, numbers to the right; columns of nothing are left out."""

    def __init__(self, sizes: list[int], right: Sequence[bool | None], total: int, *, narrow: bool) -> None:
        self.sizes, self.right, self.total = sizes, right, total
        self.is_plain = narrow and all(sizes)

    def lines(self, places: Sequence[int], shapes: Sequence[TableShape], lines: Sequence[Sequence[str]]) -> list[str]:
        """Returns the lines of rows that are alike; each has a text for each cell."""
        if self.is_plain and (columns := self._columns(places, shapes)) is not None:
            pattern = _BETWEEN.join([f"%{size if right else -size}s" for size, right in columns])
            return [(pattern % tuple(texts)).rstrip() for texts in lines]
        taken = [one for one in self._taken(places, shapes) if one[1]]
        made = []
        for texts in lines:
            cells = [
                filled_up([texts[index] if index is not None else ""], size, right=right)[0]
                for index, size, right in taken
            ]
            made.append(_BETWEEN.join(cells).rstrip(ENDS))
        return made

    def _columns(self, places: Sequence[int], shapes: Sequence[TableShape]) -> list[tuple[int, bool | None]] | None:
        """Returns how wide each cell of a row is, and whether it is set to the right; None where cells of rows above
        reach into it."""
        sizes, columns, at = self.sizes, [], 0
        for place, shape in zip(places, shapes, strict=True):
            if place != at:
                return None
            at += shape.columns
            is_one = shape.columns == 1
            columns.append((sizes[place], self.right[place]) if is_one else (_across(sizes[place:at]), False))
        return columns

    def _taken(self, places: Sequence[int], shapes: Sequence[TableShape]) -> Iterator[tuple[int | None, int, bool]]:
        """Yields which cell is where, how wide, and whether to the right; None where there is none."""
        at = 0
        for index, (place, shape) in enumerate(zip(places, shapes, strict=True)):
            for column in range(at, place):
                yield None, self.sizes[column], False
            at = place + shape.columns
            if shape.columns == 1:
                yield index, self.sizes[place], bool(self.right[place])
            else:
                yield index, _across(self.sizes[place:at]), False

    def ruled(self, parts: Sequence[Sequence[str]]) -> list[str]:
        """Returns the lines of a table's head, body and foot, a rule between those that have any."""
        filled: list[str] = []
        for part in parts:
            if part:
                filled += ["-" * max(3, self.total), *part] if filled else part
        return filled


def _across(sizes: Sequence[int]) -> int:
    """Returns the width of columns together, those of nothing left out."""
    shown = [size for size in sizes if size]
    return sum(shown) + _APART * (len(shown) - 1) if shown else 0


# A row says what reaches into it from above, where it is no more than this.
_MOST_REACHING = 20


def _placed(table: Table) -> tuple[list[_Stretch], int]:
    """Returns rows at their places, and which are the first of the foot; cells that reach down from above push others
    aside."""
    every = [*table.rows, *table.feet]
    if not any(rows.form.reaching for rows in every):
        body, feet = _join_alike(table.rows), _join_alike(table.feet)
        return [_Stretch(rows, rows.form.places, rows.form.width) for rows in (*body, *feet)], len(body)
    made: list[_Stretch] = []
    taken: dict[int, Content] = {}  # the columns that cells above reach into, and what those hold
    ending: dict[int, list[int]] = defaultdict(list)  # which of them end before a row
    row = 0
    for rows in every:
        for cells in rows.cells:
            for column in ending.pop(row, ()):
                del taken[column]
            places, at = [], 0
            # That so many cells belong to each of many rows, nobody would follow.
            said = taken if len(taken) <= _MOST_REACHING else {}
            reaching = tuple((place, content) for place, content in sorted(said.items()) if content)
            begun: dict[int, Content] = {}
            for shape, content in zip(rows.form.shapes, cells, strict=True):
                while at in taken:
                    at += 1
                places.append(at)
                if shape.rows > 1:
                    below = [at + n for n in range(shape.columns) if at + n not in taken]
                    begun.update({place: "" if place != at else content for place in below})
                    ending[row + shape.rows] += below
                at += shape.columns
            taken.update(begun)
            row += 1
            made.append(_Stretch(Rows(rows.form, [cells], rows.head, rows.flat), tuple(places), at, reaching))
    return made, sum(len(rows.cells) for rows in table.rows)


def _join_alike(every: Sequence[Rows]) -> list[Rows]:
    """Returns rows of which those of one form that follow one another are together."""
    made: list[Rows] = []
    for rows in every:
        if made and made[-1].form is rows.form and not (rows.head or made[-1].head or rows.form.header):
            before = made[-1]
            made[-1] = Rows(
                rows.form,
                before.cells + rows.cells,
                before.head,
                before.flat and rows.flat,
                before.narrow and rows.narrow,
            )
        else:
            made.append(rows)
    return made


def _row_lines(rows: Rows, width: int, blocks: Blocks) -> RowLines:
    """Returns the lines of rows."""
    laid = rows.laid
    if laid is not None and width in laid:
        return laid[width]
    texts: list[Sequence[str]]
    if rows.flat or all([_is_one_line(content) for cells in rows.cells for content in cells]):  # noqa: C419 - quicker
        texts = rows.cells  # type: ignore[assignment]
        heights = [1] * len(texts)
    else:
        texts, heights = [], []
        for given in rows.cells:
            cells = [_cell_lines(content, width, blocks) for content in given]
            heights.append(max(map(len, cells), default=0))
            texts += [[cell[number] if number < len(cell) else "" for cell in cells] for number in range(heights[-1])]
    narrow = rows.narrow or is_narrow("".join([text for each in texts for text in each]))
    made = RowLines(texts, heights, narrow)
    if laid is not None:
        laid[width] = made
    return made


def _is_one_line(content: Content) -> bool:
    return content.__class__ is str and "\n" not in content


def _cell_lines(content: Content, width: int, blocks: Blocks) -> list[str]:
    """Returns the lines of a cell, as wide as they are."""
    if isinstance(content, str):
        return content.split("\n") if content else []
    return [line.rstrip(GOES_ON + JOINED) for line in blocks(content, width)]


def _rows_apart(lines: Sequence[str], heights: Sequence[int], *, first: bool) -> list[str]:
    """Returns the lines of rows, an empty one before each but the first of all."""
    apart: list[str] = []
    start = 0
    for height in heights:
        apart += (
            lines[start : start + height]
            if (first and not apart) or not height
            else ["", *lines[start : start + height]]
        )
        start += height
    return apart


def _named(name: str, content: Content, width: int, blocks: Blocks) -> list[str]:
    """Returns a cell behind its name."""
    name = f"{name.rstrip(':')}:" if name else ""
    if isinstance(content, str):
        return wrap(f"{name} {content}".strip(), width)
    lines = [line for line in blocks(content, width) if line]
    return [name, *lines] if name and lines else lines
