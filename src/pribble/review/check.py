"""Checking templates and messages: what will go wrong, told before anything is sent."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

from pribble.arguments import are_instances, flags, integers
from pribble.errors import PictureError, Place, PribbleError, Source
from pribble.findings import Finding
from pribble.mime.audit import audit
from pribble.mime.base import BaseMessage
from pribble.mime.message import Message
from pribble.mime.reading import Entity, read_message
from pribble.mime.stored import named_pictures, text_and_page
from pribble.pictures.picture import Picture
from pribble.records import field, record, replace
from pribble.regexes import regex
from pribble.review.allowing import apply_allowed
from pribble.review.cases import Case, Checked, Failed, message_of
from pribble.review.checks.contrast import check_picture_contrast, check_text_contrast
from pribble.review.checks.data import check_stranded, check_values, unused_paths
from pribble.review.checks.envelope import check_envelope
from pribble.review.checks.link import check_links
from pribble.review.checks.locale import check_locales
from pribble.review.checks.lost import check_lost
from pribble.review.checks.page import check_page
from pribble.review.checks.picture import check_pictures
from pribble.review.checks.placeholder import check_placeholders
from pribble.review.checks.strained import before_strain, check_strained
from pribble.review.checks.subject import check_subject
from pribble.review.checks.text import check_text
from pribble.review.coverage import Coverage, coverage_of, report_untried
from pribble.review.page_view import PageView
from pribble.review.rendered_cases import opened_templates, render_cases
from pribble.review.report import CheckReport, Repair
from pribble.review.strain import Strain, strains_of
from pribble.review.viewers import Viewer, chosen_viewers
from pribble.template import Template, TemplateFolder
from pribble.template_tracing import trace

_ADDED = regex(r"shown with ((?:width|height)=\"[0-9]+\"(?: height=\"[0-9]+\")?)")


@record(frozen=True, slots=True)
class Weight:
    """How heavy the messages of one template are, with their first sample: `size` is in bytes, for each way in which
    pictures travel, `recipients` how many messages there will be."""

    template: str
    size: Mapping[str, int]
    recipients: int


@record(frozen=True, slots=True)
class Strained:
    """What was tried of one template with data that hurt: how many were `tried` and `left` out, since there are more
    than are tried, and those that broke something."""

    tried: int
    left: int
    broke: tuple[Strain, ...]


@record(frozen=True, slots=True)
class Check:
    """What a check found: errors first, each rule once for a file.

    `weights` are the sizes of the messages, `coverage` says which ways each template's samples take, and `overall`
    which all together do.  `strained` is what was tried of each template, where data that hurt were asked for;
    `repairs` mend findings by themselves (``pribble check --fix``).
    """

    findings: tuple[Finding, ...]
    weights: tuple[Weight, ...] = ()
    coverage: Mapping[str, Coverage] = field(default_factory=dict)
    overall: Coverage = field(default_factory=Coverage)
    strained: Mapping[str, Strained] = field(default_factory=dict)
    repairs: tuple[Repair, ...] = ()

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.findings)

    def of(self, severity: str) -> tuple[Finding, ...]:
        """Returns the findings of one severity."""
        return tuple(one for one in self.findings if one.severity == severity)

    def count(self, severity: str) -> int:
        """Returns how many places have a finding of one severity."""
        return sum(1 + len(one.others) for one in self.of(severity))

    @property
    def is_sound(self) -> bool:
        """Whether there is neither an error nor a warning."""
        return all(one.severity == "note" for one in self.findings)


def check(
    templates: TemplateFolder | Template | Iterable[Template],
    *,
    samples: Collection[str] | None = None,
    data: Any = None,
    recipients: int = 1,
    viewers: Iterable[str | Viewer] | None = None,
    for_real_readers: bool = False,
    strain: bool = False,
    off: Collection[str] = (),
) -> Check:
    """Returns what will go wrong with the messages of templates.

    - `templates`: a folder, one template or several.
    - `samples`: the labels of the samples that are tried; all by default.
    - `data`: what is rendered instead of the samples.
    - `recipients`: how many messages there will be of each template.
    - `viewers`: what readers look with, by the names of profiles or as `Viewer`s; all that are ours by default.
    - `for_real_readers`: whether readers beyond your own machines get them, so that a link to one of these is an error.
    - `strain`: whether data that hurt are tried too, made from the fields and the first sample (docs/checks.md).
    - `off`: the rules that are not asked for.

    Every template is rendered with each sample in each of its languages.  A template that cannot be compiled or
    rendered is a finding too.  Nothing is fetched, and no file is written.
    """
    flags(for_real_readers=for_real_readers, strain=strain)
    integers(recipients=recipients)
    return check_cases(
        templates,
        chosen_viewers(viewers),
        samples=samples,
        data=data,
        recipients=recipients,
        for_real_readers=for_real_readers,
        strain=strain,
        off=off,
    ).check


@record(frozen=True, slots=True)
class CheckedCases:
    """A check, and the cases that it is of; `broken` are the templates that cannot be compiled."""

    check: Check
    templates: Sequence[Checked]
    broken: Sequence[Failed]


def check_cases(
    templates: TemplateFolder | Template | Iterable[Template],
    seen_by: Sequence[Viewer],
    *,
    samples: Collection[str] | None = None,
    data: Any = None,
    recipients: int = 1,
    for_real_readers: bool = False,
    strain: bool = False,
    off: Collection[str] = (),
    names: Collection[str] | None = None,
    words: bool = False,
) -> CheckedCases:
    """Returns a check with all that it looked at.

    The arguments are those of `check`; `names` are the templates of a folder that are looked at, and with `words` the
    words of pages are looked for in their plain texts.
    """
    report = CheckReport()
    checked: list[Checked] = []
    broken: list[Failed] = []
    for template in opened_templates(templates, names, report, broken):
        one = Checked(template)
        render_cases(one, samples, data, report, for_real_readers=for_real_readers, words=words)
        checked.append(one)
    for one in checked:
        _check_template(one, seen_by, report)
    strained = {one.template.name: _strain(one, seen_by, report) for one in checked} if strain else {}
    _report_unused(checked, data, report)
    overall = coverage_of(case for one in checked for case in one.cases)
    report_untried(overall, report)
    weights = tuple(_message_weight(one, recipients, report) for one in checked if one.cases)
    sources = {source.name: source for one in checked for source in one.sources}
    apply_allowed(report, sources.values(), {finding.rule for finding in report.all})
    left = {(finding.rule, finding.where) for finding in report.all if finding.rule not in off}
    for one in checked:
        one.found = [[each for each in found if (each.rule, each.where) in left] for found in one.found]
    made = Check(
        tuple(report.findings(off)),
        weights,
        {one.template.name: coverage_of(one.cases) for one in checked},
        overall,
        strained,
        tuple(report.repairs(off)),
    )
    return CheckedCases(made, checked, broken)


def check_message(
    message: BaseMessage | bytes,
    *,
    viewers: Iterable[str | Viewer] | None = None,
    for_real_readers: bool = False,
    name: str = "message",
) -> Check:
    """Returns what is wrong with a message, anyone's: what its page alone shows, and what its audit finds.

    `viewers` are what readers look with, as `check` has it; `name` is what places call the
    message.
    """
    are_instances((BaseMessage, bytes), "a Message or bytes", message=message)
    flags(for_real_readers=for_real_readers)
    raw, report = bytes(message), CheckReport()
    root = read_message(raw.decode("latin-1"))
    known = _as_message(message)
    if known is not None:
        check_envelope(known, root, report)
    if not any(field.key == "subject" for field in root.fields):
        report.add("subject.none", None)
    html = text_and_page(root)[1] if known is None else known.html
    if html is not None:
        source = Source(f"{name} (text/html)", html)
        view = PageView(html, source.place)
        check_view(
            view,
            source.place(0, 1),
            "",
            _pictures(root),
            report,
            for_real_readers=for_real_readers,
            seen_by=chosen_viewers(viewers),
        )
    for finding in audit(raw, name=name):
        report.take(finding)
    return Check(tuple(report.findings()), (), {})


def _as_message(given: BaseMessage | bytes) -> BaseMessage | None:
    """Returns a message with its people; None of one whose header names none that could be (the audit tells why)."""
    if isinstance(given, BaseMessage):
        return given
    try:
        return Message.from_bytes(given)
    except PribbleError:
        return None


def check_view(
    view: PageView,
    start: Place,
    language: str,
    pictures: Mapping[str, Picture],
    report: CheckReport,
    *,
    for_real_readers: bool,
    seen_by: Sequence[Viewer] = (),
) -> None:
    """What a page alone shows, without the template it comes from; `seen_by` are the viewers that are asked."""
    check_lost(view, seen_by, report)
    check_page(view, start, language, report)
    check_pictures(view, pictures, report)
    check_text_contrast(view, report, forced=any(viewer.scheme == "forced" for viewer in seen_by))
    check_picture_contrast(view, pictures, report)
    check_links(view, report, for_real_readers=for_real_readers)


# ---- templates ------------------------------------------------------------------------------------------------


def _check_template(checked: Checked, seen_by: Sequence[Viewer], report: CheckReport) -> None:
    for case in checked.cases:
        own = CheckReport()
        _check_case(case, seen_by, own)
        _mend_sizes(case, own)
        checked.found.append(own.all)
        report.absorb(own)
    check_locales(checked, report)


def _check_case(case: Case, seen_by: Sequence[Viewer], report: CheckReport) -> None:
    for finding in case.rendering.findings:
        report.take(finding)
    check_values(case, report)
    check_stranded(case, report)
    check_placeholders(case, report)
    check_subject(case, report)
    check_text(case, report)
    if case.view is not None:
        check_view(
            case.view,
            case.start,
            case.language,
            case.pictures,
            report,
            for_real_readers=case.for_real_readers,
            seen_by=seen_by,
        )


def _mend_sizes(case: Case, report: CheckReport) -> None:
    """Sizes that were added to a picture, which the file could say itself: not where the data choose the picture."""
    for finding in case.rendering.findings:
        where = finding.where
        added = _ADDED.search(finding.message) if finding.rule == "picture.size" else None
        if where is None or added is None or "{{" in where.source.text[where.start : where.end]:
            continue
        around = where.source.text[max(0, where.start - 2000) : where.start]
        tag = where.start - len(around) + around.lower().rfind("<img")
        if "<img" in around.lower() and ">" not in where.source.text[tag : where.start]:
            report.mend("picture.size", where.source.place(tag, tag + 4), "img", added[1], of=where)


def _report_unused(checked: Iterable[Checked], given: Any, report: CheckReport) -> None:
    """Report the data that no template reads: of data that are given, those that none of all templates reads."""
    if given is not None:
        unused = [set(unused_paths(one, [given])) for one in checked if one.cases]
        shared = sorted(set.intersection(*unused)) if unused else []
        first = next((one.cases[0] for one in checked if one.cases), None)
        if shared and first is not None:
            report.add("data.unused", first.start, _listed_paths(shared), path=shared[0])
        return
    for one in checked:
        if one.cases:
            paths = unused_paths(one, one.template.samples.values())
            if paths:
                report.add("data.unused", one.cases[0].start, _listed_paths(paths), path=paths[0])


def _strain(checked: Checked, seen_by: Sequence[Viewer], report: CheckReport) -> Strained:
    """Try data that hurt, and report what they break that the samples do not, once, with the first that do it."""
    template = checked.template
    first = checked.cases[0] if checked.cases else None
    strains, left = strains_of(template, first.data if first is not None else None)
    known = {(one.rule, one.where) for one in report.all}
    before = before_strain(first)
    broke = []
    for each in strains:
        count = len(report.all)
        try:
            traced = trace(template, each.data)
        except PribbleError as error:
            # Of a text or number that is none in its place the data are to blame; of what is missing, the template.
            if each.kind in ("left out", "empty", "one", "many"):
                report.add("strain.fails", error.place, each.what, error.problem, path=each.path)
        else:
            file = template.variants.linked(None).sources[0]
            case = Case(template, template.settings.locale, each.what, each.data, traced, file)
            check_strained(case, each, before, report)
            scratch = CheckReport()
            _check_case(case, seen_by, scratch)
            for one in scratch.all:
                if one.severity != "note" and (one.rule, one.where) not in known:
                    report.take(replace(one, message=f"{one.message}, with {each.what}"))
        if new := report.all[count:]:
            broke.append(each)
            known |= {(one.rule, one.where) for one in new}
    return Strained(len(strains), left, tuple(broke))


def _listed_paths(paths: list[str]) -> str:
    return f"{', '.join(paths[:6])}{f' and {len(paths) - 6} more' if len(paths) > 6 else ''}"


def _message_weight(checked: Checked, recipients: int, report: CheckReport) -> Weight:
    """Returns how heavy the messages of a template are, pictures as parts and within the page."""
    case = checked.cases[0]
    sizes: dict[str, int] = {}
    for embed in ("cid", "data") if case.rendering.pictures else ("cid",):
        rendering = checked.template.render(case.data, locale=case.locale, embed=embed)
        try:
            sizes[embed] = len(bytes(message_of(rendering)))
        except PribbleError as error:  # a subject or text that no message can have
            report.add("template.broken", error.place or case.start, error.problem)
            return Weight(checked.template.name, sizes, recipients)
    says = f"{sizes['cid']:,} bytes"
    if "data" in sizes:
        says += f", with pictures as parts; {sizes['data']:,} with pictures in the page"
    if recipients > 1:
        says += f"; {sizes['cid'] * recipients:,} for {recipients:,} recipients"
    report.add("weight.message", case.start, f"a message has {says}")
    return Weight(checked.template.name, sizes, recipients)


def _pictures(root: Entity) -> dict[str, Picture]:
    """Returns the pictures of a message by the addresses that its page names them by."""
    made: dict[str, Picture] = {}
    for address, entity in named_pictures(root):
        try:
            made[address] = Picture.from_bytes(entity.decoded(), entity.file_name)
        except PictureError:  # the audit tells of what is no picture
            continue
    return made
