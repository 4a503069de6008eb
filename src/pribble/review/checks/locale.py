"""The files of one template for several languages, against each other."""

from __future__ import annotations

from collections import Counter

from pribble.review.cases import Case, Checked
from pribble.review.checks.words import host_of, shortened
from pribble.review.report import CheckReport


def check_locales(checked: Checked, report: CheckReport) -> None:
    """What the file of a language has not that the plain one has, or the reverse."""
    plain = {case.sample: case for case in checked.cases if case.locale == checked.template.settings.locale}
    for case in checked.cases:
        first = plain.get(case.sample)
        if first is not None and first is not case and case.file.name != first.file.name:
            _check_pair(first, case, report)


def _check_pair(plain: Case, other: Case, report: CheckReport) -> None:
    own = {field.path for field in plain.template.fields(locale=plain.locale)}
    theirs = {field.path for field in other.template.fields(locale=other.locale)}
    for missing, says in ((own - theirs, "not shown here, and in"), (theirs - own, "shown here, and not in")):
        if missing:
            names = ", ".join(sorted(missing)[:6])
            report.add("locale.fields", other.start, f"{names}: {says} {_file_name(plain)}")
    if plain.view is not None and other.view is not None:
        mine = Counter(host_of(link.address) or link.address for link in plain.view.links)
        given = Counter(host_of(link.address) or link.address for link in other.view.links)
        if mine != given:
            if lacking := [*(mine - given)]:
                says = f"{_file_name(plain)} has links that this has not: {shortened(lacking[0])}"
            else:
                says = f"this has a link that {_file_name(plain)} has not: {shortened(next(iter(given - mine)))}"
            report.add("locale.links", other.start, says)
        counts = [sum(one.local_name == "img" for one in case.view.elements) for case in (plain, other) if case.view]
        if counts[0] != counts[1]:
            report.add(
                "locale.pictures", other.start, f"{counts[1]} pictures here, and {counts[0]} in {_file_name(plain)}"
            )
    blocks = [
        {name for name in ("subject", "preheader", "text") if getattr(case.traced, name) is not None}
        for case in (plain, other)
    ]
    if blocks[0] != blocks[1]:
        names = ", ".join(sorted(blocks[0] ^ blocks[1]))
        report.add("locale.blocks", other.start, f"{names}: only one of this and {_file_name(plain)} has it")


def _file_name(case: Case) -> str:
    return case.file.name.replace("\\", "/").rpartition("/")[2]
