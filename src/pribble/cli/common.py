"""What several commands share: the settings file, templates, data, addresses, output."""

from __future__ import annotations

import argparse
import json
import re
import sys
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import Any

from pribble.cli.command_line import Usage
from pribble.errors import DataError, Source, did_you_mean, visible_lines
from pribble.files import is_file, write_file
from pribble.findings import Finding
from pribble.pictures.picture_slots import EMBED
from pribble.regexes import regex
from pribble.rendering.rendering import Rendering, checked_embed
from pribble.settings import SETTINGS_FILE, ProjectSettings, project_settings, project_templates
from pribble.template import Template, TemplateFolder
from pribble.template_files import read_data
from pribble.values.reading import read_json

# How the severities of findings look in a terminal.
SEVERITY_STYLES = {"error": "bold red", "warning": "magenta", "note": "cyan"}


def as_data(findings: Iterable[Finding]) -> list[dict[str, Any]]:
    """Returns findings, for programs."""
    return [one.as_data() for one in findings]


def tell(options: argparse.Namespace, findings: Iterable[Finding]) -> None:
    """Put findings on standard error, each once, unless they are not wanted, or stand in the answer."""
    if not options.quiet and not options.json:
        for said in dict.fromkeys(map(str, findings)):
            print(visible_lines(said), file=sys.stderr)


def add_quiet(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--quiet", action="store_true", help="leave out what is found and not refused")


def settings_with_events() -> ProjectSettings:
    """Returns the settings of the project, where there are some: events stand in them."""
    settings = project_settings()
    if settings.file is None:
        raise Usage(f"events stand in {SETTINGS_FILE}, and there is none in this folder or above it")
    return settings


# ---- templates and data ---------------------------------------------------------------------------------------


def add_template(parser: argparse.ArgumentParser, *, data: bool = True) -> None:
    """The arguments that name a template and its data."""
    parser.add_argument("template", metavar="TEMPLATE", help="a name in the template folder, or a path to a file")
    add_templates(parser)
    if data:
        parser.add_argument("--data", metavar="FILE", help="JSON; - for standard input (default: the first sample)")
        parser.add_argument(
            "--set",
            metavar="PATH=VALUE",
            action="append",
            default=[],
            dest="sets",
            help="set one field; VALUE is JSON if it reads as such, else text",
        )
        parser.add_argument("--locale", metavar="L", help="the locale of numbers and dates: en_GB")
        parser.add_argument("--timezone", metavar="Z", help="the time zone of moments: Europe/London")
        add_embed(parser)


def add_templates(parser: argparse.ArgumentParser) -> None:
    """The argument that names the template folder."""
    parser.add_argument(
        "--templates",
        metavar="DIR",
        type=Path,
        help="the template folder (else that of pribble.toml, else ./templates)",
    )


def add_embed(parser: argparse.ArgumentParser) -> None:
    """The arguments that say how pictures travel."""
    parser.add_argument(
        "--embed",
        choices=EMBED,
        help="how pictures travel: as parts of the message (cid), inside the "
        "page (data), as links below --picture-base, or not at all (none)",
    )
    parser.add_argument("--picture-base", metavar="URL", help="what linked pictures lie below: https://…")


def template(options: argparse.Namespace, settings: ProjectSettings) -> Template:
    """Returns the template that the command line names."""
    folder_path, name = located(options.template, folder_of(options.templates, settings))
    return template_folder(folder_path, options, settings)[name]


def folder_of(given: Path | None, settings: ProjectSettings) -> Path:
    """Returns the path of the template folder: the one that is given, else that of the settings, else ./templates."""
    return given or settings.templates or Path("templates")


def located(named: str, folder: Path) -> tuple[Path, str]:
    """Returns the folder and the name of a template that is named, or whose file is."""
    given = Path(named)
    if not (given.suffix in (".html", ".txt") and is_file(given)):
        return folder, named
    inside = folder.is_dir() and given.resolve().is_relative_to(folder.resolve())
    around = folder if inside else given.parent
    return around, given.resolve().relative_to(around.resolve()).with_suffix("").as_posix()


def template_folder(
    path: Path, options: argparse.Namespace, settings: ProjectSettings, *, reload: bool = False
) -> TemplateFolder:
    """Returns the folder of templates at a path, as the settings and options have it; `reload` as `TemplateFolder` has
    it."""
    if not path.is_dir():
        raise Usage(f"there is no template folder {path} (name one with --templates, or in {SETTINGS_FILE})")
    given = getattr(options, "sender", None)
    return project_templates(
        settings,
        path,
        sender=settings.sender(given) or given if given else None,
        picture_base=getattr(options, "picture_base", None),
        reload=reload,
    )


def read_given_data(named: str) -> Any:
    """Returns the data of a file, or of standard input where it is called "-"."""
    if named == "-":
        return read_json(Source("standard input", sys.stdin.read()))
    return read_data(existing_file(named))


def existing_file(named: str) -> Path:
    """Returns the path of a file that is there."""
    path = Path(named)
    if not is_file(path):
        raise Usage(f"there is no file {named}")
    return path


def data(options: argparse.Namespace, chosen: Template) -> Any:
    """Returns the data that the command line names, with its single fields set."""
    found = read_given_data(options.data) if options.data else first_sample(chosen, needed=not options.sets)
    for assignment in options.sets:
        found = _set(found, assignment)
    return found


def first_sample(chosen: Template, *, needed: bool = True) -> Any:
    """Returns the data of a template's first sample; no data where there is none, and none is `needed`."""
    samples = chosen.samples
    if needed and not samples and not all(field.optional for field in chosen.fields()):
        raise Usage(f'"{chosen.name}" has no sample beside it; give it data with --data FILE')
    return next(iter(samples.values()), {})


_MOST_STEPS, _LONGEST_INDEX = 100, 12
_STEP = regex(r"\.?([^.\[\]=]+)|\[([0-9]+)\]")


def _set(found: Any, assignment: str) -> Any:
    path, equals, written = assignment.partition("=")
    if not equals or not path:
        raise Usage(f'--set takes PATH=VALUE, not "{assignment}"')
    steps: list[str | int] = []
    position = 0
    while position < len(path):
        step = _STEP.match(path, position)
        if step is None:
            raise Usage(f'"{path}" is no path of fields; write one as berth.number or lines[0].price')
        steps.append(step[1] if step[1] is not None else int(step[2][:_LONGEST_INDEX]))
        position = step.end()
        if len(steps) > _MOST_STEPS:
            raise Usage(f"--set takes a path of at most {_MOST_STEPS} fields")
    try:
        value = read_json(Source(f"--set {path}", written))
    except DataError:
        value = written
    return _changed(found, steps, value, path)


def _changed(whole: Any, steps: list[str | int], value: Any, path: str) -> Any:
    """Returns `whole` with the value at the end of `steps`; records that are not there yet are made."""
    if not steps:
        return value
    first, rest = steps[0], steps[1:]
    if isinstance(first, int):
        if not isinstance(whole, list) or first >= len(whole):
            raise Usage(f"--set {path}: there is no [{first}] in the data")
        return [*whole[:first], _changed(whole[first], rest, value, path), *whole[first + 1 :]]
    if not isinstance(whole, dict | None):
        raise Usage(f'--set {path}: "{first}" would be a field of something that has none')
    before = whole or {}
    return {**before, first: _changed(before.get(first), rest, value, path)}


def rendering(options: argparse.Namespace, chosen: Template, *, embed: str | None = None) -> Rendering:
    """Returns the chosen template, filled."""
    return chosen.render(
        data(options, chosen),
        locale=options.locale,
        timezone=options.timezone,
        embed=checked_embed(options.embed or embed),
    )


def sender(options: argparse.Namespace, settings: ProjectSettings) -> str:
    """Returns the mailbox a message is from: ``--from``, which may name one of the settings, or their default
    sender."""
    found = sender_if_any(options, settings)
    if found is None:
        raise Usage(f'say who the message is from: --from "Name <address>", or in {SETTINGS_FILE} [senders] default')
    return found


def sender_if_any(options: argparse.Namespace, settings: ProjectSettings) -> str | None:
    """Returns the mailbox a message is from; None where nobody says."""
    given = options.sender or settings.sender()
    if given is None:
        return None
    named = settings.sender(given)
    if named is None and "@" not in given:
        hint = did_you_mean(given, [name for name, _ in settings.senders]) if settings.senders else "there is none"
        raise Usage(f'--from: "{given}" is no address, and no name in [senders] of {SETTINGS_FILE} ({hint})')
    return named or given


# ---- output ---------------------------------------------------------------------------------------------------


def count_of(noun: str) -> Callable[[str], int]:
    """Returns what reads a count from 1, for argparse; what is none is "no" `noun`."""

    def count(written: str) -> int:
        if not re.fullmatch("[0-9]{1,9}", written) or not int(written):
            raise argparse.ArgumentTypeError(f'"{written[:20]}" is no {noun}')
        return int(written)

    return count


def port(written: str) -> int:
    """Returns a port, for argparse."""
    if not re.fullmatch("[0-9]{1,5}", written) or int(written) > 65535:
        raise argparse.ArgumentTypeError(f'"{written[:20]}" is no port (0 to 65535)')
    return int(written)


def add_json(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="answer in JSON, for programs")


def counted(count: int, noun: str) -> str:
    """Returns a number of things: "1 page", "1,200 pages"."""
    return f"{count:,} {noun}{'s' * (count != 1)}"


def in_words(states: Mapping[Any, int]) -> str:
    """Returns how many are in which states: "3 deferred, 1 in doubt"."""
    return ", ".join(f"{count:,} {state.replace('_', ' ')}" for state, count in sorted(states.items()) if count)


def print_json(value: Any) -> None:
    print(json.dumps(value, ensure_ascii=False, indent=2))


def write(content: bytes, out: str | None) -> None:
    """Write to standard output, or to a file: whole or not at all."""
    if out is None or out == "-":
        sys.stdout.buffer.write(content)
        sys.stdout.buffer.flush()
        return
    path = Path(out)
    if path.is_dir():
        raise Usage(f"{path} is a folder (name a file in it)")
    if not path.parent.is_dir():
        raise Usage(f"there is no folder {path.parent}")
    write_file(path, content)
