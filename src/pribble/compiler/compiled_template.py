"""A template compiled: its programs, from its linked tape."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from pribble.compiler.emitters import KeepingSink, LineSink, PieceSink, TextSink
from pribble.compiler.html_program import (
    dedented,
    html_steps,
    standing_places,
    text_block_steps,
    text_page_steps,
    title_steps,
)
from pribble.compiler.program import Program, Run, World, compiled
from pribble.compiler.steps import LINE, PLAIN, Chosen, Embedded, Forked
from pribble.compiler.text_program import EventSink, text_steps
from pribble.compiler.value_reuse import NOTHING_KEPT, Sharing
from pribble.compiler.wire_form import Frames, Kept
from pribble.errors import Place, PribbleError, Related, TemplateError, UnsafeValue
from pribble.findings import Finding
from pribble.language.linked_source import BRANCH, LIFTED, OPEN, SHOW, LiftedBlock, Tape, mark_index
from pribble.language.stray_marks import strays
from pribble.markup.contexts import MarkupError
from pribble.markup.events import Opened
from pribble.markup.page import Page, read
from pribble.markup.value_branches import ELSE, KEPT, REPEATING
from pribble.passes.page_resources import Sheets, Surroundings, findings, noted
from pribble.passes.style_edits import Dressing, dress
from pribble.passes.text_styles import depends_on_data, looks
from pribble.values.escaping import is_seen
from pribble.values.settings import Settings


@dataclass(frozen=True, slots=True)
class Bound:
    """The programs of a template for one locale and time zone.

    The HTML's gives its pieces and what it kept; with `shares`, the text's is given that beside the data.
    """

    html: Run | None
    text: Run
    subject: Run | None
    preheader: Run | None
    shares: bool = False

    def pieces(self, data: Any) -> tuple[list[str] | None, Kept, Any]:
        """The pieces of the HTML, None for a template that has none; what was kept; and what the text's program is
        given."""
        if self.html is None:
            return None, (), data
        pieces, kept = self.html(data)
        return pieces, kept, (data, kept) if self.shares else data


@dataclass(frozen=True, slots=True)
class Compiled:
    """A template's tape and programs; `html` is missing of a text-only one, `subject` and `preheader` may be.

    `headed` is where the subject stands, `findings` what is told of the page, `righted` what was put right in it.
    `doubts` are why it can only be dressed when it is rendered: places and reasons.  `files` are the style sheets and
    pictures it was made with; an `even` page has no stretch of two forms, and no picture that travels in its own way.
    `pictures` are the marks, by their places among the tape's, whose values are pictures.  The text is taken `late`,
    from the rendered page, where it depends on the data what of it shows; then its program gives the pieces of that
    page.  The `frames` write a page that was dressed when it was compiled for the wire, the `sheets` dress one that is
    dressed late.
    """

    tape: Tape
    html: Program | None
    text: Program
    subject: Program | None
    preheader: Program | None
    headed: Place | None
    findings: tuple[Finding, ...] = ()
    righted: tuple[Finding, ...] = ()
    doubts: tuple[tuple[Place, str], ...] = ()
    files: tuple[Path, ...] = ()
    even: bool = False
    pictures: frozenset[int] = frozenset()
    late: bool = False
    shares: bool = False
    frames: Frames | None = None
    sheets: Sheets = field(default_factory=Sheets)

    def bound(self, settings: Settings, world: World) -> Bound:
        """The programs as functions of the data."""
        others = self._without_point(settings)
        html, subject, preheader = (
            program.bound(settings, world, others) if program else None
            for program in (self.html, self.subject, self.preheader)
        )
        text = self.text.bound(settings, world, others)
        return Bound(html, text, subject and self._filled(subject), preheader, self.shares)

    def _without_point(self, settings: Settings) -> dict[Place, str]:
        """The marks that show a value as it is where the locale, which is given, writes no point before decimals."""
        lifted = [mark.lifted.tape for mark in self.tape.marks if mark.lifted is not None]
        shown = [mark for tape in (self.tape, *lifted) for mark in tape.marks if mark.role == SHOW and mark.value]
        return {
            mark.value.place: locale
            for mark in shown
            if mark.value is not None and not Settings(locale := mark.locale or settings.locale).has_point
        }

    def _filled(self, subject: Run) -> Run:
        """`subject`, which may not come to nothing: a receiver would show none, or something else in its place."""

        def filled(data: Any) -> Any:
            line = subject(data)
            if not is_seen(line):
                raise UnsafeValue(
                    "the subject comes to nothing", place=self.headed, hint="say what it is instead: {{ … else … }}"
                )
            return line

        return filled

    def problems(self, settings: Settings, world: World, data: Any) -> list[PribbleError]:
        """All that is wrong with the data, each place once."""
        told: dict[tuple[str, str], PribbleError] = {}
        for program in self._all():
            given = (data, NOTHING_KEPT) if program is self.text and self.shares else data
            for problem in program.surveyed(settings, world, given):
                told.setdefault((str(problem.place), problem.problem), problem)
        if not told and self.subject:
            try:
                self._filled(self.subject.bound(settings, world))(data)
            except PribbleError as error:
                return [error]
        return list(told.values())

    def _all(self) -> Iterator[Program]:
        yield from (p for p in (self.subject, self.preheader, self.html, self.text) if p is not None)


def compile_page(tape: Tape, world: World, around: Surroundings, *, old_attributes: bool) -> Compiled:
    """The programs of a template that is a page.  Raises `TemplateError` and `PictureError`."""
    page, dressing = read_page(tape, around, old_attributes=old_attributes)
    lifted = _lifted(tape)
    title = None if "subject" in lifted else title_steps(tape, page)
    headed = next(
        (tape.place(e.tag.start, e.tag.end) for e in page.events if isinstance(e, Opened) and e.tag.name == "title"),
        None,
    )
    late = "text" not in lifted and depends_on_data(dressing.inlined)
    steps = html_steps(tape, page, around, None if dressing.doubts else dressing, preheader="preheader" in lifted)
    shares = not late and "text" not in lifted
    said = text_steps(tape, page, looks(dressing.inlined)) if shares else []
    sharing, frames = Sharing(steps, said), Frames()
    html = compiled(steps, KeepingSink(sharing, frames), world)
    if shares:
        text = compiled(said, EventSink(sharing), world)
    else:
        text = (
            _text(lifted["text"].tape, world, references=True)
            if "text" in lifted
            else compiled(text_page_steps(tape, page, around), PieceSink(), world)
        )
    return Compiled(
        tape,
        html,
        text,
        late=late,
        shares=shares,
        frames=None if dressing.doubts else frames,
        subject=_line(lifted.get("subject"), world, references=True)
        or (compiled(title, LineSink(), world) if title else None),
        preheader=_line(lifted.get("preheader"), world, references=True),
        headed=_place(tape, "subject") or headed,
        findings=(
            *strays(tape),
            *noted(page.notes, tape.place),
            *findings(dressing.told, tape.place),
        ),
        righted=tuple(around.findings),
        doubts=tuple((tape.place(doubt.start, doubt.end), doubt.reason) for doubt in dressing.doubts),
        files=tuple(around.paths),
        even=not any(map(_is_uneven, steps)),
        pictures=frozenset(_pictures(tape, page)),
        sheets=Sheets(standing_places(tape, page), around.loaded, around.slots),
    )


def compile_text(tape: Tape, world: World) -> Compiled:
    """The programs of a text-only template."""
    lifted = _lifted(tape)
    if "text" in lifted:
        raise TemplateError('"text" stands in a page; this template is text as a whole', place=_place(tape, "text"))
    return Compiled(
        tape,
        None,
        _text(tape, world, references=False),
        _line(lifted.get("subject"), world),
        None,
        _place(tape, "subject"),
        tuple(strays(tape, html=False)),
    )


def read_page(tape: Tape, around: Surroundings, *, old_attributes: bool) -> tuple[Page, Dressing]:
    """The page that a tape is, and what it is dressed in.  Raises `TemplateError`."""

    def role(offset: int) -> str:
        return _role(tape, offset)

    try:
        page = read(tape.text, role)
    except MarkupError as error:
        related = [Related(error.other[0], tape.place(*error.other[1:]))] if error.other else []
        raise TemplateError(
            error.problem, place=tape.place(error.start, error.end), hint=error.hint, related=related
        ) from None
    return page, dress(tape.text, page, role, around, old_attributes=old_attributes)


def _pictures(tape: Tape, page: Page) -> Iterator[int]:
    """The marks that are the whole source of a picture."""
    for event in (*page.events, *page.hidden):
        if isinstance(event, Opened):
            for attribute in event.tag.attributes:
                context = event.marks.get(attribute.value_start)
                if context and context.way == "picture" and attribute.value_end - attribute.value_start == 1:
                    yield mark_index(tape.text[attribute.value_start])


def _is_uneven(step: Any) -> bool:
    match step:
        case Forked():
            return True
        case Embedded(source=source):
            return source.travels is not None
        case Chosen(travels=travels):
            return travels is not None
    return False


def _role(tape: Tape, offset: int) -> str:
    """The role of a mark as `markup/` sees it, which must tell a loop from a choice and the last branch from others."""
    mark = tape.mark(offset)
    if mark.role == OPEN and mark.value is None:
        return KEPT if mark.loop is None else REPEATING
    return ELSE if mark.role == BRANCH and mark.value is None else mark.role


def _lifted(tape: Tape) -> dict[str, LiftedBlock]:
    return {
        mark.lifted.kind: mark.lifted
        for mark in tape.marks
        if mark.role == LIFTED and mark.lifted and mark.lifted.kind != "only"
    }


def _place(tape: Tape, kind: str) -> Place | None:
    """Where the message block of that kind stands."""
    return next((mark.place for mark in tape.marks if mark.lifted and mark.lifted.kind == kind), None)


def _line(block: LiftedBlock | None, world: World, *, references: bool = False) -> Program | None:
    if block is None:
        return None
    return compiled(text_block_steps(block.tape, LINE, references=references), LineSink(), world)


def _text(tape: Tape, world: World, *, references: bool) -> Program:
    return compiled(text_block_steps(dedented(tape), PLAIN, references=references), TextSink(), world)
