"""All that the preview shows, as data for its scripts: templates, their messages, findings, weights, coverage."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from pribble.errors import PribbleError
from pribble.findings import Finding
from pribble.records import field, record
from pribble.review.cases import Checked, Failed
from pribble.review.check import CheckedCases, Weight
from pribble.review.coverage import Coverage
from pribble.review.json_data import Json, json_for_pages
from pribble.review.preview.case_entries import (
    Composing,
    case_entry,
    error_entry,
    failed_entry,
    finding_entry,
    rendered_entry,
)
from pribble.review.preview.store import Store
from pribble.review.strain import strained_together
from pribble.review.viewers import Viewer

# The viewers of data that hurt.
PLAIN_VIEWERS = ("browser", "phone")
# What the page says in figures.
_IN_FIGURES = frozenset({"data.untried", "weight.message"})


@record(frozen=True, slots=True)
class Entries:
    """What the preview is made of: `templates` by name, and what they keep together in `store`."""

    viewers: Sequence[Viewer]
    store: Store = field(default_factory=Store)
    templates: dict[str, Json] = field(default_factory=dict)

    def as_json(self) -> dict[str, Json]:
        """Returns the templates and what they share, for a script."""
        return {"templates": list(self.templates.values()), **self.store.as_json()}

    def heaviest(self, excess: int) -> Iterator[str]:
        """Yields the templates without which the page has so many bytes less, the heaviest first."""
        owned = {name: list(_page_numbers(entry)) for name, entry in self.templates.items()} if excess > 0 else {}
        sizes = self.store.sizes(owned)
        for name, own in sizes.items():
            sizes[name] = own + len(json_for_pages(self.templates[name]))
        for name in sorted(sizes, key=lambda one: -sizes[one]):
            if excess <= 0:
                return
            yield name
            excess -= sizes[name]

    def add(self, found: CheckedCases, composing: Composing, *, strained: bool = True) -> None:
        """Take in what was checked."""
        weights = {one.template: one for one in found.check.weights}
        by_file = found.check.findings
        for failed in found.broken:
            self.templates[failed.template] = _broken(failed, self.store)
        for checked in found.templates:
            name = checked.template.name
            entry = self._template(checked, weights.get(name), found.check.coverage.get(name), composing)
            entry["others"] = [finding_entry(one, self.store) for one in _without_case(by_file, checked)]
            entry["strained"] = list(self._strained(checked, composing)) if strained else []
            self.templates[name] = entry
        self.templates.update(sorted(self.templates.items()))

    def _template(
        self, checked: Checked, weight: Weight | None, coverage: Coverage | None, composing: Composing
    ) -> dict[str, Json]:
        cases: list[Json] = []
        for case, found in zip(checked.cases, checked.found, strict=True):
            try:
                cases.append(case_entry(case, found, self.viewers, composing, self.store))
            except PribbleError as error:  # a subject or a text that no message can have
                cases.append(failed_entry(Failed(checked.template.name, case.locale, case.sample, [error]), self.store))
        cases += [failed_entry(one, self.store) for one in checked.failed]
        return {
            "name": checked.template.name,
            "page": checked.template.is_page,
            "locales": list(checked.template.locales),
            "cases": cases,
            "weight": None if weight is None else {"sizes": dict(weight.size), "recipients": weight.recipients},
            "coverage": None if coverage is None else _coverage_entry(coverage, self.store),
        }

    def _strained(self, checked: Checked, composing: Composing) -> Iterator[Json]:
        template = checked.template
        sample = checked.cases[0].data if checked.cases else None
        plain = [one for one in self.viewers if one.name in PLAIN_VIEWERS]
        for strain in strained_together(template, sample):
            entry: dict[str, Json] = {"strain": strain.kind, "what": strain.what}
            try:
                rendering = template.render(strain.data)
                entry |= rendered_entry(rendering, strain.data, plain, self.store, composing)
            except PribbleError as error:
                entry["errors"] = [error_entry(error, self.store)]
            yield entry


def shown_json(viewers: Sequence[Viewer], groups: Sequence[Json]) -> dict[str, Json]:
    """Returns all that a page shows, for its script: `groups` are templates that share what they are made of."""
    return {
        "viewers": [
            {
                "name": one.name,
                "about": one.about,
                "width": one.width,
                "textOnly": one.text_only,
                "plain": one.name in PLAIN_VIEWERS,
            }
            for one in viewers
        ],
        "groups": groups,
    }


def _page_numbers(entry: Json) -> Iterator[int]:
    """Yields the numbers of the pages of a template."""
    assert isinstance(entry, dict)
    for case in (*entry["cases"], *entry["strained"]):
        yield from case.get("pages", {}).values()


def _broken(failed: Failed, store: Store) -> dict[str, Json]:
    return {
        "name": failed.template,
        "page": True,
        "locales": [],
        "cases": [failed_entry(failed, store)],
        "weight": None,
        "coverage": None,
        "others": [],
        "strained": [],
    }


def _coverage_entry(coverage: Coverage, store: Store) -> Json:
    return {
        "ways": len(coverage.ways),
        "tried": coverage.tried,
        "untried": [
            {"what": one.what, "place": store.place(one.place), "where": str(one.place)} for one in coverage.untried
        ],
    }


def _without_case(found: Iterable[Finding], checked: Checked) -> Iterator[Finding]:
    """Yields the findings about the files of a template that none of its messages has: of a file for a language."""
    files = {source.name for source in checked.sources}
    of_cases = {one.rule for each in checked.found for one in each}
    for one in found:
        is_here = one.where is not None and one.where.source.name in files
        if is_here and one.rule not in of_cases and one.rule not in _IN_FIGURES:
            yield one
