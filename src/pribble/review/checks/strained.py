"""What strained data bring about: words that read wrongly, what is left alone, what is wider than the screen."""

from __future__ import annotations

import re
from collections.abc import Iterator

from pribble.cascade.elements import Element
from pribble.graphemes import column_count
from pribble.language.data_paths import at_first_items
from pribble.language.expressions import Formatted
from pribble.records import record
from pribble.regexes import regex
from pribble.rendering.traced import Shown, TracedText
from pribble.review.cases import Case
from pribble.review.checks.words import CURRENCY_SIGNS, shortened
from pribble.review.page_view import NARROW, PageView
from pribble.review.report import CheckReport
from pribble.review.strain import Strain

_HEADINGS = ("h1", "h2", "h3", "h4", "h5", "h6")
# The width of a column of text, as a share of its size: an estimate, since nobody knows a reader's font.
_COLUMN = 0.55
_WORD = regex(r"[^\W\d_]+")
_ISOLATED = frozenset({"bdi"})


@record(frozen=True, slots=True)
class Before:
    """What the sample that is strained brings about itself: the headings that it leaves `lone`, and how wide its
    `widest` row or block is."""

    lone: frozenset[str] = frozenset()
    widest: float = 0


def before_strain(case: Case | None) -> Before:
    """Returns what a sample brings about; nothing where there is none."""
    if case is None or case.view is None:
        return Before()
    widest = _widest(case.view)
    return Before(frozenset(words for words, _ in _lone(case.view)), widest[0] if widest is not None else 0)


def check_strained(case: Case, strain: Strain, before: Before, report: CheckReport) -> None:
    """What one change brings about that the sample did not."""
    if strain.kind in ("zero", "one", "negative"):
        _check_number(case, strain, report)
    if strain.kind == "left out":
        _check_subject(case, strain, report)
    if strain.kind == "direction":
        _check_direction(case, strain, report)
    if case.view is not None:
        for words, element in _lone(case.view):
            if words not in before.lone:
                report.add("strain.lone", case.view.tag_place(element), shortened(words), strain.what)
        _check_widest(case.view, strain, before.widest, report)


# ---- numbers in sentences -------------------------------------------------------------------------------------


def _shown_in_text(case: Case, strain: Strain) -> Iterator[tuple[TracedText, Shown, str, str]]:
    """Yields where the changed value stands in running text: the form that it is in, what is before it, and behind."""
    path = at_first_items(strain.path)
    if case.html is not None and case.view is not None:
        for shown in case.html.shown:
            if path in shown.paths and shown.start < shown.end and case.view.reads(shown.start):
                block = case.view.block_at(shown.start)
                if block is not None:
                    start, end = block.position(shown.start), block.position(shown.end)
                    yield case.html, shown, block.text[:start], block.text[end:]
    for traced in (case.traced.subject, case.traced.preheader):
        if traced is not None:
            for shown in traced.shown:
                if path in shown.paths and shown.start < shown.end:
                    yield traced, shown, traced.text[: shown.start], traced.text[shown.end :]


def _check_number(case: Case, strain: Strain, report: CheckReport) -> None:
    for traced, shown, before, after in _shown_in_text(case, strain):
        text = _unescaped(traced, shown)
        words = len(_WORD.findall(before)) + len(_WORD.findall(after))
        said = shortened(f"{before[-30:]}{text}{after[:30]}".strip())
        digits = re.sub(r"[^0-9]", "", text)
        is_sum = any(sign in text for sign in CURRENCY_SIGNS) or re.search("[0-9][.,][0-9]", text)
        if strain.kind == "negative" and words > 1 and is_sum and re.search("[-−–]", text):
            report.add("strain.negative", shown.place, said, strain.what)
        elif strain.kind == "zero" and digits and not digits.strip("0") and _counts(traced, shown, after):
            report.add("strain.zero", shown.place, said, strain.what)
        elif strain.kind == "one" and digits == "1" and _is_plural(after):
            report.add("strain.one", shown.place, said, strain.what)


def _unescaped(traced: TracedText, shown: Shown) -> str:
    return re.sub(r"&[#\w]{1,10};", " ", traced.text[shown.start : shown.end])


def _counts(traced: TracedText, shown: Shown, after: str) -> bool:
    """Returns whether a number says how many there are of what the next word names: a plural, or one that ``plural``
    chooses by the same value."""
    following = traced.shown_within(shown.end - 1, shown.end + 8)
    return _is_plural(after) or any(
        isinstance(one.value, Formatted) and one.value.name == "plural" and one.start >= shown.end for one in following
    )


def _is_plural(after: str) -> bool:
    """Returns whether an English plural follows: "1 nights"."""
    found = re.match(r"[ \u00a0]([a-z]{3,}s)\b", after)
    return found is not None and not found[1].endswith(("ss", "us", "is"))


# ---- words ----------------------------------------------------------------------------------------------------


def _check_subject(case: Case, strain: Strain, report: CheckReport) -> None:
    """An optional field that the subject shows as it is."""
    subject = case.traced.subject
    if subject is not None:
        for shown in subject.shown:
            if strain.path in shown.paths and shown.start == shown.end:
                report.add("strain.subject", shown.place, shortened(subject.text), strain.what)


def _check_direction(case: Case, strain: Strain, report: CheckReport) -> None:
    """A name from right to left in a sentence, whose punctuation goes with it."""
    view = case.view
    if view is None or case.html is None:
        return
    path = at_first_items(strain.path)
    for shown in case.html.shown:
        if path not in shown.paths or not view.reads(shown.start):
            continue
        block = view.block_at(shown.start)
        element = view.element_at(shown.start)
        if block is None or element is None or _is_isolated(element):
            continue
        after = block.text[block.position(shown.end) :]
        before = block.text[: block.position(shown.start)]
        # What has no direction of its own, and the digits, follow the name.
        if re.match(r"[\s:,.()/–—-]*[0-9(:]", after) or (_WORD.search(before) and re.match(r"\s*[:(–—/-]", after)):
            said = shortened(f"{before[-20:]}…{after[:20]}")
            report.add("strain.direction", shown.place, said, strain.what)


def _is_isolated(element: Element) -> bool:
    around: Element | None = element
    while around is not None:
        if around.local_name in _ISOLATED or around.values.get("dir", "").lower() == "auto":
            return True
        if around.values.get("dir", "").lower() == "rtl":
            return True
        around = around.parent
    return False


def _lone(view: PageView) -> Iterator[tuple[str, Element]]:
    """Yields headings with nothing behind them, and tables with header cells alone."""
    headings = [one for one in view.elements if one.local_name in _HEADINGS and view.shows(one.number)]
    for index, heading in enumerate(headings):
        following = headings[index + 1] if index + 1 < len(headings) else None
        end = following.opening.start if following is not None else _end_of(view, heading)
        own = _HEADINGS.index(heading.local_name)
        if following is not None and _HEADINGS.index(following.local_name) > own:
            continue
        if not view.said(view.ends[heading.number], end):
            yield view.said(heading.opening.end, view.ends[heading.number]), heading
    for table in view.elements:
        if table.local_name == "table" and view.shows(table.number) and view.inside(table, "th"):
            rows = view.inside(table, "tr")
            if rows and not view.inside(table, "td"):
                heads = [view.said(one.opening.end, view.ends[one.number]) for one in view.inside(table, "th")]
                yield ", ".join(heads), table


def _end_of(view: PageView, heading: Element) -> int:
    """Returns where the part ends that a heading stands at the head of: the element around it that says more."""
    return view.ends[heading.parent.number] if heading.parent is not None else len(view.html)


# ---- widths ---------------------------------------------------------------------------------------------------


def _check_widest(view: PageView, strain: Strain, before: float, report: CheckReport) -> None:
    """A row of a table, or a word, that is wider than a narrow screen; not where one was as wide before."""
    if strain.kind not in ("unbroken", "long", "large", "many"):
        return
    widest = _widest(view)
    if widest is None or widest[0] <= NARROW.width:
        return
    if before <= NARROW.width or widest[0] > 1.25 * before:
        width, element = widest
        report.add("strain.wide", view.tag_place(element), f"{width:,.0f}", strain.what)


def _widest(view: PageView) -> tuple[float, Element] | None:
    """Returns the least width of the widest row or block, about, in CSS pixels, and its element."""
    found: tuple[float, Element] | None = None
    styles = view.on(NARROW).styles
    rows: dict[int, float] = {}
    cells: dict[int, float] = {}
    for block in view.blocks:
        element: Element | None = view.elements[block.element]
        assert element is not None
        style = styles[element.number]
        nowrap = "nowrap" in element.values.get("style", "") or "nowrap" in element.values
        parts = [block.text] if nowrap else re.split(r"[ \n\ufffc\u200b-]", block.text)
        width = max((column_count(part) or 0) for part in parts) * style.font_size * _COLUMN
        while element is not None and element.local_name not in ("td", "th"):
            element = element.parent
        if element is None:
            if found is None or width > found[0]:
                found = width, view.elements[block.element]
            continue
        cells[element.number] = max(cells.get(element.number, 0.0), width)
    for number, width in cells.items():
        row = view.elements[number].parent
        if row is not None:
            rows[row.number] = rows.get(row.number, 0.0) + width + 8
    for number, width in rows.items():
        if found is None or width > found[0]:
            found = width, view.elements[number]
    return found
