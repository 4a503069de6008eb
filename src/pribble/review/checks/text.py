"""A plain text that is written by hand, against the page: what one of them says and the other does not."""

from __future__ import annotations

from pribble.conversion import compare
from pribble.markup.references import decode_references
from pribble.regexes import regex
from pribble.review.cases import Case
from pribble.review.checks.words import shortened
from pribble.review.report import CheckReport

_PARTS = regex(r"[^\W_]+")


def check_text(case: Case, report: CheckReport) -> None:
    """The two forms of a message whose text is written by hand."""
    html, text = case.html, case.traced.text
    if html is None or text is None or case.view is None:
        return
    found = compare(html.text, text.text)
    if not found:
        return
    lacking = {
        part.casefold() for one in (found.words.text, found.numbers.text) for each in one for part in _word_parts(each)
    }
    told: set[str] = set()
    for shown in html.shown:
        value = decode_references(html.text[shown.start : shown.end])
        parts = {part.casefold() for part in _word_parts(value)}
        if shown.paths and parts and parts <= lacking and case.view.reads(shown.start):
            says = f"the page shows {shortened(value)} ({shown.path}), and the text does not"
            report.add("text.value", shown.place, says, path=shown.path)
            told |= parts
    place = text.place(0, 1) or case.start
    for address in found.addresses.text:
        report.add("text.address", place, shortened(address))
    lacks = (*found.words.text, *found.numbers.text)
    words = [word for word in lacks if not {part.casefold() for part in _word_parts(word)} <= told]
    if words:
        report.add(
            "text.words", place, f"the text lacks the words {', '.join(words[:8])}{' …' if len(words) > 8 else ''}"
        )
    elif found.words.html or found.numbers.html:
        more = [*found.words.html, *found.numbers.html]
        report.add(
            "text.words", place, f"the page lacks the words {', '.join(more[:8])}{' …' if len(more) > 8 else ''}"
        )


def _word_parts(text: str) -> list[str]:
    return _PARTS.findall(text)
