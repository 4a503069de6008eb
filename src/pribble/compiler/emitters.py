"""Straight runs of steps become statements: f-strings, appended to a list of pieces."""

from __future__ import annotations

import ast
from collections.abc import Callable, Sequence
from functools import lru_cache

from pribble.compiler.escapers import wrapper
from pribble.compiler.expression_compiler import ExpressionCompiler
from pribble.compiler.steps import (
    BeginCapture,
    CapturedValue,
    DynamicPicture,
    DynamicPictureSize,
    EmbedVariants,
    EndCapture,
    OptionalAttribute,
    PieceStep,
    RunStep,
    ShowValue,
    StaticPicture,
    TextStep,
)
from pribble.compiler.syntax_trees import parsed
from pribble.errors import Place
from pribble.passes.picture_sizes import PictureSize
from pribble.passes.pieces import Boundary, FragmentSlice, PreheaderPlace, VariantPiece
from pribble.passes.traces import TraceBegin, TraceEnd
from pribble.pictures.picture_slots import Embed, PictureSlot
from pribble.records import record

# So many texts are joined into one piece at the most, so that each piece is counted before it grows large.
_LONGEST_PIECE = 100


class PieceEmitter:
    """Writes straight runs as one f-string each, appended to a list of pieces (`pribble.passes.pieces`)."""

    result = "out"

    def __init__(self) -> None:
        self._into = "out"

    @property
    def prologue(self) -> str:
        """What the function begins with."""
        return "out = []; left = LIMITS.output"

    def emit(self, run: Sequence[RunStep], expressions: ExpressionCompiler) -> list[ast.stmt]:
        """Returns the statements of a run."""
        statements: list[ast.stmt] = []
        texts: list[ast.expr] = []

        def flush() -> None:
            if texts:
                statements.extend(self._made(texts))
                texts.clear()

        for step in run:
            if len(texts) >= _LONGEST_PIECE:
                flush()
            if isinstance(step, TextStep):
                texts.append(self._text(step, expressions))
            else:
                flush()
                statements += self._statements(step, expressions)
        flush()
        return statements

    def _made(self, texts: Sequence[ast.expr]) -> list[ast.stmt]:
        """Returns the statements that make a piece of texts, and count its length: without a call, since there is one
        for every few values."""
        return [ast.Assign([ast.Name("piece", ast.Store())], formatted(texts)), *_piece_added(self._into)]

    def _text(self, step: TextStep, expressions: ExpressionCompiler) -> ast.expr:
        """Returns the expression for the text of a step."""
        match step:
            case str():
                return ast.Constant(step)
            case ShowValue(value=value, context=context):
                return expressions.shown(value, context)
            case OptionalAttribute(before=before, shown=shown, after=after):
                return unless_nothing(
                    shown,
                    ast.Constant(""),
                    lambda text: formatted([ast.Constant(before), text, ast.Constant(after)]),
                    expressions,
                )
            case DynamicPictureSize(place=place, size=size):
                given = expressions.constant(size), expressions.constant(place)
                return expressions.call("picture_size", _name("picture_"), *given, place=place)

    def _statements(self, step: PieceStep, expressions: ExpressionCompiler) -> list[ast.stmt]:
        """Returns the statements of a step that is a piece by itself, or changes where pieces go."""
        match step:
            case StaticPicture(slot=slot):
                return [appended(expressions.constant(slot, named=True), self._into)]
            case CapturedValue(value=value):
                return [appended(ast.Tuple([expressions.value(value)], ast.Load()), self._into)]
            case BeginCapture():
                self._into = "held"
                return holding()
            case EndCapture(before=before, after=after):
                self._into = "out"
                filled = _call("filled", _name("held"), ast.Constant(before), ast.Constant(after))
                return [ast.AugAssign(ast.Name("out", ast.Store()), ast.Add(), filled)]
            case EmbedVariants(by_cid=by_cid, otherwise=otherwise):
                variants = VariantPiece(tuple(map(_variant_piece, by_cid)), tuple(map(_variant_piece, otherwise)))
                return [appended(expressions.constant(variants, named=True), self._into)]
            case DynamicPicture(value=value, place=place):
                size = step.size or PictureSize()
                request = expressions.constant(PictureRequest(place, wrapper(step.within), size, step.travels))
                if value is None:
                    self._into = "out"
                    found = expressions.call("picture_composed", _name("held"), request, place=place)
                else:
                    found = expressions.call("picture", expressions.value(value), request, place=value.place)
                assign = ast.Assign([ast.Name("picture_", ast.Store())], found)
                return [assign, appended(_name("picture_"), self._into)]
            case Boundary() | FragmentSlice() | PreheaderPlace() | TraceBegin() | TraceEnd():
                return [appended(expressions.constant(step, named=True), self._into)]


class PageEmitter(PieceEmitter):
    """Writes the program of a page: it gives its pieces, no kept values, and the values of no ``let``."""

    result = "(out, (), None)"


class LineEmitter(PieceEmitter):
    """Writes the program of a line: its pieces are texts only, joined, each run of white space one space."""

    result = '" ".join("".join(out).split())'


class TextEmitter(PieceEmitter):
    """Writes the program of a plain text written by hand: its lines are kept, and trimmed at their ends, but for the
    mark before a signature."""

    result = "trimmed(out)"


@record(frozen=True, slots=True)
class PictureRequest:
    """How a picture that the data choose is asked for: where it is named, how its address is written, how large it is
    shown, how it travels."""

    place: Place
    wrap: Callable[[str], str]
    size: PictureSize
    travels: Embed | None


def _variant_piece(step: str | StaticPicture) -> str | PictureSlot:
    return step.slot if isinstance(step, StaticPicture) else step


def _name(name: str) -> ast.expr:
    return ast.Name(name, ast.Load())


def _call(function: str, *arguments: ast.expr) -> ast.expr:
    return ast.Call(_name(function), list(arguments), [])


@lru_cache(maxsize=2)  # the same statements for all pieces: nobody changes them
def _piece_added(into: str) -> tuple[ast.stmt, ...]:
    """Returns ``into.append(piece); left -= len(piece)``, and what raises where nothing is left."""
    added, checked = f"{into}.append(piece); left -= len(piece)", "if left < 0: output_full()"
    return (*parsed(added).body, *parsed(checked).body)


def holding() -> list[ast.stmt]:
    """Returns ``held = []``"""
    return parsed("held = []").body


def counted_output(value: ast.expr) -> ast.expr:
    """Returns ``kept(room, value)``: no template makes more than is permitted, however it multiplies."""
    return _call("kept", _name("room"), value)


def appended(value: ast.expr, into: str) -> ast.stmt:
    """Returns ``into.append(value)``"""
    return ast.Expr(ast.Call(ast.Attribute(_name(into), "append", ast.Load()), [value], []))


def formatted(texts: Sequence[ast.expr]) -> ast.expr:
    """Returns an f-string of `texts`; in it, nothing shows as nothing."""
    if len(texts) == 1 and isinstance(texts[0], ast.Constant):
        return texts[0]
    return ast.JoinedStr([t if isinstance(t, ast.Constant) else ast.FormattedValue(t, -1) for t in texts])


def unless_nothing(
    shown: ShowValue, nothing: ast.expr, around: Callable[[ast.expr], ast.expr], expressions: ExpressionCompiler
) -> ast.expr:
    """Returns `nothing` where a value is nothing, else what `around` makes of the text of the value."""
    how, place = expressions.escaper_name(shown.context), shown.value.place
    is_text = ast.Compare(ast.Attribute(_name("whole"), "__class__", ast.Load()), [ast.Is()], [_name("str")])
    direct, general = (expressions.call(name, _name("whole"), place=place) for name in (how, f"show_{how}"))
    text = ast.IfExp(is_text, direct, general)
    test = ast.Compare(
        ast.NamedExpr(ast.Name("whole", ast.Store()), expressions.value(shown.value)), [ast.Is()], [_name("NOTHING")]
    )
    return ast.IfExp(test, nothing, around(text))
