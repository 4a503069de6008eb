"""Straight runs of steps become statements: f-strings, appended to a list of pieces."""

from __future__ import annotations

import ast
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

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
    ShowValue,
    StaticPicture,
)
from pribble.compiler.value_reuse import ReusedValues
from pribble.compiler.wire_form import WireTemplate
from pribble.errors import Place
from pribble.passes.picture_sizes import PictureSize
from pribble.pictures.picture_slots import Embed, VariantPiece

# So many texts are joined into one piece at the most, so that each piece is counted before it grows large.
_LONGEST_PIECE = 100


class PieceEmitter:
    """Writes straight runs as one f-string each, appended to a list of pieces.

    Pieces are texts; a `Source` among them stands for a picture, `PREHEADER` for the preheader.
    """

    result = "out"

    def __init__(self) -> None:
        self._append = "append"

    @property
    def prologue(self) -> str:
        """What the function begins with."""
        return "out = []; append = out.append"

    def emit(self, run: Sequence[Any], expressions: ExpressionCompiler) -> list[ast.stmt]:
        statements: list[ast.stmt] = []
        texts: list[ast.expr] = []

        def flush() -> None:
            if texts:
                statements.extend(self._made(texts))
                texts.clear()

        for step in run:
            if len(texts) >= _LONGEST_PIECE:
                flush()
            if (text := self._text(step, expressions)) is not None:
                texts.append(text)
                continue
            flush()
            statements += self._statements(step, expressions)
        flush()
        return statements

    def _made(self, texts: Sequence[ast.expr]) -> list[ast.stmt]:
        """The statements that make a piece of texts."""
        return [appended(counted_output(formatted(texts)), self._append)]

    def _text(self, step: Any, expressions: ExpressionCompiler) -> ast.expr | None:
        """What a step that is a text comes to; None for others."""
        match step:
            case str() if step.__class__ is str:
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
            case DynamicPictureSize():
                return expressions.call(
                    "picture_size",
                    _name("picture_"),
                    expressions.constant(step.size),
                    expressions.constant(step.place),
                    place=step.place,
                )
        return None

    def _statements(self, step: Any, expressions: ExpressionCompiler) -> list[ast.stmt]:
        match step:
            case StaticPicture(source=source):
                return [appended(expressions.constant(source, named=True), self._append)]
            case CapturedValue(value=value):
                return [appended(ast.Tuple([expressions.value(value)], ast.Load()), self._append)]
            case BeginCapture():
                self._append = "hold"
                return holding()
            case EndCapture(before=before, after=after):
                self._append = "append"
                filled = _call("filled", _name("held"), ast.Constant(before), ast.Constant(after))
                return [ast.AugAssign(ast.Name("out", ast.Store()), ast.Add(), filled)]
            case EmbedVariants(by_cid=by_cid, otherwise=otherwise):
                fork = VariantPiece.of(
                    [_variant_piece(step) for step in by_cid], [_variant_piece(step) for step in otherwise]
                )
                return [appended(expressions.constant(fork, named=True), self._append)]
            case DynamicPicture(value=value, place=place):
                wanted = expressions.constant(
                    PictureRequest(place, wrapper(step.within), step.size or PictureSize(), step.travels)
                )
                if value is None:
                    self._append = "append"
                    found = expressions.call("picture_composed", _name("held"), wanted, place=place)
                else:
                    found = expressions.call("picture", expressions.value(value), wanted, place=value.place)
                assign = ast.Assign([ast.Name("picture_", ast.Store())], found)
                return [assign, appended(_name("picture_"), self._append)]
        return [appended(expressions.constant(step, named=True), self._append)]


class HtmlEmitter(PieceEmitter):
    """Writes the HTML's program, which keeps its values, and gives them beside its pieces: for the text, which shows
    some of them too, and for the wire, where the template's own texts are encoded already."""

    def __init__(self, reuse: ReusedValues, frames: WireTemplate) -> None:
        super().__init__()
        self.reuse, self.frames = reuse, frames
        self._texts: list[ShowValue | None] = []  # of the run that is being written, its values that the text shows too

    @property
    def prologue(self) -> str:
        return super().prologue + self.reuse.beginning

    @property
    def result(self) -> str:  # type: ignore[override]
        return f"(out, {self.reuse.result})"

    def _made(self, texts: Sequence[ast.expr]) -> list[ast.stmt]:
        shown, self._texts = self._texts, []
        if self._append != "append":
            return super()._made(texts)
        if all(isinstance(text, ast.Constant) for text in texts):
            self.frames.texts.add("".join([str(text.value) for text in texts if isinstance(text, ast.Constant)]))
            return super()._made(texts)
        self.frames.runs.append([str(t.value) if isinstance(t, ast.Constant) else None for t in texts])
        values = [text for text in texts if not isinstance(text, ast.Constant)]
        names = iter([self.reuse.named(place, text) for place, text in enumerate(values)])
        kept = formatted([text if isinstance(text, ast.Constant) else next(names) for text in texts])
        piece = self.reuse.named_piece(counted_output(kept))
        return [appended(piece, self._append), *self.reuse.keep(shown)]

    def _text(self, step: Any, expressions: ExpressionCompiler) -> ast.expr | None:
        text = super()._text(step, expressions)
        if text is not None and not isinstance(text, ast.Constant):
            is_shared = isinstance(step, ShowValue) and self.reuse.is_kept(step)
            self._texts.append(step if is_shared else None)
        return text

    def _statements(self, step: Any, expressions: ExpressionCompiler) -> list[ast.stmt]:
        if isinstance(step, StaticPicture):
            self.frames.texts.add(str(step.source))
        elif isinstance(step, str):
            self.frames.texts.add(str(step))
        return super()._statements(step, expressions)


class LineEmitter(PieceEmitter):
    """Writes the program of a line: its pieces are texts only, joined, each run of white space one space."""

    result = '" ".join("".join(out).split())'


class TextEmitter(PieceEmitter):
    """Writes the program of a plain text written by hand: its lines are kept, and trimmed at their ends, but for the
    mark before a signature."""

    result = "trimmed(out)"


@dataclass(frozen=True, slots=True)
class PictureRequest:
    """What is asked of a picture that the data choose: where it is named, how its address is written, how large it is
    shown, how it travels."""

    place: Place
    wrap: Callable[[str], str]
    size: PictureSize
    travels: Embed | None


def _variant_piece(step: Any) -> str:
    return step.source if isinstance(step, StaticPicture) else str(step)


def _name(name: str) -> ast.expr:
    return ast.Name(name, ast.Load())


def _call(function: str, *arguments: ast.expr) -> ast.expr:
    return ast.Call(_name(function), list(arguments), [])


def holding() -> list[ast.stmt]:
    """``held = []; hold = held.append``"""
    return ast.parse("held = []; hold = held.append").body


def counted_output(value: ast.expr) -> ast.expr:
    """``kept(room, value)``: no template makes more than is permitted, however it multiplies."""
    return _call("kept", _name("room"), value)


def appended(value: ast.expr, append: str = "append") -> ast.stmt:
    """``append(value)``"""
    return ast.Expr(_call(append, value))


def formatted(texts: Sequence[ast.expr]) -> ast.expr:
    """An f-string of `texts`; in it, nothing shows as nothing."""
    if len(texts) == 1 and isinstance(texts[0], ast.Constant):
        return texts[0]
    return ast.JoinedStr([t if isinstance(t, ast.Constant) else ast.FormattedValue(t, -1) for t in texts])


def unless_nothing(
    shown: ShowValue, nothing: ast.expr, around: Callable[[ast.expr], ast.expr], expressions: ExpressionCompiler
) -> ast.expr:
    """`nothing` where a value comes to nothing, else what `around` makes of the value shown."""
    text = expressions.call(f"show_{expressions.way(shown.context)}", _name("whole"), place=shown.value.place)
    test = ast.Compare(
        ast.NamedExpr(ast.Name("whole", ast.Store()), expressions.value(shown.value)), [ast.Is()], [_name("NOTHING")]
    )
    return ast.IfExp(test, nothing, around(text))
