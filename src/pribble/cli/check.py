"""``pribble check``: what will go wrong with a message, told before it is sent."""

from __future__ import annotations

import argparse
import codecs
import difflib
import re
import sys
from collections.abc import Iterator, Sequence
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import (
    SEVERITY_STYLES,
    add_json,
    add_templates,
    as_data,
    counted,
    existing_file,
    folder_of,
    located,
    print_json,
    write,
)
from pribble.cli.review_options import (
    add_recipients,
    add_viewers,
    asked_viewers,
    counted_findings,
    data_instead,
    looked_at,
    rules_off,
)
from pribble.edits import Edit, replaced
from pribble.errors import Place, visible
from pribble.files import is_file
from pribble.findings import Finding
from pribble.settings import ProjectSettings, project_settings
from pribble.template import Template, TemplateFolder

if TYPE_CHECKING:
    from pribble.cli.terminal import Terminal
    from pribble.review import Check, Coverage, Strained
    from pribble.review.report import Repair

# Further places of one finding that are listed.
_MOST_OTHERS = 6


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "check",
        description="Render templates with all their samples, in all their languages, and say what readers would "
        "stumble over, each with its place and what to do.  Messages (.eml) are checked as they are.  Exits 1 where "
        "one finding is an error.",
    )
    parser.add_argument(
        "named", metavar="TEMPLATE", nargs="*", help="names in the template folder, paths to files, or MESSAGE.eml"
    )
    parser.add_argument("--all", action="store_true", help="every template of the folder")
    add_templates(parser)
    parser.add_argument("--data", metavar="FILE", help="JSON instead of the samples; - for standard input")
    parser.add_argument("--strict", action="store_true", help="exit 1 on warnings too")
    parser.add_argument("--strain", action="store_true", help="try data that hurt, made from the fields and a sample")
    parser.add_argument(
        "--keep", metavar="DIR", type=Path, help="with --strain: write the data that broke something as samples there"
    )
    parser.add_argument(
        "--fix", action="store_true", help="mend what can be mended by an attribute, after showing what changes"
    )
    parser.add_argument("--yes", action="store_true", help="with --fix: without asking")
    add_recipients(parser)
    parser.add_argument(
        "--for-real-readers",
        action="store_true",
        help="readers beyond your own machines get it: links that they cannot reach are errors",
    )
    add_viewers(parser)
    parser.add_argument("--no-notes", action="store_true", help="show errors and warnings alone")
    parser.add_argument("--rules", action="store_true", help="list the rules, and stop")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    from pribble.review import check, check_message

    if options.rules:
        return _list_rules(as_json=options.json)
    settings = project_settings()
    off, viewers = rules_off(settings), asked_viewers(options, settings)
    given = data_instead(options)
    messages = [name for name in options.named if name.endswith(".eml")]
    names = [name for name in options.named if not name.endswith(".eml")]
    if not (messages or names or options.all):
        raise Usage("say what to check: names of templates, paths of messages, or --all")
    found: list[Check] = []
    if names or options.all:
        templates = _templates(names, options, settings)
        found.append(
            check(
                templates,
                data=given,
                recipients=options.recipients,
                viewers=viewers,
                for_real_readers=options.for_real_readers,
                strain=options.strain,
                off=off,
            )
        )
        if options.keep is not None:
            _keep(found[-1], options.keep)
    for name in messages:
        raw = existing_file(name).read_bytes()
        found.append(check_message(raw, viewers=viewers, for_real_readers=options.for_real_readers, name=name))
    if options.keep is not None and not options.strain:
        raise Usage("--keep writes the data of --strain")
    if options.yes and not options.fix:
        raise Usage("--yes answers what --fix asks")
    strict = options.strict or settings.check.strict
    if options.json:
        print_json([_as_json(one) for one in found])
    else:
        for one in found:
            _show(one, notes=not options.no_notes)
    if options.fix:
        _fix([repair for one in found for repair in one.repairs], asks=not options.yes, quiet=options.json)
    failing = ("error", "warning") if strict else ("error",)
    return 1 if any(one.of(severity) for one in found for severity in failing) else 0


def _templates(
    names: list[str], options: argparse.Namespace, settings: ProjectSettings
) -> TemplateFolder | Iterator[Template]:
    """Returns the folder with all templates, or those that are named."""
    folder = folder_of(options.templates, settings)
    if options.all:
        return looked_at(folder, options, settings)
    found = [located(named, folder) for named in names]
    folders = {around: looked_at(around, options, settings) for around in dict.fromkeys(around for around, _ in found)}
    return (folders[around][name] for around, name in found)


# ---- for programs ---------------------------------------------------------------------------------------------


def _as_json(found: Check) -> dict[str, Any]:
    return {
        "sound": found.is_sound,
        "findings": as_data(found),
        "weights": [
            {"template": one.template, "bytes": dict(one.size), "recipients": one.recipients} for one in found.weights
        ],
        "coverage": {name: _ways(one) for name, one in found.coverage.items()},
        "overall": _ways(found.overall),
        **({"strained": {name: _tried(one) for name, one in found.strained.items()}} if found.strained else {}),
    }


def _tried(one: Strained) -> dict[str, Any]:
    return {"tried": one.tried, "left_out": one.left, "broke": [strain.what for strain in one.broke]}


def _ways(coverage: Coverage) -> dict[str, int]:
    return {"ways": len(coverage.ways), "tried": coverage.tried}


def _list_rules(*, as_json: bool) -> int:
    from pribble.review.rules import RULES

    if as_json:
        print_json(
            [
                {
                    "rule": name,
                    "severity": rule.severity,
                    "reference": rule.reference,
                    "meaning": rule.meaning,
                    "fix": rule.fix,
                }
                for name, rule in RULES.items()
            ]
        )
        return 0
    from rich.text import Text

    from pribble.cli.terminal import Terminal

    console = Terminal()
    wide = max(map(len, RULES))
    for name, rule in RULES.items():
        console.print(
            Text.assemble(
                (f"{name:{wide}}  ", "bold"),
                (f"{rule.severity:7}  ", SEVERITY_STYLES[rule.severity]),
                rule.meaning,
            ),
            soft_wrap=True,
        )
    return 0


# ---- for people -----------------------------------------------------------------------------------------------


def _show(found: Check, *, notes: bool) -> None:
    from rich.text import Text

    from pribble.cli.terminal import Terminal

    console = Terminal()
    file: str | None = None
    for finding in found:
        if finding.severity == "note" and not notes:
            continue
        name = finding.where.source.name if finding.where else ""
        if name != file:
            console.print(Text(name or "the message", "bold"))
            file = name
        _show_finding(console, finding)
    if len(found.coverage) > 1 and any(one.ways for one in found.coverage.values()):
        figures = [f"{name} {one.tried} of {len(one.ways)}" for name, one in found.coverage.items() if one.ways]
        console.print(Text(f"ways that samples try: {', '.join(figures)}", "dim"), soft_wrap=True)
    console.print(Text(_sum(found), "green" if found.is_sound else ""), soft_wrap=True)


def _show_finding(console: Terminal, finding: Finding) -> None:
    from rich.text import Text

    place = finding.where
    line = f"line {place.line}, " if place else ""
    console.print(
        Text.assemble(
            "  ",
            (finding.severity, SEVERITY_STYLES[finding.severity]),
            f" {finding.rule}  ",
            (f"{line}{finding.reference}", "dim"),
        ),
        soft_wrap=True,
    )
    console.print(Text(f"    {finding.message}"), soft_wrap=True)
    if place is not None and place.start > 0:
        console.print(Text(place.excerpt()), soft_wrap=True)
    if finding.others:
        console.print(Text(f"    also {_listed(finding.others)}", "dim"), soft_wrap=True)
    if finding.severity != "note":
        console.print(Text.assemble("    ", ("fix: ", "bold"), finding.fix), soft_wrap=True)
    console.print()


def _listed(places: tuple[Place, ...]) -> str:
    shown = ", ".join(f"{place.line}:{place.column}" for place in places[:_MOST_OTHERS])
    more = len(places) - _MOST_OTHERS
    return f"at {shown}{f' and {more} more' if more > 0 else ''}"


def _fix(repairs: Sequence[Repair], *, asks: bool, quiet: bool) -> None:
    """Show what changes in the files, and write it if that is wanted."""
    if not repairs:
        return
    changed: dict[Path, tuple[str, str]] = {}
    for name, group in groupby(repairs, key=lambda one: one.source.name):
        edits = list(group)
        text = edits[0].source.text
        changed[Path(name)] = text, replaced(text, [Edit(one.offset, one.offset, (one.text,)) for one in edits])
    if not quiet:
        for path, (before, after) in changed.items():
            lines = difflib.unified_diff(before.splitlines(), after.splitlines(), str(path), str(path), lineterm="")
            print("\n".join(map(visible, lines)))
    if asks and not _wants_it():
        print("nothing is written (--fix --yes writes it)", file=sys.stderr)
        return
    for path, (before, after) in changed.items():
        written = path.read_bytes()
        marked = written.startswith(codecs.BOM_UTF8)
        # What changed since it was read is not written over; line ends stay as they are.
        if not is_file(path) or path.read_text(encoding="utf-8-sig") != before:
            raise Usage(f"{path} has changed in the meantime")
        ends = "\r\n" if b"\r\n" in written else "\n"
        write((codecs.BOM_UTF8 if marked else b"") + after.replace("\n", ends).encode(), str(path))


def _wants_it() -> bool:
    """Returns whether who sits at the terminal says yes; nobody does where there is none."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        return False
    return input("write this? (y/n) ").strip().lower() in ("y", "yes")


def _keep(found: Check, folder: Path) -> None:
    """Write the data that broke something as samples: new files only."""
    from pribble.review.json_data import plain_data, written_json

    if not folder.is_dir():
        raise Usage(f"there is no folder {folder}")
    for template, strained in found.strained.items():
        for one in strained.broke:
            label = "-".join(re.findall(r"[a-z0-9]+", f"{one.path} {one.kind}".lower()))[:60]
            path = folder / f"{template}.sample-strain-{label}.json"
            path.parent.mkdir(parents=True, exist_ok=True)
            if not path.exists():
                write(f"{written_json(plain_data(one.data), indent=2)}\n".encode(), str(path))


def _sum(found: Check) -> str:
    """Returns the summary: how many of each severity, and how much the samples try."""
    parts = [counted_findings(found)]
    if found.coverage:
        parts.append(f"{counted(len(found.coverage), 'template')}, whose samples try {found.overall}")
    if found.strained:
        tried = sum(one.tried for one in found.strained.values())
        left = sum(one.left for one in found.strained.values())
        parts.append(f"{tried:,} strained data tried{f', {left:,} left out' if left else ''}")
    return f"{'; '.join(parts)}."
