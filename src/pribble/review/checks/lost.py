"""What some viewers take out, where nothing else on the page says the same."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from pribble.cascade.longhands import longhands
from pribble.review.page_view import PageView
from pribble.review.report import CheckReport
from pribble.review.viewers import Viewer

# Elements that show something by themselves; of the others that viewers take out, `page.active` tells.
_SHOWING = frozenset({"svg", "math", "video", "audio", "canvas", "object", "embed"})
_PLACED = frozenset({"absolute", "fixed", "sticky"})


def check_lost(view: PageView, viewers: Sequence[Viewer], report: CheckReport) -> None:
    """Elements, ways of laying out, and rules of style sheets that no element repeats."""
    seeing = [viewer for viewer in viewers if not viewer.text_only]
    for element in view.elements:
        if not view.shows(element.number) or element.unrendered:
            continue
        name, style = element.local_name, view.style(element.number)
        place = view.tag_place(element)
        if name in _SHOWING and (losing := _viewer_names(v for v in seeing if name in v.elements)):
            report.add("page.lost", place, f"<{name}>", losing)
        beside = sum(1 for child in element.children if view.shows(child.number))
        if beside > 1 and (losing := _viewer_names(v for v in seeing if style.display in v.displays)):
            report.add("page.lost", place, f"display: {style.display}, by which {beside} stand side by side,", losing)
        if style.position in _PLACED and (losing := _viewer_names(v for v in seeing if "position" in v.properties)):
            report.add("page.lost", place, f"position: {style.position}", losing)
    _check_sheets(view, seeing, report)


def _check_sheets(view: PageView, seeing: Sequence[Viewer], report: CheckReport) -> None:
    """Rules that always hold and are in a sheet alone."""
    losing = _viewer_names(viewer for viewer in seeing if viewer.style_elements == "none")
    if not losing:
        return
    told: set[int] = set()
    for column, rule, selector in view.sheets.matched:
        if rule.conditions or selector.needs.dynamic or rule.number in told or rule.part.offset < 0:
            continue
        said = {name for one in rule.declarations for name in longhands(one.name) if not one.name.startswith("--")}
        for number in column:
            own = {name for one in view.sheets.own[number] for name in longhands(one.name)}
            if view.shows(number) and not view.elements[number].unrendered and not said <= own | {"all"}:
                told.add(rule.number)
                start = rule.part.offset + rule.node.start
                place = view.place(start, rule.part.offset + rule.node.prelude_end)
                report.add("page.lost", place, f"the rule for {selector.text[:60]}", losing)
                break


def _viewer_names(viewers: Iterable[Viewer]) -> str:
    names = [viewer.name for viewer in viewers]
    return ", ".join(names[:4])
