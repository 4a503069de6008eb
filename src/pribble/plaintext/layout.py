"""Blocks become lines of at most so many columns.

A line that goes on in the next ends in `breaking.GOES_ON` or `JOINED`, and no line ends in a space; a quoted one begins
with as many `QUOTE` as it is deep.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from pribble.mime.flowed import FlowingText, Line
from pribble.plaintext.blocks import (
    Block,
    BlockGroup,
    HorizontalRule,
    LaidTable,
    List,
    ListItem,
    Paragraph,
    Placed,
    Table,
)
from pribble.plaintext.characters import write_spaces
from pribble.plaintext.line_breaking import GOES_ON, JOINED, terminal_columns, wrap
from pribble.plaintext.list_markers import markers
from pribble.plaintext.tables import table_lines

WIDTH = 72
QUOTE = "\x0f"
_GOING = GOES_ON + JOINED

_UNDERLINE = {1: "=", 2: "-"}
# Indented ever deeper, a text keeps this much.
_NARROWEST = 20
_RULE = 40
_INDENT = 4


def layout(page: Sequence[Placed], width: int = WIDTH) -> FlowingText:
    """Returns the text of a page, wrapped at `width` columns."""
    lines = blocks(page, width)
    while lines and not lines[-1]:
        lines.pop()
    if not lines:
        return FlowingText.of([])
    text = write_spaces("\n".join(lines))
    if JOINED in text or QUOTE in text:
        return FlowingText.of(list(map(_trim_line, text.split("\n"))))
    # Its lines are asked for only where it is sent.
    return FlowingText.later(
        text.replace(GOES_ON, "") + "\n",
        lambda: list(map(_trim_line, text.split("\n"))),
        text.replace(GOES_ON, " ") + "\n",
    )


def _trim_line(line: str) -> Line:
    text = line.lstrip(QUOTE)
    depth = len(line) - len(text)
    if text.endswith(JOINED):
        return Line(text[:-1], depth, fixed=False)
    return Line(f"{text[:-1]} ", depth, fixed=False) if text.endswith(GOES_ON) else Line(text, depth)


def blocks(placed: Iterable[Placed], width: int, *, close: bool = False) -> list[str]:
    """Returns the lines of blocks below each other, an empty one between those that stand apart, unless all stand
    `close`."""
    lines: list[str] = []
    gap = False
    for apart, block in placed:
        gap = gap or apart
        if made := _block(block, width):
            if lines and gap and not close:
                lines.append("")
            lines += made
            gap = False
    return lines


_NEVER_KEPT = frozenset({HorizontalRule, LaidTable, ListItem})


def _block(block: Block, width: int) -> list[str]:
    kind = block.__class__
    laid = None if kind in _NEVER_KEPT else block.laid  # type: ignore[union-attr]
    if laid is None:
        return _block_lines(block, width)
    if width not in laid:
        laid[width] = _block_lines(block, width)
    return laid[width]


def _block_lines(block: Block, width: int) -> list[str]:
    match block:
        case Paragraph():
            return _paragraph(block, width)
        case Table():
            return table_lines(block, width, blocks)
        case List():
            return _list_lines(block, width)
        case BlockGroup(kind="quote"):
            return _quote(block, width)
        case BlockGroup():
            return _indented(blocks(block.blocks, max(_NARROWEST, width - _INDENT)), " " * _INDENT)
        case LaidTable(lines=lines):
            return lines
        case HorizontalRule():
            return ["-" * min(width, _RULE)]
        case ListItem():  # one that stands in no list
            return _list_lines(List("disc", blocks=[(False, block)]), width)


def _paragraph(block: Paragraph, width: int) -> list[str]:
    """Returns the lines of a paragraph or heading."""
    lines = wrap(block.text, width)
    if (mark := _UNDERLINE.get(block.level)) is not None:
        # Two hyphens alone would read as the mark before a signature.
        widest = max(terminal_columns(line.rstrip(_GOING)) for line in lines)
        lines.append(mark * max(3, min(width, widest)))
    if block.level:
        lines = [line.rstrip(_GOING) for line in lines]
    return lines


def _quote(block: BlockGroup, width: int) -> list[str]:
    """Returns quoted lines; the mark and the space behind it take two columns (RFC 3676 4.5)."""
    return [QUOTE + line for line in blocks(block.blocks, max(_NARROWEST, width - 2))]


def _indented(lines: list[str], margin: str, first: str | None = None) -> list[str]:
    """Returns lines behind a margin, the first behind one of its own.  They are fixed: a reader that wraps them anew
    would leave the margin within the text."""
    made: list[str] = []
    for line in lines:
        text = line.lstrip(QUOTE)
        quotes = line[: len(line) - len(text)]
        text = text.rstrip(_GOING)
        before = margin if first is None or made else first
        made.append(f"{quotes}{before}{text}" if text or before.strip() else quotes)
    return made


def _list_lines(listed: List, width: int) -> list[str]:
    lines: list[str] = []
    close = all(_is_short(block) for _, block in listed.blocks)
    for marker, (_, block) in zip(markers(listed), listed.blocks, strict=True):
        if isinstance(block, ListItem):
            inner = blocks(block.blocks, max(_NARROWEST, width - len(marker)), close=_is_short(block))
            made = _indented(inner, " " * len(marker), marker) if inner else []
        else:
            made = _block(block, width)
        if made:
            if lines and not close:
                lines.append("")
            lines += made
    return lines


def _is_short(item: Block) -> bool:
    """Returns whether a list item is one paragraph, perhaps with a list below it: such items stand close."""
    if not isinstance(item, ListItem):
        return False
    rest = item.blocks[1:] if item.blocks and isinstance(item.blocks[0][1], Paragraph) else item.blocks
    return all(isinstance(block, List) for _, block in rest)
