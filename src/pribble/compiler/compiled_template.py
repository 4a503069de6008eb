"""A compiled template: its programs, from its linked source."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from pribble.compiler.emitters import LineEmitter, PieceEmitter, TextEmitter
from pribble.compiler.html_program import (
    build_block_steps,
    build_html_steps,
    build_text_page_steps,
    build_title_steps,
    dedented,
    resource_places,
)
from pribble.compiler.optimisations import page_programs
from pribble.compiler.program import Program, ProgramBuilder, ProgramWorld, Run
from pribble.compiler.steps import LINE, PLAIN, DynamicPicture, EmbedVariants, StaticPicture, Step
from pribble.compiler.text_program import build_text_steps
from pribble.compiler.tracing import TracedProgram, build_traced_program
from pribble.compiler.value_reuse import NOTHING_KEPT
from pribble.compiler.wire_form import KeptValues, WireTemplate
from pribble.errors import Place, PribbleError, Related, TemplateError, UnsafeValue
from pribble.findings import Finding
from pribble.language.linked_source import BRANCH, EXTRACTED, OPEN, SHOW, ExtractedBlock, LinkedSource, mark_index
from pribble.language.stray_marks import find_stray_marks
from pribble.markup.contexts import MarkupError
from pribble.markup.events import Opened
from pribble.markup.page import Page, read_page
from pribble.markup.value_branches import ELSE, KEPT, REPEATING
from pribble.passes.page_resources import LoadedSheets, TemplateResources, markup_findings, sheet_findings
from pribble.passes.pieces import Piece
from pribble.passes.style_edits import StyleEdits, find_style_edits
from pribble.passes.text_styles import text_depends_on_data, text_styles
from pribble.records import field, record
from pribble.values.escaping import is_seen
from pribble.values.kinds import Data
from pribble.values.settings import Settings


@record(frozen=True, slots=True)
class BoundTemplate:
    """The programs of a template for one locale and time zone.

    The program of the HTML returns its pieces and the values that it kept; with `reuses_html`, the program of the text
    is given these beside the data.
    """

    html: Run | None
    text: Run
    subject: Run | None
    preheader: Run | None
    reuses_html: bool = False

    def pieces(self, data: Data) -> tuple[list[Piece] | None, KeptValues, Data]:
        """Returns the pieces of the HTML (None for a template without), the values that it kept, and what the program
        of the text is given."""
        if self.html is None:
            return None, (), data
        pieces, kept = self.html(data)
        return pieces, kept, (data, kept) if self.reuses_html else data


@record(frozen=True, slots=True)
class CompiledTemplate:
    """A template's linked source and its programs.

    `html` is None for a text-only template; `subject` and `preheader` may be None.  `subject_place` is where the
    subject stands.  `findings` are about the page, `corrections` about its pictures.  `runtime_dependencies` are the
    places and reasons why its styles can only be found when it is rendered.  `files` are the style sheets and pictures
    that it was made with.  A page that `has_no_variants` has no stretch of two forms, and no picture that travels in
    its own way.  `pictures` are the marks, by their places in the linked source, whose values are pictures.

    With `text_from_page` the data decide which of the page's texts show: then the program `text` gives the pieces of
    that page, and the text is taken from them.  With `reuses_html` the program takes values over from that of the page.
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
    sheets: LoadedSheets = field(default_factory=LoadedSheets)

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
        for program in self._all():
            given = (data, NOTHING_KEPT) if program is self.text and self.reuses_html else data
            for problem in program.collect_problems(settings, world, given):
                told.setdefault((str(problem.place), problem.problem), problem)
        if not told and self.subject:
            try:
                self._filled(self.subject.bound(settings, world))(data)
            except PribbleError as error:
                return [error]
        return list(told.values())

    def _all(self) -> Iterator[Program]:
        yield from (p for p in (self.subject, self.preheader, self.html, self.text) if p is not None)


@record(frozen=True, slots=True)
class StyledSource:
    """A linked source that was read as a page, with the edits that its styles ask for."""

    linked: LinkedSource
    page: Page
    style_edits: StyleEdits
    resources: TemplateResources


def compile_page(styled: StyledSource, world: ProgramWorld) -> CompiledTemplate:
    """Returns the programs of a template that is a page.  Raises `TemplateError` and `PictureError`."""
    linked, page, style_edits, resources = styled.linked, styled.page, styled.style_edits, styled.resources
    extracted = _extracted_blocks(linked)
    title = None if "subject" in extracted else build_title_steps(linked, page)
    headed = next(
        (linked.place(e.tag.start, e.tag.end) for e in page.events if isinstance(e, Opened) and e.tag.name == "title"),
        None,
    )
    late = "text" not in extracted and text_depends_on_data(style_edits.inlined)
    steps = _html_steps(styled, extracted)
    is_derived = not late and "text" not in extracted
    text_steps = build_text_steps(linked, page, text_styles(style_edits.inlined)) if is_derived else None
    programs = page_programs(steps, text_steps, world, is_final=not style_edits.runtime_dependencies)
    if programs.text is not None:
        text = programs.text
    elif "text" in extracted:
        text = _text_program(extracted["text"].linked, world, references=True)
    else:
        text = ProgramBuilder(PieceEmitter(), world).build(build_text_page_steps(linked, page, resources))
    return CompiledTemplate(
        linked,
        programs.html,
        text,
        text_from_page=late,
        reuses_html=programs.reuses_html,
        wire_template=programs.wire_template,
        subject=_line_program(extracted.get("subject"), world, references=True)
        or (ProgramBuilder(LineEmitter(), world).build(title) if title else None),
        preheader=_line_program(extracted.get("preheader"), world, references=True),
        subject_place=_place_of_block(linked, "subject") or headed,
        findings=(
            *find_stray_marks(linked),
            *markup_findings(page.findings, linked.place),
            *sheet_findings(style_edits.findings, linked.place),
        ),
        corrections=tuple(resources.findings),
        runtime_dependencies=tuple(
            (linked.place(dependency.start, dependency.end), dependency.reason)
            for dependency in style_edits.runtime_dependencies
        ),
        files=tuple(resources.paths),
        has_no_variants=not any(map(_has_variants, steps)),
        pictures=frozenset(_picture_marks(linked, page)),
        sheets=LoadedSheets(resource_places(linked, page), resources.loaded, resources.slots),
    )


def _html_steps(styled: StyledSource, extracted: dict[str, ExtractedBlock], *, traced: bool = False) -> list[Step]:
    style_edits = None if styled.style_edits.runtime_dependencies else styled.style_edits
    preheader = "preheader" in extracted
    return build_html_steps(
        styled.linked, styled.page, styled.resources, style_edits, preheader=preheader, traced=traced
    )


@record(frozen=True, slots=True)
class TracedTemplate:
    """The traced programs of a template; `text` is None where the plain text is derived."""

    linked: LinkedSource
    html: TracedProgram | None
    subject: TracedProgram | None
    preheader: TracedProgram | None
    text: TracedProgram | None


def compile_traced_page(styled: StyledSource, world: ProgramWorld) -> TracedTemplate:
    """Returns the traced programs of a template that is a page."""
    linked, extracted = styled.linked, _extracted_blocks(styled.linked)
    title = None if "subject" in extracted else build_title_steps(linked, styled.page)
    steps = _html_steps(styled, extracted, traced=True)
    return TracedTemplate(
        linked,
        build_traced_program(steps, linked, world),
        _traced_line(extracted.get("subject"), world, references=True)
        or (build_traced_program(title, linked, world) if title else None),
        _traced_line(extracted.get("preheader"), world, references=True),
        _traced_text(extracted["text"].linked, world, references=True) if "text" in extracted else None,
    )


def compile_traced_text_page(styled: StyledSource, world: ProgramWorld) -> TracedProgram:
    """Returns the traced program of the page that a template's plain text can be taken from."""
    steps = build_text_page_steps(styled.linked, styled.page, styled.resources, traced=True)
    return build_traced_program(steps, styled.linked, world)


def compile_traced_text(linked: LinkedSource, world: ProgramWorld) -> TracedTemplate:
    """Returns the traced programs of a text-only template."""
    subject = _traced_line(_extracted_blocks(linked).get("subject"), world)
    return TracedTemplate(linked, None, subject, None, _traced_text(linked, world, references=False))


def compile_text(linked: LinkedSource, world: ProgramWorld) -> CompiledTemplate:
    """Returns the programs of a text-only template."""
    extracted = _extracted_blocks(linked)
    if "text" in extracted:
        raise TemplateError(
            '"text" stands in a page; this template is text as a whole', place=_place_of_block(linked, "text")
        )
    return CompiledTemplate(
        linked,
        None,
        _text_program(linked, world, references=False),
        _line_program(extracted.get("subject"), world),
        None,
        _place_of_block(linked, "subject"),
        tuple(find_stray_marks(linked, html=False)),
    )


def read_styled_page(linked: LinkedSource, resources: TemplateResources, *, old_attributes: bool) -> StyledSource:
    """Returns the page that a linked source is, and the edits that its styles ask for.  Raises `TemplateError`."""

    def role(offset: int) -> str:
        return _role(linked, offset)

    try:
        page = read_page(linked.text, role)
    except MarkupError as error:
        related = [Related(error.other[0], linked.place(*error.other[1:]))] if error.other else []
        raise TemplateError(
            error.problem, place=linked.place(error.start, error.end), hint=error.hint, related=related
        ) from None
    style_edits = find_style_edits(linked.text, page, role, resources, old_attributes=old_attributes)
    return StyledSource(linked, page, style_edits, resources)


def _picture_marks(linked: LinkedSource, page: Page) -> Iterator[int]:
    """Yields the marks that are the whole source of a picture."""
    for event in (*page.events, *page.hidden):
        if isinstance(event, Opened):
            for attribute in event.tag.attributes:
                context = event.marks.get(attribute.value_start)
                if context and context.escaper == "picture" and attribute.value_end - attribute.value_start == 1:
                    yield mark_index(linked.text[attribute.value_start])


def _has_variants(step: Step) -> bool:
    match step:
        case EmbedVariants():
            return True
        case StaticPicture(slot=slot):
            return slot.travels is not None
        case DynamicPicture(travels=travels):
            return travels is not None
    return False


def _role(linked: LinkedSource, offset: int) -> str:
    """Returns the role of a mark as `markup/` sees it, which must tell a loop from a choice and the last branch from
    others."""
    mark = linked.mark(offset)
    if mark.role == OPEN and mark.value is None:
        return KEPT if mark.loop is None else REPEATING
    return ELSE if mark.role == BRANCH and mark.value is None else mark.role


def _extracted_blocks(linked: LinkedSource) -> dict[str, ExtractedBlock]:
    return {
        mark.extracted.kind: mark.extracted
        for mark in linked.marks
        if mark.role == EXTRACTED and mark.extracted and mark.extracted.kind != "only"
    }


def _place_of_block(linked: LinkedSource, kind: str) -> Place | None:
    """Returns where the message block of that kind stands."""
    return next((mark.place for mark in linked.marks if mark.extracted and mark.extracted.kind == kind), None)


def _line_program(block: ExtractedBlock | None, world: ProgramWorld, *, references: bool = False) -> Program | None:
    if block is None:
        return None
    steps = build_block_steps(block.linked, LINE, references=references)
    return ProgramBuilder(LineEmitter(), world).build(steps)


def _traced_line(
    block: ExtractedBlock | None, world: ProgramWorld, *, references: bool = False
) -> TracedProgram | None:
    if block is None:
        return None
    return build_traced_program(build_block_steps(block.linked, LINE, references=references), block.linked, world)


def _traced_text(linked: LinkedSource, world: ProgramWorld, *, references: bool) -> TracedProgram:
    return build_traced_program(build_block_steps(dedented(linked), PLAIN, references=references), linked, world)


def _text_program(linked: LinkedSource, world: ProgramWorld, *, references: bool) -> Program:
    steps = build_block_steps(dedented(linked), PLAIN, references=references)
    return ProgramBuilder(TextEmitter(), world).build(steps)
