"""Templates as they are checked: each rendered with its samples in its languages; what cannot be made is reported."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from pathlib import Path
from typing import Any

from pribble.arguments import are_instances
from pribble.errors import PictureError, PictureOnDisk, Place, PribbleError, Source, TemplateError
from pribble.findings import Finding
from pribble.review.cases import Case, Checked, Failed
from pribble.review.checks.words import is_everyday, known_names
from pribble.review.report import CheckReport
from pribble.review.rules import RULES
from pribble.template import Template, TemplateFolder
from pribble.template_tracing import trace, trace_derived_text

# What the compiler says of some pages is said here of every page, in other words.
_TOLD_ANEW = frozenset({"page.quirks", "page.relative-address"})


def opened_templates(
    given: TemplateFolder | Template | Iterable[Template],
    names: Iterable[str] | None,
    report: CheckReport,
    broken: list[Failed],
) -> Iterator[Template]:
    """Yields the templates that are given; those of a folder that cannot be compiled are reported, and `broken`."""
    if isinstance(given, Template):
        yield given
        return
    if not isinstance(given, TemplateFolder):
        for one in given:
            are_instances(Template, "a Template", template=one)
            yield one
        return
    for name in given if names is None else names:
        try:
            yield given[name]
        except PribbleError as error:
            broken.append(Failed(name, "", "", [error]))
            _report_error(error, report)


def _report_error(error: PribbleError, report: CheckReport, *, rule: str = "", path: str = "") -> None:
    if not rule:
        rule = "picture.local" if isinstance(error, PictureOnDisk) else "template.broken"
        rule = "picture.missing" if isinstance(error, PictureError) and rule == "template.broken" else rule
    report.take(
        Finding(
            rule,
            "error",
            error.place,
            error.problem,
            error.hint or RULES[rule].fix,
            "Pribble, docs/language.md",
            path=path,
        )
    )


def render_cases(
    checked: Checked,
    samples: Collection[str] | None,
    data: Any,
    report: CheckReport,
    *,
    for_real_readers: bool,
    words: bool,
) -> None:
    """Render a template with each sample in each language; what cannot be rendered is reported."""
    template = checked.template
    try:
        own = template.samples if data is None else {"": data}
    except PribbleError as error:  # a sample that is no JSON
        checked.failed.append(Failed(template.name, template.settings.locale, "", [error]))
        _report_error(error, report, rule="data.missing")
        return
    chosen = {label: value for label, value in own.items() if samples is None or label in samples}
    if not own:
        if any(not field.optional for field in template.fields()):
            file = template.variants.linked(None).sources[0]
            name = f"{Path(file.name).stem}.sample.json"
            report.add("data.no-sample", file.place(0, 1), fix=(name,))
        else:
            chosen = {"": {}}
    sources: dict[str, Source] = {}
    for locale in template.locales:
        try:
            linked = template.variants.linked(locale)
        except PribbleError as error:
            checked.failed += [Failed(template.name, locale, label, [error]) for label in chosen or ("",)]
            _report_error(error, report)
            continue
        sources |= {source.name: source for source in linked.sources}
        _take_compiled(template, locale, report)
        for label, value in chosen.items():
            try:
                traced = trace(template, value, locale=locale)
                text = traced.rendering.text
                found = trace_derived_text(template, value, text, locale=locale) if words else {}
            except PribbleError as error:  # then all that is wrong is reported at once
                problems = template.problems(value, locale=locale) or [error]
                checked.failed.append(Failed(template.name, locale, label, problems))
                for problem in problems:
                    known = isinstance(problem, PictureError | TemplateError)
                    _report_error(problem, report, rule="" if known else "data.missing")
                continue
            file = linked.sources[0]
            checked.cases.append(Case(template, locale, label, value, traced, file, for_real_readers, found))
    checked.sources = tuple(sources.values())


def _take_compiled(template: Template, locale: str, report: CheckReport) -> None:
    """Take what was found when a template was compiled, but for what is said here in other words."""
    names = known_names([field.path for field in template.fields(locale=locale)])
    for finding in template.findings_for(locale):
        where = finding.where
        written = where.source.text[where.start : where.end] if where else ""
        everyday = is_everyday(written, names) or (where is not None and _is_in_code(where))
        if finding.rule not in _TOLD_ANEW and not (finding.rule == "placeholder.left" and everyday):
            report.take(finding)


def _is_in_code(place: Place) -> bool:
    """Returns whether a place of a file is in an element that shows what a machine reads or writes."""
    before = place.source.text[max(0, place.start - 5000) : place.start].lower()
    return any(before.rfind(f"<{name}") > before.rfind(f"</{name}") for name in ("pre", "code", "kbd", "samp"))
