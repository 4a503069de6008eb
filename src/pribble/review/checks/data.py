"""Data that say nothing, or say it wrongly; what they leave alone; what no sample tries."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping
from datetime import date, datetime

from pribble.language.data_paths import outer_paths, path_of
from pribble.language.expressions import (
    All,
    Binding,
    Both,
    Choice,
    Either,
    Expression,
    Local,
    Maybe,
    Member,
    Name,
    Not,
    Subscript,
    children,
    with_inner,
)
from pribble.language.linked_source import LinkedSource
from pribble.markup.references import decode_references
from pribble.regexes import regex
from pribble.rendering.traced import Shown, TracedText
from pribble.review.cases import Case, Checked, leaf_paths, value_at
from pribble.review.checks.words import CURRENCY_SIGNS, shortened
from pribble.review.page_view import Block, PageView
from pribble.review.report import CheckReport

_HOLLOW = frozenset({"None", "null", "NULL", "undefined", "NaN", "nan", "NaT", "<NA>", "Invalid Date", "Infinity"})
# What programs write for nothing and no person does, wherever it stands.
_ANYWHERE = regex(r"\[object [A-Za-z]{1,40}\]|\bInvalid Date\b|(?<![\w-])NaN(?![\w-])")
_REFERENCE = regex(r"&(?:[A-Za-z]{2,10}[0-9]{0,2}|#[0-9]{1,6}|#[xX][0-9a-fA-F]{1,6});")
_TAG = regex(
    r"</?(?:a|b|br|div|em|font|h[1-6]|i|img|li|ol|p|span|strong|sub|sup|table|td|tr|u|ul)(?:\s[^<>]{0,300})?/?>",
    re.IGNORECASE,
)
# UTF-8 that was read as Windows-1252: what the first octets of letters, and of dashes, quotation marks and the euro,
# become; of Greek and Cyrillic several in a row, since one letter and a sign may stand together.
_OCTETS = "\u0080-\u00bf€‚ƒ„…†‡ˆ‰Š‹ŒŽ‘’“”•–—˜™š›œžŸ"
_GARBLED = regex(
    f"Ã[{_OCTETS}]|Â[\u00a0-\u00bf]|[ÄÅ][\u00a0-\u00bf]|â[€‚„][{_OCTETS}]|(?:[ÎÏÐÑ][{_OCTETS}]){{2}}"
    f"|(?:[ãäåæçèé][{_OCTETS}]{{2}}){{2}}|ð[{_OCTETS}]{{3}}|ï¿½|\ufffd"
)
_FALSE_WORDS = frozenset({"0", "false", "no", "off", "n"})
_BRACKETS = {"(": ")", "[": "]", "（": "）", "「": "」", "【": "】", "“": "”", "«": "»", "„": "“", "‘": "’"}
_STOPS = ",.;:!?"
_WIDE_STOPS, _WIDE_PAUSES = "，。！？；：、", "，、：；"


def check_values(case: Case, report: CheckReport) -> None:
    """What the values show."""
    for traced in case.traced.texts:
        for shown in traced.shown:
            if shown.start < shown.end:
                _check_shown_value(case, traced, shown, report)
    _check_flags(case, report)
    if case.view is not None and case.html is not None:
        _check_literals(case.view, case.html, report)


def _check_shown_value(case: Case, traced: TracedText, shown: Shown, report: CheckReport) -> None:
    written = traced.text[shown.start : shown.end]
    text = decode_references(written) if traced is case.html else written
    path = shown.path
    of = f" ({path})" if path else ""
    if is_hollow(text) or any(_is_first_day(value_at(case.data, one)) for one in shown.paths):
        report.add("data.hollow", shown.place, f"{shortened(text.strip())}{of}", path=path)
    is_markup = traced is case.html and "<" in written
    if not is_markup and (found := _reference_or_tag(text)) is not None:
        report.add("data.twice-encoded", shown.place, f"{_around(found)}{of}", path=path)
    if (found := _GARBLED.search(text)) is not None:
        report.add("data.garbled", shown.place, f"{_around(found)}{of}", path=path)


def _around(found: re.Match[str]) -> str:
    """Returns what was found in a text, with a little of what is beside it."""
    return shortened(found.string[max(0, found.start() - 20) : found.end() + 20])


def is_hollow(text: str) -> bool:
    """Returns whether a text is what programs write for nothing."""
    return text.strip() in _HOLLOW or _ANYWHERE.search(text) is not None


def _reference_or_tag(text: str) -> re.Match[str] | None:
    """Returns the first reference or tag that shows as it is written; None where none does."""
    for found in _REFERENCE.finditer(text):
        if decode_references(found[0]) != found[0]:
            return found
    return _TAG.search(text)


def _is_first_day(value: object) -> bool:
    """Returns whether a value is the day that clocks of computers begin with, which stands for no day."""
    if isinstance(value, str):
        return value.startswith("1970-01-01")
    day = value.date() if isinstance(value, datetime) else value
    return isinstance(day, date) and day == date(1970, 1, 1)


def _check_literals(view: PageView, html: TracedText, report: CheckReport) -> None:
    """What stands in the file itself and was read in another charset."""
    for block in view.blocks:
        for found in _GARBLED.finditer(block.text):
            start, end = block.span(*found.span())
            if not any(html.shown_within(start, end)):
                report.add("data.garbled", view.place(start, end), _around(found))


# ---- flags ----------------------------------------------------------------------------------------------------


def _check_flags(case: Case, report: CheckReport) -> None:
    for traced in case.traced.texts:
        for one in traced.tested:
            _check_test(case, one.test, one.bindings, report)
        for shown in traced.shown:
            for inner in with_inner(shown.value):
                if isinstance(inner, Choice):
                    _check_test(case, inner.test, shown.bindings, report)


def _check_test(case: Case, test: Expression, bindings: Mapping[Binding, int], report: CheckReport) -> None:
    for node in _asked(test):
        path = path_of(node, bindings)
        value = value_at(case.data, path) if path is not None else None
        if isinstance(value, str) and value.strip().lower() in _FALSE_WORDS:
            report.add("data.text-flag", node.place, f"{path} is the text “{value.strip()}”", path=path or "")


def _asked(test: Expression, depth: int = 0) -> Iterator[Expression]:
    """Yields what a test asks whether it holds."""
    match test:
        case Name() | Member() | Subscript() | Local() | Maybe():
            yield test
        case Both() | Either() | Not() if depth < 50:
            for inner in children(test):
                yield from _asked(inner, depth + 1)


# ---- words left alone -----------------------------------------------------------------------------------------


def check_stranded(case: Case, report: CheckReport) -> None:
    """Words and signs that stand alone where a value came to nothing."""
    if case.view is not None and case.html is not None:
        finder = _BlockFinder(case.view)
        for shown in case.html.shown:
            if shown.start == shown.end and (found := finder.at(shown.start)) is not None:
                block, position = found
                _check_around(block.text[:position], block.text[position:], shown, report)
    for traced in case.traced.plain_texts:
        for shown in traced.shown:
            if shown.start == shown.end:
                before = traced.text[: shown.start].rpartition("\n")[2]
                _check_around(before, traced.text[shown.start :].partition("\n")[0], shown, report)


class _BlockFinder:
    """Finds the block of a page that an offset stands in, between tags."""

    def __init__(self, view: PageView) -> None:
        self.view = view
        self.tags = [one.opening for one in view.elements if one.opening.end > one.opening.start]
        self.tag_starts = [tag.start for tag in self.tags]

    def at(self, offset: int) -> tuple[Block, int] | None:
        """Returns the block, and where in its text the offset is; None within a tag, or where nothing is said."""
        before = bisect_right(self.tag_starts, offset - 1) - 1
        if before >= 0 and offset < self.tags[before].end:
            return None
        index = bisect_right(self.view.block_starts, offset) - 1
        for block in self.view.blocks[max(index, 0) : index + 2]:
            element = self.view.elements[block.element]
            if element.opening.end <= offset <= self.view.ends[block.element]:
                return block, block.position(offset)
        return None


def _check_around(before: str, after: str, shown: Shown, report: CheckReport) -> None:
    if _strands(before, after):
        alone = f"{before[-25:]}{after[:15]}"
        report.add("data.stranded", shown.place, shortened(alone.strip()), path=shown.path)


def _strands(before: str, after: str) -> bool:
    head, tail = before.rstrip(), after.lstrip()
    if _BRACKETS.get(head[-1:]) is not None and _BRACKETS[head[-1]] == tail[:1]:
        return True
    # Han is written without spaces: two signs meet where a name came to nothing.
    if tail[:1] and tail[0] in _WIDE_STOPS and (not head or head[-1] in _WIDE_PAUSES):
        return True
    if tail[:1] and tail[0] in _STOPS and (before[-1:] in ("", " ", "\u00a0")) and not tail.startswith("..."):
        return True
    if head[-1:] and head[-1] in CURRENCY_SIGNS and not tail[:1].isdigit():
        return True
    if tail[:1] and tail[0] in CURRENCY_SIGNS and not tail[1:2].isdigit() and not head[-1:].isdigit():
        return True
    if head.endswith(":") and not tail:
        return True
    return bool(head and tail) and before.endswith(" ") and after.startswith(" ")


# ---- what is not used, and not tried --------------------------------------------------------------------------


def unused_paths(checked: Checked, data: Iterable[object]) -> list[str]:
    """Returns the paths of the data that a template does not read, the outermost of each."""
    template = checked.template
    if any(_reads_all(source) for source in _linked(checked)):
        return []
    used = {field.path for field in template.fields()}
    for case in checked.cases:
        used |= {field.path for field in template.fields(locale=case.locale)}
    reached = {each for path in used for each in (*outer_paths(path), path)}
    found: dict[str, None] = {}
    for each in data:
        for leaf in leaf_paths(each):
            outer = outer_paths(leaf)
            if leaf not in reached and used.isdisjoint(outer):
                found[next(each for each in (*outer, leaf) if each not in reached)] = None
    return list(found)


def _linked(checked: Checked) -> list[LinkedSource]:
    return [traced.linked for case in checked.cases for traced in case.traced.texts]


def _reads_all(linked: LinkedSource) -> bool:
    """Returns whether a template shows the data as a whole."""
    return any(
        _holds_all(expression)
        for source in linked.with_extracted
        for mark in source.marks
        for expression in mark.expressions()
    )


def _holds_all(node: Expression, depth: int = 0) -> bool:
    match node:
        case All():
            return True
        case Member(base=All()) | Subscript(base=All()):
            return False
    return depth < 50 and any(_holds_all(inner, depth + 1) for inner in children(node))
