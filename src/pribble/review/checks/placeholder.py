"""Placeholders that nothing fills, in the file or in the data, and text that only fills space."""

from __future__ import annotations

from collections.abc import Collection

from pribble.markup.references import decode_references
from pribble.rendering.traced import TracedText
from pribble.review.cases import Case
from pribble.review.checks.words import is_filler, known_names, placeholders, shortened
from pribble.review.page_view import PageView
from pribble.review.report import CheckReport

# Attributes whose text a reader meets.
_READ = ("alt", "title", "href", "src", "aria-label")


def check_placeholders(case: Case, report: CheckReport) -> None:
    """Placeholders in what readers see."""
    fields = known_names([field.path for field in case.template.fields(locale=case.locale)])
    if case.view is not None and case.html is not None:
        _check_page(case.view, case.html, fields, report)
    for traced in case.traced.plain_texts:
        for start, end in placeholders(traced.text, fields):
            _report_left(traced, start, end, traced.text[start:end], report)
    for traced in case.traced.texts:
        for shown in traced.shown:
            text = traced.text[shown.start : shown.end]
            text = decode_references(text) if traced is case.html else text
            for start, end in placeholders(text, fields):
                report.add("placeholder.in-data", shown.place, shortened(text[start:end]), path=shown.path)


def _check_page(view: PageView, html: TracedText, fields: Collection[str], report: CheckReport) -> None:
    for block in view.blocks:
        if view.is_code(block.element):
            continue
        for start, end in placeholders(block.text, fields):
            first, last = block.span(start, end)
            inside = view.element_at(first)
            if inside is None or not view.is_code(inside.number):
                _report_left(html, first, last, block.text[start:end], report)
        if is_filler(block.text):
            place = view.place(*block.span(0, 1))
            report.add("placeholder.filler", place, shortened(block.text))
    for element in view.elements:
        for name in _READ:
            attribute = element.opening.attribute(name)
            if attribute is None:
                continue
            for start, end in placeholders(element.values.get(name, ""), fields):
                if not any(html.shown_within(attribute.value_start, attribute.value_end)):
                    place = view.attribute_place(element, name)
                    report.add("placeholder.left", place, shortened(element.values[name][start:end]))


def _report_left(traced: TracedText, start: int, end: int, text: str, report: CheckReport) -> None:
    """A placeholder of the file, of which no value shows a part."""
    if not any(traced.shown_within(start, end)):
        report.add("placeholder.left", traced.place(start, end), shortened(text))
