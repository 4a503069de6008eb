"""Blocks of text within a template become steps: subjects, preheaders, plain texts."""

from __future__ import annotations

from pribble.compiler.program import needed
from pribble.compiler.steps import BlockStep, block_steps
from pribble.language.linked_source import LinkedSource
from pribble.markup.contexts import MARK, Context
from pribble.markup.references import decode_references
from pribble.records import replace


def build_block_steps(linked: LinkedSource, context: Context, *, references: bool) -> list[BlockStep]:
    """Returns the steps of a linked source that is text and no markup, its values shown in `context`; with
    `references`, those in its literals are read."""
    used = needed(linked)
    steps: list[BlockStep] = []
    position = 0
    for found in [*MARK.finditer(linked.text), None]:
        end = found.start() if found else len(linked.text)
        literal = linked.text[position:end]
        steps += [decode_references(literal) if references else literal] if literal else []
        if found:
            steps += block_steps(linked.mark(end), context, used)
            position = found.end()
    return steps


def dedented(linked: LinkedSource) -> LinkedSource:
    """Returns plain text without the indentation that all its lines share, and without empty lines at its ends."""
    lines = linked.text.split("\n")
    filled = [line for line in lines if line.strip()]
    common = min((len(line) - len(line.lstrip(" \t")) for line in filled), default=0)
    text = "\n".join(line[common:] if line.strip() else "" for line in lines)
    return replace(linked, text=text.strip("\n"))
