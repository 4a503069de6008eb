"""Blocks become lines of at most so many columns."""

from __future__ import annotations

import re

from pribble.plaintext.flow import Block, Cell, Group, Paragraph, Preformatted, Rule, Table

WIDTH = 72
_UNDERLINE = {1: "=", 2: "-"}
_NARROWEST = 20
# A row of an arranging table whose cells are all this short reads best on one line.
_SHORT_CELL = 32
_NUMERIC = re.compile(
    r"[^\w\s]{0,3}\s?(?:[A-Z]{1,3}\s?)?[-+−]?[0-9][0-9.,'’\s\u00a0\u202f]*(?:[^\w\s]|[A-Z]{3})?")


def layout(page: Group, width: int = WIDTH) -> str:
    """The text of a page, wrapped at `width` columns; without trailing spaces, ending in one line break."""
    lines = [line.replace("\u00a0", " ").replace("\u202f", " ").rstrip() for line in _blocks(page.blocks, width)]
    return "\n".join(lines).strip("\n") + "\n" if any(lines) else ""


def columns(text: str) -> int:
    """How many columns of a terminal `text` takes."""
    if text.isascii():
        return len(text)
    from wcwidth import wcswidth  # loaded when first needed

    width = int(wcswidth(text))
    return width if width >= 0 else len(text)


def wrapped(text: str, width: int) -> list[str]:
    """Lines of at most `width` columns, broken at spaces only; a word that is wider stands alone."""
    lines: list[str] = []
    for line in text.split("\n"):
        if columns(line) <= width:
            lines.append(line.strip(" "))
            continue
        current, used = "", 0
        for word in line.split(" "):
            size = columns(word)
            if current and used + 1 + size > width:
                lines.append(current)
                current, used = word, size
            else:
                current, used = (f"{current} {word}", used + 1 + size) if current else (word, size)
        lines.append(current)
    return lines


def _blocks(blocks: list[Block], width: int, *, tight: bool = False) -> list[str]:
    """The lines of blocks below each other, an empty line between them unless they are to stand close."""
    lines: list[str] = []
    for block in blocks:
        made = _block(block, width)
        if made and lines and not tight:
            lines.append("")
        lines += made
    return lines


def _block(block: Block, width: int) -> list[str]:
    match block:
        case Paragraph(text=text, level=level):
            lines = wrapped(text, width)
            if (mark := _UNDERLINE.get(level)) is not None:
                # Two hyphens alone would read as the mark before a signature.
                lines.append(mark * max(3, min(width, max(map(columns, lines)))))
            return lines
        case Preformatted(text=text):
            return text.split("\n")
        case Rule():
            return ["-" * min(width, 40)]
        case Table():
            return _table(block, width)
        case Group(kind="list"):
            return _blocks(block.blocks, width, tight=all(map(_is_short, block.blocks)))
        case Group(kind="item", marker=marker):
            inner = _blocks(block.blocks, max(_NARROWEST, width - len(marker)), tight=_is_short(block))
            return [(marker if number == 0 else " " * len(marker)) + line if line else ""
                    for number, line in enumerate(inner or [""])]
        case Group(kind="quote"):
            inner = _blocks(block.blocks, max(_NARROWEST, width - 2))
            return [f">{line}" if line.startswith(">") else f"> {line}".rstrip() for line in inner]
        case Group(kind="indent"):
            return [f"    {line}" if line else "" for line in _blocks(block.blocks, max(_NARROWEST, width - 4))]
        case Group():
            return _blocks(block.blocks, width)


def _is_short(item: Block) -> bool:
    """Whether a list item is one paragraph, perhaps with a list below it: such items stand close."""
    if not isinstance(item, Group) or item.kind != "item":
        return False
    first, *rest = item.blocks or [Paragraph("")]
    return isinstance(first, Paragraph) and all(isinstance(b, Group) and b.kind == "list" for b in rest)


# ---- tables ---------------------------------------------------------------------------------------------------


def _table(table: Table, width: int) -> list[str]:
    if table.is_data:
        caption = _blocks(table.caption.blocks, width) if table.caption else []
        return [*caption, *([""] if caption else []), *_data(table, width)]
    lines: list[str] = []
    short: list[list[str]] = []  # rows of short cells that follow each other, to stand close and aligned
    for row in table.all_rows:
        filled = [cell for cell in row if cell.content.blocks]
        texts = [text for cell in filled if (text := _short(cell)) is not None]
        if len(texts) == len(filled) > 1:
            short.append(texts)
            continue
        _put_below(lines, _aligned(short, width))
        _put_below(lines, _blocks([block for cell in filled for block in cell.content.blocks], width))
        short = []
    _put_below(lines, _aligned(short, width))
    return lines


def _put_below(lines: list[str], more: list[str]) -> None:
    """Add `more` to `lines`, an empty line between them."""
    lines += ["", *more] if lines and more else more


def _aligned(rows: list[list[str]], width: int) -> list[str]:
    """Rows of short texts, one a line, their columns aligned where that fits."""
    sizes = [max((columns(row[n]) for row in rows if len(row) > n + 1), default=0)
             for n in range(max(map(len, rows), default=0))]
    lines = ["  ".join([text + " " * (sizes[n] - columns(text)) for n, text in enumerate(row[:-1])] + row[-1:])
             for row in rows]
    if any(columns(line) > width for line in lines):
        lines = ["  ".join(row) for row in rows]
    return [part for line in lines for part in wrapped(line, width)]


def _short(cell: Cell) -> str | None:
    """The text of a cell that is one short line, else None."""
    match cell.content.blocks:
        case [Paragraph(text=text, level=0)] if "\n" not in text and columns(text) <= _SHORT_CELL:
            return text
    return None


def _data(table: Table, width: int) -> list[str]:
    """A table of data in columns, numbers to the right; one record a row where it would be too wide."""
    rows = [[(_cell_text(cell), cell) for cell in row] for row in table.all_rows]
    count = max(sum(cell.span for _, cell in row) for row in rows)
    sizes = [0] * count
    right = [True] * count
    for row in rows:
        at = 0
        for text, cell in row:
            if cell.span == 1:
                sizes[at] = max(sizes[at], columns(text))
                right[at] = right[at] and (cell.header or not text or bool(_NUMERIC.fullmatch(text)))
            at += cell.span
    heads = sum(1 for row in table.rows if row and all(cell.header for cell in row))
    if sum(sizes) + 2 * (count - 1) > width or any(
            columns(text) > sum(sizes[:cell.span]) + 40 for row in rows for text, cell in row):
        return _records(rows, heads)
    lines = [_columns(row, sizes, right) for row in rows]
    if heads:
        lines.insert(heads, "-" * max(3, min(width, sum(sizes) + 2 * (count - 1))))
    return lines


def _columns(row: list[tuple[str, Cell]], sizes: list[int], right: list[bool]) -> str:
    pieces, at = [], 0
    for text, cell in row:
        size = sum(sizes[at:at + cell.span]) + 2 * (cell.span - 1)
        space = " " * max(0, size - columns(text))
        pieces.append(space + text if cell.span == 1 and right[at] else text + space)
        at += cell.span
    return "  ".join(pieces).rstrip()


def _records(rows: list[list[tuple[str, Cell]]], heads: int) -> list[str]:
    names = [text for text, _ in rows[heads - 1]] if heads else []
    lines: list[str] = []
    for row in rows[heads:]:
        lines += [""] if lines else []
        lines += [f"{names[i]}: {text}" if i < len(names) and names[i] else text
                  for i, (text, _) in enumerate(row) if text]
    return lines


def _cell_text(cell: Cell) -> str:
    return " ".join(" ".join(_blocks(cell.content.blocks, 10_000)).split())
