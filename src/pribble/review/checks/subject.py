"""The subject and the preheader, as lists of messages show them."""

from __future__ import annotations

from pribble.graphemes import column_count, graphemes
from pribble.markup.references import decode_references
from pribble.regexes import regex
from pribble.review.cases import Case
from pribble.review.page_view import PageView
from pribble.review.report import CheckReport

# So many columns of the subject and what follows it a list shows, about.
LIST_WIDTH = 60
# Characters without a width, with which preheaders are filled up so that nothing follows them.
_UNSEEN = regex("[\u00ad\u034f\u200b-\u200f\u2060-\u2064\ufeff]+")


def check_subject(case: Case, report: CheckReport) -> None:
    """What a list shows, and a preheader that says nothing new."""
    subject = case.rendering.subject
    if subject is None:
        if case.html is not None:
            report.add("subject.none", case.start)
        return
    preview = case.rendering.preheader or (preview_of(case.view) if case.view is not None else "")
    place = case.traced.subject.place(0, 1) if case.traced.subject is not None else None
    place = place or case.start
    report.add("subject.lists-show", place, listed(subject, preview))
    said = case.rendering.preheader
    if said is not None and said.casefold().strip(" .!") == subject.casefold().strip(" .!"):
        shown = case.traced.preheader.place(0, 1) if case.traced.preheader is not None else None
        report.add("subject.preheader-same", shown or case.start)


def preview_of(view: PageView) -> str:
    """Returns what a list shows of a page: the first words in its body, hidden ones too."""
    made = ""
    for text in view.texts:
        if view.elements[text.element].unrendered:
            continue
        read = _UNSEEN.sub("", decode_references(view.html[text.start : text.end]))
        made = " ".join(f"{made} {read}".split())
        if len(made) > 3 * LIST_WIDTH:
            break
    return made


def listed(subject: str, preview: str) -> str:
    """Returns the line that a list shows of a subject and what follows it."""
    line = f"{subject} — {preview}" if preview.strip() else subject
    made, columns = "", 0
    for character in graphemes(line):
        columns += column_count(character) or 0
        if columns > LIST_WIDTH:
            return f"“{made.rstrip()}…”"
        made += character
    return f"“{made}”"
