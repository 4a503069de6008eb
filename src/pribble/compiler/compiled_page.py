"""A template that is a page: read, with its styles, and compiled."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.compiler.compiled_template import (
    CompiledTemplate,
    TracedTemplate,
    extracted_blocks,
    line_program,
    place_of_block,
    text_program,
    traced_line,
    traced_text,
)
from pribble.compiler.emitters import LineEmitter, PieceEmitter
from pribble.compiler.html_program import (
    build_html_steps,
    build_text_page_steps,
    build_title_steps,
    resource_places,
)
from pribble.compiler.optimisations import page_programs
from pribble.compiler.program import ProgramBuilder, ProgramWorld
from pribble.compiler.steps import DynamicPicture, EmbedVariants, StaticPicture, Step
from pribble.compiler.text_program import build_text_steps
from pribble.compiler.tracing import TracedProgram, build_traced_program
from pribble.errors import Related, TemplateError
from pribble.language.linked_source import BRANCH, OPEN, ExtractedBlock, LinkedSource, mark_index
from pribble.language.stray_marks import find_stray_marks
from pribble.markup.contexts import MarkupError
from pribble.markup.events import Opened
from pribble.markup.page import Page, read_page
from pribble.markup.value_branches import ELSE, KEPT, REPEATING
from pribble.passes.page_resources import LoadedSheets, TemplateResources, markup_findings, sheet_findings
from pribble.passes.style_edits import StyleEdits, find_style_edits
from pribble.passes.text_styles import text_depends_on_data, text_styles
from pribble.records import record


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
    extracted = extracted_blocks(linked)
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
    lets = programs.lets
    if programs.text is not None:
        text = programs.text
    elif "text" in extracted:
        text = text_program(extracted["text"].linked, world, references=True, lets=lets)
    else:
        text = ProgramBuilder(PieceEmitter(), world).build(build_text_page_steps(linked, page, resources), lets=lets)
    return CompiledTemplate(
        linked,
        programs.html,
        text,
        text_from_page=late,
        reuses_html=lets is not None,
        wire_template=programs.wire_template,
        subject=line_program(extracted.get("subject"), world, references=True, lets=lets)
        or (ProgramBuilder(LineEmitter(), world).build(title, lets=lets) if title else None),
        preheader=line_program(extracted.get("preheader"), world, references=True, lets=lets),
        subject_place=place_of_block(linked, "subject") or headed,
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


def compile_traced_page(styled: StyledSource, world: ProgramWorld) -> TracedTemplate:
    """Returns the traced programs of a template that is a page."""
    linked, extracted = styled.linked, extracted_blocks(styled.linked)
    title = None if "subject" in extracted else build_title_steps(linked, styled.page)
    steps = _html_steps(styled, extracted, traced=True)
    return TracedTemplate(
        linked,
        build_traced_program(steps, linked, world),
        traced_line(extracted.get("subject"), world, references=True)
        or (build_traced_program(title, linked, world) if title else None),
        traced_line(extracted.get("preheader"), world, references=True),
        traced_text(extracted["text"].linked, world, references=True) if "text" in extracted else None,
    )


def compile_traced_text_page(styled: StyledSource, world: ProgramWorld) -> TracedProgram:
    """Returns the traced program of the page that a template's plain text can be taken from."""
    steps = build_text_page_steps(styled.linked, styled.page, styled.resources, traced=True)
    return build_traced_program(steps, styled.linked, world)


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
