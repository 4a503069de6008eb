"""Tables: those that only arrange are read cell by cell, those of data are set in columns, or as one record a row.

A row of short texts in an arranging table ("Total", "40 €") stays on one line, in line with those above and below it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from pribble.plaintext.blocks import Content, Paragraph, Placed, Table, inner_blocks, reduced
from pribble.plaintext.characters import KEPT
from pribble.plaintext.grids import Blocks, are_numbers, data_lines, filled_up, widest
from pribble.plaintext.line_breaking import terminal_columns

_APART = "  "
# So wide at most is a text that stands in one line with others, the last one in it aside.
_SHORT = 32
_MOST_PLACES = 20


def table_lines(table: Table, width: int, blocks: Blocks) -> list[str]:
    """Returns the lines of a table; `blocks` gives those of what a cell holds."""
    if is_data(table):
        caption = blocks(table.caption, width)
        lines = data_lines(table, width, blocks)
        return [*caption, *([""] if caption and lines else []), *lines]
    return blocks(arranged(table, width), width)


def is_data(table: Table) -> bool:
    """Returns whether a table says something by its columns, and does not merely arrange.

    A table of header cells alone is one that arranges: mail designs use them as columns.
    """
    if table.arranging:
        return False
    rows = [*table.rows, *table.feet]
    forms = {row.form for row in rows}
    if not forms or max(form.width for form in forms) < 2 or sum([len(row.cells) for row in rows]) < 2:
        return False
    if table.caption or any(row.head for row in rows):
        return True
    headers = [shape.header for form in forms for shape in form.shapes]
    return any(headers) and not all(headers)


# ---- tables that arrange ----------------------------------------------------------------------------------------


def arranged(table: Table, width: int) -> Iterator[Placed]:
    """Yields what an arranging table says: its cells one after the other, rows of short texts as lines."""
    yield from table.caption
    waiting: list[list[str]] = []
    for shapes, given in ((rows.form.shapes, cells) for rows in (*table.rows, *table.feet) for cells in rows.cells):
        cells = [_without_arranging(content, width) for content in given]
        texts = [cell if isinstance(cell, str) else None for cell in cells]
        if _is_line(texts, width):
            waiting.append(
                [
                    text
                    for text, shape in zip(texts, shapes, strict=True)
                    for text in [text or "", *[""] * (shape.columns - 1)][:_MOST_PLACES]
                ]
            )
            continue
        yield from _in_line(waiting, width)
        waiting = []
        for cell in cells:
            yield from inner_blocks(cell)
    yield from _in_line(waiting, width)


def _without_arranging(content: Content, width: int) -> Content:
    """Returns the content of a cell, of which an arranging table in it is read as what it holds."""
    if isinstance(content, str) or not any(isinstance(b, Table) and not is_data(b) for _, b in content):
        return content
    made: list[Placed] = []
    for apart, block in content:
        if isinstance(block, Table) and not is_data(block):
            made += arranged(block, width)
        else:
            made.append((apart, block))
    return reduced(made)


def _is_line(texts: Sequence[str | None], width: int) -> bool:
    """Returns whether the texts of a row, None for what is no text, are short enough to stand on one line."""
    said = [text for text in texts if text != ""]
    if len(said) < 2 or any(text is None or "\n" in text for text in said):
        return False
    sizes = [terminal_columns(text) for text in said if text]
    return (
        max(sizes[:-1]) <= _SHORT
        and sum(sizes) + len(_APART) * (len(sizes) - 1) <= width
        and (sizes[-1] <= _SHORT or len(sizes) == 2)
    )


def _in_line(rows: list[list[str]], width: int) -> Iterator[Placed]:
    """Yields rows of short texts, one a line, their columns in line where that fits."""
    if not rows:
        return
    count = max(map(len, rows))
    places = [[row[n] if n < len(row) else "" for row in rows] for n in range(count)]
    places = [place for place in places if any(place)]
    aligned = [filled_up(place, widest(place), right=len(rows) > 1 and are_numbers(place)) for place in places]
    lines = [_APART.join(cells).rstrip() for cells in zip(*aligned, strict=True)]
    if any(terminal_columns(line) > width for line in lines):
        lines = [_APART.join(filter(None, row)) for row in rows]
    for number, line in enumerate(lines):
        yield number == 0, Paragraph(line.replace(" ", KEPT))
