"""A compiled template: its programs, from its linked source."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from pribble.compiler.block_program import build_block_steps, dedented
from pribble.compiler.emitters import LineEmitter, TextEmitter
from pribble.compiler.program import Program, ProgramBuilder, ProgramWorld, Run
from pribble.compiler.steps import LINE, PLAIN
from pribble.compiler.tracing import TracedProgram, build_traced_program
from pribble.compiler.value_reuse import NOTHING_KEPT
from pribble.compiler.wire_form import KeptValues, WireTemplate
from pribble.errors import Place, PribbleError, TemplateError, UnsafeValue
from pribble.findings import Finding
from pribble.language.expressions import Binding
from pribble.language.linked_source import EXTRACTED, SHOW, ExtractedBlock, LinkedSource
from pribble.language.stray_marks import find_stray_marks
from pribble.passes.pieces import Piece
from pribble.records import record
from pribble.values.escaping import is_seen
from pribble.values.kinds import Data
from pribble.values.settings import Settings

if TYPE_CHECKING:
    from pribble.passes.page_resources import LoadedSheets


@record(frozen=True, slots=True)
class BoundTemplate:
    """The programs of a template for one locale and time zone.

    The program of the HTML returns its pieces, the values that it kept, and those of its ``let``s; with `reuses_html`,
    the other programs are given these beside the data.
    """

    html: Run | None
    text: Run
    subject: Run | None
    preheader: Run | None
    reuses_html: bool = False

    def pieces(self, data: Data) -> tuple[list[Piece] | None, KeptValues, Data]:
        """Returns the pieces of the HTML (None for a template without), the values that it kept, and what the other
        programs are given."""
        if self.html is None:
            return None, (), data
        pieces, kept, lets = self.html(data)
        return pieces, kept, (data, kept, lets) if self.reuses_html else data


@record(frozen=True, slots=True)
class CompiledTemplate:
    """A template's linked source and its programs.

    `html` is None for a text-only template; `subject` and `preheader` may be None.  `subject_place` is where the
    subject stands.  `findings` are about the page, `corrections` about its pictures.  `runtime_dependencies` are the
    places and reasons why its styles can only be found when it is rendered.  `files` are the style sheets and pictures
    that it was made with.  A page that `has_no_variants` has no stretch of two forms, and no picture that travels in
    its own way.  `pictures` are the marks, by their places in the linked source, whose values are pictures.

    With `text_from_page` the data decide which of the page's texts show: then the program `text` gives the pieces of
    that page, and the text is taken from them.  With `reuses_html` the other programs take values over from the page's.
    The `wire_template` writes pages for the wire; the `sheets` are for late styling.
    """

    linked: LinkedSource
    html: Program | None
    text: Program
    subject: Program | None
    preheader: Program | None
    subject_place: Place | None
    findings: tuple[Finding, ...] = ()
    corrections: tuple[Finding, ...] = ()
    runtime_dependencies: tuple[tuple[Place, str], ...] = ()
    files: tuple[Path, ...] = ()
    has_no_variants: bool = False
    pictures: frozenset[int] = frozenset()
    text_from_page: bool = False
    reuses_html: bool = False
    wire_template: WireTemplate | None = None
    sheets: LoadedSheets | None = None

    def bound(self, settings: Settings, world: ProgramWorld) -> BoundTemplate:
        """Returns the programs as functions of the data."""
        others = self._without_point(settings)
        html, subject, preheader = (
            program.bound(settings, world, others) if program else None
            for program in (self.html, self.subject, self.preheader)
        )
        text = self.text.bound(settings, world, others)
        return BoundTemplate(html, text, subject and self._filled(subject), preheader, self.reuses_html)

    def _without_point(self, settings: Settings) -> dict[Place, str]:
        """Returns the marks that show a value as it is where the locale, which is given, writes no point before
        decimals."""
        marks = [mark for linked in self.linked.with_extracted for mark in linked.marks]
        return {
            mark.value.place: locale
            for mark in marks
            if mark.role == SHOW
            and mark.value is not None
            and not Settings(locale := mark.locale or settings.locale).has_point
        }

    def _filled(self, subject: Run) -> Run:
        """Returns `subject`, which may not be empty: a receiver would show none, or something else in its place."""

        def filled(data: Data) -> Data:
            line = subject(data)
            if not is_seen(line):
                raise UnsafeValue(
                    "the subject is empty",
                    place=self.subject_place,
                    hint="say what it is instead: {{ … else … }}",
                )
            return line

        return filled

    def problems(self, settings: Settings, world: ProgramWorld, data: Data) -> list[PribbleError]:
        """Returns all that is wrong with the data, each place once."""
        told: dict[tuple[str, str], PribbleError] = {}
        given = (data, NOTHING_KEPT, None) if self.reuses_html else data
        for program in self._all():
            for problem in program.collect_problems(settings, world, data if program is self.html else given):
                told.setdefault((str(problem.place), problem.problem), problem)
        if not told and self.subject:
            try:
                self._filled(self.subject.bound(settings, world))(given)
            except PribbleError as error:
                return [error]
        return list(told.values())

    def _all(self) -> Iterator[Program]:
        yield from (p for p in (self.subject, self.preheader, self.html, self.text) if p is not None)


@record(frozen=True, slots=True)
class TracedTemplate:
    """The traced programs of a template; `text` is None where the plain text is derived."""

    linked: LinkedSource
    html: TracedProgram | None
    subject: TracedProgram | None
    preheader: TracedProgram | None
    text: TracedProgram | None


def compile_traced_text(linked: LinkedSource, world: ProgramWorld) -> TracedTemplate:
    """Returns the traced programs of a text-only template."""
    subject = traced_line(extracted_blocks(linked).get("subject"), world)
    return TracedTemplate(linked, None, subject, None, traced_text(linked, world, references=False))


def compile_text(linked: LinkedSource, world: ProgramWorld) -> CompiledTemplate:
    """Returns the programs of a text-only template."""
    extracted = extracted_blocks(linked)
    if "text" in extracted:
        raise TemplateError(
            '"text" stands in a page; this template is text as a whole', place=place_of_block(linked, "text")
        )
    return CompiledTemplate(
        linked,
        None,
        text_program(linked, world, references=False),
        line_program(extracted.get("subject"), world),
        None,
        place_of_block(linked, "subject"),
        tuple(find_stray_marks(linked, html=False)),
    )


def extracted_blocks(linked: LinkedSource) -> dict[str, ExtractedBlock]:
    return {
        mark.extracted.kind: mark.extracted
        for mark in linked.marks
        if mark.role == EXTRACTED and mark.extracted and mark.extracted.kind != "only"
    }


def place_of_block(linked: LinkedSource, kind: str) -> Place | None:
    """Returns where the message block of that kind stands."""
    return next((mark.place for mark in linked.marks if mark.extracted and mark.extracted.kind == kind), None)


def line_program(
    block: ExtractedBlock | None,
    world: ProgramWorld,
    *,
    references: bool = False,
    lets: Sequence[Binding] | None = None,
) -> Program | None:
    if block is None:
        return None
    steps = build_block_steps(block.linked, LINE, references=references)
    return ProgramBuilder(LineEmitter(), world).build(steps, lets=lets)


def traced_line(block: ExtractedBlock | None, world: ProgramWorld, *, references: bool = False) -> TracedProgram | None:
    if block is None:
        return None
    return build_traced_program(build_block_steps(block.linked, LINE, references=references), block.linked, world)


def traced_text(linked: LinkedSource, world: ProgramWorld, *, references: bool) -> TracedProgram:
    return build_traced_program(build_block_steps(dedented(linked), PLAIN, references=references), linked, world)


def text_program(
    linked: LinkedSource, world: ProgramWorld, *, references: bool, lets: Sequence[Binding] | None = None
) -> Program:
    steps = build_block_steps(dedented(linked), PLAIN, references=references)
    return ProgramBuilder(TextEmitter(), world).build(steps, lets=lets)
