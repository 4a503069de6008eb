"""The page as a whole: its language, what receivers take out or cut, and what it tells to readers that listen."""

from __future__ import annotations

from collections.abc import Iterator

from pribble.cascade.elements import Element
from pribble.errors import Place
from pribble.review.page_view import PageView
from pribble.review.report import CheckReport

_ACTIVE = frozenset("script form frame frameset iframe embed object applet input button select textarea".split())
# Some receivers show so many bytes of a page, and a link to the rest.
MOST_BYTES = 102_400
_HEADINGS = ("h1", "h2", "h3", "h4", "h5", "h6")
_ARRANGED = frozenset({"presentation", "none"})


def check_page(view: PageView, start: Place | None, language: str, report: CheckReport) -> None:
    """The page; `language` is that it should be written in, "" where nobody says."""
    _check_language(view, start, language, report)
    if view.page.quirks:
        report.add("page.quirks", view.place(0, 1) or start)
    for element in view.elements:
        _check_active(view, element, report)
    octets = view.html.encode("utf-8", "replace")
    if len(octets) > MOST_BYTES:
        cut = len(octets[:MOST_BYTES].decode("utf-8", "ignore"))
        report.add("page.heavy", view.place(cut - 1, cut) or start, f"{len(octets):,}")
    _check_tables(view, report)
    _check_headings(view, report)
    for element in view.elements:
        if element.local_name == "blockquote" and view.shows(element.number):
            for name, called in (("table", "a table"), ("img", "a picture")):
                if view.inside(element, name):
                    report.add("page.quote", view.tag_place(element), called)
                    break


def _check_language(view: PageView, start: Place | None, language: str, report: CheckReport) -> None:
    root = next((element for element in view.elements if element.local_name == "html"), None)
    said = root.values.get("lang", "").strip() if root is not None else ""
    wanted = language.replace("_", "-")
    if not said:
        place = view.tag_place(root) if root is not None and not root.implied else None
        report.add("page.language", place or start, "the page does not say its language", fix=(wanted or "en",))
        if wanted and root is not None and "lang" not in root.values:
            report.mend("page.language", place, "html", f'lang="{wanted}"')
    elif wanted and said.lower().partition("-")[0] != wanted.lower().partition("-")[0] and root is not None:
        message = f"the page says that it is in “{said[:30]}”, and the file is for {wanted}"
        report.add("page.language", view.attribute_place(root, "lang"), message, fix=(wanted,))


def _check_active(view: PageView, element: Element, report: CheckReport) -> None:
    name = element.local_name
    if name == "script" and element.values.get("type", "").strip().lower() == "application/ld+json":
        return
    if name in _ACTIVE and not (name == "input" and element.values.get("type", "").lower() == "hidden"):
        report.add("page.active", view.tag_place(element), f"<{name}>")
    for attribute in element.opening.attributes:
        if attribute.name.startswith("on") and attribute.name.isalpha():
            report.add("page.active", view.attribute_place(element, attribute.name), f"{attribute.name}=")


# ---- tables ---------------------------------------------------------------------------------------------------


def _check_tables(view: PageView, report: CheckReport) -> None:
    for table in view.elements:
        if table.local_name != "table" or not view.shows(table.number):
            continue
        if table.values.get("role", "").strip().lower() in _ARRANGED:
            continue
        rows = list(_rows(table))
        if any(cell.local_name == "th" for row in rows for cell in row):
            continue
        if _is_data(view, rows):
            report.add("page.table-heads", view.tag_place(table))
        else:
            report.add("page.layout-role", view.tag_place(table))
            report.mend("page.layout-role", view.tag_place(table), "table", 'role="presentation"')


def _rows(table: Element) -> Iterator[list[Element]]:
    for part in table.children:
        for row in (part,) if part.local_name == "tr" else part.children:
            if row.local_name == "tr":
                yield [cell for cell in row.children if cell.local_name in ("td", "th")]


def _is_data(view: PageView, rows: list[list[Element]]) -> bool:
    """Returns whether a table without header cells says something by its columns: short texts in each cell of several
    rows, with numbers below each other."""
    most = max((len(row) for row in rows), default=0)
    wide = [row for row in rows if len(row) == most]
    if most < 2 or len(wide) < 3:
        return False
    said = [[view.said(cell.opening.end, view.ends[cell.number]) for cell in row] for row in wide]
    if any(len(text) > 40 for row in said for text in row):
        return False
    columns = zip(*said[1:], strict=True)
    return any(all(any(c.isdigit() for c in text) for text in column) for column in list(columns)[1:])


def _check_headings(view: PageView, report: CheckReport) -> None:
    level = 0
    for element in view.elements:
        if element.local_name in _HEADINGS and view.shows(element.number):
            own = _HEADINGS.index(element.local_name) + 1
            if level and own > level + 1:
                says = f"<h{own}> follows <h{level}>, and what is between is left out"
                report.add("page.headings", view.tag_place(element), says)
            level = own
