"""Values that both forms show: the HTML's program keeps their texts as it shows them, and the text's takes them over.

Both programs go through the same loops and choices.  A straight run of the HTML's keeps what it made and the values in
it as one tuple, in a list of its own; where the text's program is at the same place, it takes the next.
"""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from html import unescape
from itertools import chain, repeat

from pribble.compiler.mark_analysis import brought_elements
from pribble.compiler.steps import BeginCapture, EndCapture, ShowValue, Step
from pribble.compiler.syntax_trees import parsed, parsed_expression
from pribble.compiler.text_steps import (
    BeginPart,
    EndPart,
    FillPattern,
    FillRow,
    TakeRows,
    TextCall,
    TextFormStep,
    TextParts,
)
from pribble.language.linked_source import CLOSE, OPEN, SET, Loop, Marker
from pribble.passes.text_values import inline_text
from pribble.plaintext.characters import BOUND, are_tidy, bound, joined_texts
from pribble.plaintext.known_tables import Columns
from pribble.plaintext.line_breaking import is_narrow
from pribble.values.kinds import Data


class ReusedValues:
    """The values that both forms show, by their expressions, and in which run and at which place the HTML keeps
    them."""

    def __init__(self, html: Iterable[Step], text: Iterable[TextFormStep]) -> None:
        kept, taken = (Counter(id(shown.value) for shown in each) for each in (_between_tags(html), _in_text(text)))
        # What stands in one form twice is not told apart.
        self.shared = {value for value, count in kept.items() if count == 1 == taken[value]}
        self.places: dict[int, tuple[int, int]] = {}
        self.runs = 0
        self.fetched: set[int] = set()

    # -- in the HTML's program --

    def is_kept(self, shown: ShowValue) -> bool:
        """Returns whether the HTML's program keeps the text of a value."""
        return id(shown.value) in self.shared and _is_bare(shown)

    def keep(self, values: Sequence[ShowValue | None]) -> list[ast.stmt]:
        """Returns ``kept_1.append((piece, shown_1_0, shown_1_1))``: what a run has made, and its values; those that the
        text takes over are no None here."""
        names = ["piece"]
        for place, shown in enumerate(values):
            if shown is not None:
                self.places[id(shown.value)] = self.runs, place + 1
            names.append(f"shown_{self.runs}_{place}")
        self.runs += 1
        return parsed(f"kept_{self.runs - 1}.append(({', '.join(names)},))").body

    def named(self, place: int, text: ast.expr) -> ast.expr:
        """Returns the text of a value of the run that is being written, kept in a variable on the way."""
        return ast.NamedExpr(ast.Name(f"shown_{self.runs}_{place}", ast.Store()), text)

    @property
    def beginning(self) -> str:
        """What the HTML's program begins with."""
        return "".join([f"; kept_{run} = []" for run in range(self.runs)])

    @property
    def result(self) -> str:
        """What it gives beside its pieces."""
        return f"({''.join([f'kept_{run}, ' for run in range(self.runs)])})"

    # -- in the text's program --

    def taken(self, shown: ShowValue, statements: list[ast.stmt]) -> ast.expr | None:
        """Returns the text of a value as the HTML's program kept it, or None; `statements` get what has to go
        before."""
        found = self.places.get(id(shown.value))
        if found is None:
            return None
        run, place = found
        if run not in self.fetched:
            self.fetched.add(run)
            statements += parsed(f"run_{run} = next_{run}()").body
        # What is said as it is shown takes no call.
        is_same = '"&" not in t'
        function = "shared_event"
        if shown.context.escaper == "inline":
            is_same, function = f'{is_same} and t.isprintable() and "  " not in t', "shared_inline"
        return parsed_expression(f"t if (t := run_{run}[{place}]).__class__ is str and {is_same} else {function}(t)")

    def with_whole_runs(self, steps: Sequence[TextFormStep]) -> list[TextFormStep]:
        """Returns the steps of the text's program, in which the rows of a table are taken over as a whole, where each
        cell is one value that the HTML's program has kept.  The loop that brings them need not be run again; one
        within another loop is, which brings its rows in several parts."""
        made: list[TextFormStep] = []
        opened: list[bool] = []  # of the blocks that are open, whether they are loops
        begun = 0  # where the last part began in what is made
        for step in steps:
            made.append(step)
            if isinstance(step, BeginPart):
                begun = len(made) - 1
            elif isinstance(step, Marker) and step.role == OPEN:
                opened.append(step.loop is not None)
            elif isinstance(step, Marker) and step.role == CLOSE:
                opened.pop()
            elif isinstance(step, EndPart) and not any(opened) and (rows := self._rows(made[begun:])) is not None:
                made[begun:] = [rows]
        return made

    def _rows(self, steps: Sequence[TextFormStep]) -> TakeRows | None:
        """Returns what the steps of a part bring as a whole, if it is rows of values that were kept."""
        match [step for step in steps if not (isinstance(step, Marker) and step.role == SET)]:
            case [BeginPart(number=number), Marker(loop=Loop()), FillRow(texts=texts), Marker(), EndPart()]:
                return self._taken_rows(number, texts)
        return None

    def _taken_rows(self, number: int, texts: Iterable[TextParts | int]) -> TakeRows | None:
        cells: list[tuple[int, bool]] = []
        runs: set[int] = set()
        for text in texts:
            shown, breaks = _only_value(text)
            found = self.places.get(id(shown.value)) if shown is not None else None
            if found is None:
                return None
            runs.add(found[0])
            cells.append((found[1], breaks))
        return TakeRows(number, runs.pop(), tuple(cells)) if len(runs) == 1 else None

    @property
    def unpacked(self) -> str:
        """What the text's program begins with: it is given what the HTML's kept."""
        return "".join([f"next_{run} = iter(runs[{run}]).__next__; " for run in self.fetched])


def _between_tags(steps: Iterable[Step]) -> Iterator[ShowValue]:
    holding = False
    for step in steps:
        holding = (holding or isinstance(step, BeginCapture)) and not isinstance(step, EndCapture)
        if isinstance(step, ShowValue) and not holding and _is_bare(step):
            yield step


def _is_bare(shown: ShowValue) -> bool:
    """Returns whether a value stands between tags as a text."""
    return shown.context.escaper == "markup" and not shown.context.wrappers and not brought_elements(shown.value)


def _in_text(steps: Iterable[TextFormStep]) -> Iterator[ShowValue]:
    for step in steps:
        if isinstance(step, ShowValue) and step.context.escaper == "event":
            yield step
        elif isinstance(step, FillPattern | FillRow):
            for text in step.texts:
                if isinstance(text, TextParts):
                    yield from _in_parts(text)


def _in_parts(text: TextParts) -> Iterator[ShowValue]:
    for part in text.parts:
        if isinstance(part, ShowValue):
            if part.context.escaper == "inline":
                yield part
        elif isinstance(part, TextCall):
            for argument in part.arguments:
                if isinstance(argument, TextParts):
                    yield from _in_parts(argument)


def _only_value(text: TextParts | int) -> tuple[ShowValue | None, bool]:
    """Returns the value that is all of a text in a paragraph, if one is, and whether lines are broken at its spaces."""
    match text:
        case TextParts(parts=(ShowValue() as shown,)) if shown.context.escaper == "inline":
            return shown, True
        case TextParts(parts=(TextCall(function="bound", arguments=(TextParts() as inner,)),)):
            return _only_value(inner)[0], False
    return None, True


# ---- what the programs call -------------------------------------------------------------------------------------


def reused_event(shown: str) -> str:
    """Returns the text of a value, from what it is between tags: exactly what `values.escaping.markup` was given.  What
    is nothing is none."""
    if shown.__class__ is not str:
        shown = f"{shown}"
    return unescape(shown) if "&" in shown else shown


def reused_inline(shown: str) -> str:
    """Returns the same in a paragraph."""
    return inline_text(shown) if shown.__class__ is str and "&" not in shown else inline_text(reused_event(shown))


class _Anything:
    """What is kept of any number of runs, each value of which is empty."""

    def __getitem__(self, run: int) -> Iterable[_Empty]:
        return repeat(_EMPTY)


class _Empty:
    def __getitem__(self, place: int) -> str:
        return ""


_EMPTY = _Empty()
# For a text's program that is run by itself, to collect the problems of the data.
NOTHING_KEPT = _Anything()


def reused_columns(runs: Data, run: int, cells: Sequence[tuple[int, bool]]) -> Columns:
    """Returns the texts of all rows that a run has made, in columns: the values at these places as `reused_inline`
    gives them, and as `characters.bound` where lines are not broken at their spaces."""
    rows = () if runs is NOTHING_KEPT else runs[run]
    shown = [*zip(*rows, strict=True)]
    columns: list[Sequence[str]] = [shown[place] for place, _ in cells] if shown else [()] * len(cells)
    try:
        joined = joined_texts(chain(*columns))
        # Flat texts without references are in a paragraph what they are between tags.
        are_flat = "&" not in joined and BOUND not in joined and are_tidy(joined)
    except TypeError:  # one is nothing
        are_flat = False
    if not are_flat:
        columns = [[*map(reused_inline, column)] for column in columns]
        joined = joined_texts(chain(*columns))
        are_flat = are_tidy(joined)
    texts = [column if breaks else [*map(bound, column)] for column, (_, breaks) in zip(columns, cells, strict=True)]
    return Columns(texts, are_flat, is_narrow(joined))


REUSE_FUNCTIONS: dict[str, Data] = {
    "shared_event": reused_event,
    "shared_inline": reused_inline,
    "shared_columns": reused_columns,
}
