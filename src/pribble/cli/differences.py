"""``pribble differences``: what differs between two messages, or between two commits of all templates."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import (
    add_json,
    add_templates,
    counted,
    existing_file,
    first_sample,
    folder_of,
    located,
    print_json,
    read_given_data,
)
from pribble.cli.review_options import looked_at
from pribble.cli.revisions import commit_of, folder_at
from pribble.errors import PribbleError
from pribble.mime.message import Message
from pribble.records import record
from pribble.rendering.rendering import Rendering
from pribble.settings import ProjectSettings, project_settings
from pribble.template import Template, TemplateFolder, UnknownTemplate
from pribble.values.kinds import Data

if TYPE_CHECKING:
    from pribble.cli.terminal import Terminal
    from pribble.review import Difference

# So many lines of one side of a difference are shown.
_MOST_LINES = 12
_DIFFERENT = 1
_NOT_COMPARED = "not compared"


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "differences",
        description="Compare two messages (.eml) or the messages of two templates: header fields, parts, the text by "
        "line, the page by its words, links and looks, pictures by their pixels.  With --git, all templates with all "
        "samples between two commits.  Exits 1 where they differ or cannot be compared.",
    )
    parser.add_argument("old", metavar="OLD", nargs="?", help="a template, or MESSAGE.eml")
    parser.add_argument("new", metavar="NEW", nargs="?", help="a template, or MESSAGE.eml")
    add_templates(parser)
    parser.add_argument("--data", metavar="FILE", help="JSON for both templates (default: the first sample of each)")
    parser.add_argument(
        "--git",
        metavar="RANGE",
        help="two commits, OLD..NEW; or one, which the files as they are now are compared with",
    )
    parser.add_argument(
        "--all", action="store_true", help="dates, ids and boundaries too, which differ in all messages"
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    settings = project_settings()
    if options.git is not None:
        if options.old is not None or options.data is not None:
            raise Usage("--git compares all templates with all their samples: no others, and no --data")
        return _between_commits(options, settings)
    if options.new is None:
        raise Usage("say what to compare: two templates, two messages, or --git OLD..NEW")
    from pribble.review import differences

    found = differences(_given(options.old, options, settings), _given(options.new, options, settings), all=options.all)
    if options.json:
        print_json([asdict(one) for one in found])
    else:
        console = _console()
        _show(console, found)
        console.print(counted(len(found), "difference") if found else "no difference")
    return _DIFFERENT if found else 0


def _given(named: str, options: argparse.Namespace, settings: ProjectSettings) -> Message | Rendering | bytes:
    """Returns a message that is stored, or that of a template."""
    if named.endswith(".eml"):
        return existing_file(named).read_bytes()
    path, name = located(named, folder_of(options.templates, settings))
    template = looked_at(path, options, settings)[name]
    return template.render(first_sample(template) if options.data is None else read_given_data(options.data))


# ---- between commits --------------------------------------------------------------------------------------------


@record(frozen=True, slots=True)
class _Changed:
    """A message that is another one in the new commit: what differs, or why it cannot be made in one or both."""

    template: str
    sample: str
    locale: str
    differences: Sequence[Difference]
    note: str = ""


def _between_commits(options: argparse.Namespace, settings: ProjectSettings) -> int:
    folder = folder_of(options.templates, settings)
    if not folder.is_dir():
        raise Usage(f"there is no template folder {folder}")
    first, dots, last = options.git.partition("..")
    if not first or last.startswith(".") or (dots and not last):
        raise Usage(f'--git takes OLD..NEW, or one commit, not "{options.git}"')
    before = commit_of(folder, first)
    after = commit_of(folder, last) if dots else None
    with TemporaryDirectory(prefix="pribble-") as made:
        old = looked_at(folder_at(folder, before, Path(made) / "old"), options, settings)
        new = looked_at(folder_at(folder, after, Path(made) / "new") if after else folder, options, settings)
        count, changed = 0, []
        for name in sorted({*old, *new}):
            for one in _of_template(name, old, new, all=options.all):
                count += 1
                if one.differences or one.note:
                    changed.append(one)
    names = before[:10], after[:10] if after else "the files as they are now"
    if options.json:
        print_json({"old": before, "new": after, "messages": count, "changed": [_as_data(one) for one in changed]})
    else:
        _show_changed(changed, count, names)
    return _DIFFERENT if changed else 0


def _of_template(name: str, old: TemplateFolder, new: TemplateFolder, *, all: bool) -> Iterator[_Changed]:
    """Yields every message of a template that one of two commits has, changed or not."""
    from pribble.review import differences

    before, after = _messages(name, old), _messages(name, new)
    for key in dict.fromkeys((*before, *after)):
        sample, locale = key
        one, other = before.get(key, "there is none"), after.get(key, "there is none")
        if isinstance(one, str) and isinstance(other, str):
            why = one if one == other else f"{one}; now: {other}"
            yield _Changed(name, sample, locale, (), f"{_NOT_COMPARED}: {why}")
        elif isinstance(one, str):
            yield _Changed(name, sample, locale, (), f"new; before: {one}")
        elif isinstance(other, str):
            yield _Changed(name, sample, locale, (), f"gone: {other}")
        else:
            yield _Changed(name, sample, locale, differences(one, other, all=all))


def _messages(name: str, folder: TemplateFolder) -> Mapping[tuple[str, str], Rendering | str]:
    """Returns the messages of a template by sample and language; why one cannot be made, in its place."""
    try:
        template = folder[name]
        samples = template.samples or {"": {}}
    except UnknownTemplate:
        return {}
    except PribbleError as error:
        return {("", folder.settings.locale): error.problem}
    return {
        (sample, locale): _rendered(template, data, locale)
        for sample, data in samples.items()
        for locale in template.locales
    }


def _rendered(template: Template, data: Data, locale: str) -> Rendering | str:
    try:
        return template.render(data, locale=locale)
    except PribbleError as error:
        return error.problem


def _as_data(one: _Changed) -> dict[str, Any]:
    return {
        "template": one.template,
        "sample": one.sample,
        "locale": one.locale,
        "note": one.note,
        "differences": [asdict(each) for each in one.differences],
    }


# ---- for people -------------------------------------------------------------------------------------------------


def _console() -> Terminal:
    from pribble.cli.terminal import Terminal

    return Terminal(soft_wrap=True)


def _show_changed(changed: Sequence[_Changed], count: int, names: tuple[str, str]) -> None:
    from rich.text import Text

    console = _console()
    for one in changed:
        said = ", ".join(filter(None, (one.sample or "first sample", one.locale)))
        console.print(Text.assemble((one.template, "bold"), f"  {said}"))
        if one.note:
            console.print(Text(f"  {one.note}", "magenta"))
        _show(console, one.differences)
    left = sum(one.note.startswith(_NOT_COMPARED) for one in changed)
    said = f"{len(changed) - left} of {counted(count, 'message')} changed between {names[0]} and {names[1]}"
    console.print(f"{said}; {left} {_NOT_COMPARED}" if left else said)


def _show(console: Terminal, found: Sequence[Difference]) -> None:
    from rich.text import Text

    for one in found:
        console.print(Text.assemble("  ", (one.kind, "bold"), f"  {one.what}"))
        for sign, said, style in (("-", one.old, "red"), ("+", one.new, "green")):
            lines = said.split("\n") if said else []
            for line in lines[:_MOST_LINES]:
                console.print(Text(f"    {sign} {line}".rstrip(), style))
            if len(lines) > _MOST_LINES:
                console.print(Text(f"    {sign} … and {len(lines) - _MOST_LINES} more lines", style))
