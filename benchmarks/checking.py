"""Checking templates: a large page with many style rules, and pages that are hostile."""

from __future__ import annotations

from benchmarks import styles
from benchmarks.measure import doubling, timed
from pribble import Template
from pribble.errors import Source
from pribble.review import check
from pribble.review.check import check_view
from pribble.review.page_view import PageView
from pribble.review.report import CheckReport

DATA = {"name": "Kittiwake"}


def checking(template: Template) -> object:
    return check(template, data=DATA)


def growth() -> float:
    """How many times as long checking twice the page takes: by the slope over 4 and 8 times 25 kB."""
    checking(_template(5_000))  # what is loaded when first needed
    sizes = [25_000, 100_000, 200_000]
    return doubling([(size, min(timed(checking, _template(size)) for _ in range(3))) for size in sizes])


def hundred_kilobytes() -> float:
    """The seconds that checking a page of 100 kB with 300 style rules takes, at least."""
    return min(timed(checking, _template(100_000)) for _ in range(3))


def _template(size: int) -> Template:
    return Template.from_text(styles.page(size))


def check_page(html: str) -> object:
    """Everything that a page alone is checked for."""
    source, report = Source("page", html), CheckReport()
    check_view(PageView(html, source.place), source.place(0, 1), "en", {}, report, for_real_readers=False)
    return report.findings()
