"""``pribble adopt``: what somebody else designed becomes a template."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import SEVERITY_STYLES, add_json, as_data, counted, folder_of, print_json
from pribble.settings import project_settings

if TYPE_CHECKING:
    from pribble.review import Adopted


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "adopt",
        description="Make a template of a page, a folder or zip of a page and its pictures, or a message that was "
        "received (.eml).  Pictures and style sheets come along; scripts and tracking pixels are left out.  All files "
        "are written, or none.",
    )
    parser.add_argument("source", metavar="SOURCE", type=Path, help="a page, a folder, a zip, or MESSAGE.eml")
    parser.add_argument("--into", metavar="DIR", type=Path, help="the template folder (else that of pribble.toml)")
    parser.add_argument("--name", metavar="NAME", required=True, help="what the template is called")
    parser.add_argument("--page", metavar="PAGE", help="which page, where there are several")
    parser.add_argument(
        "--placeholder", metavar="REGEX", help="what becomes marks; the first group is the field: '\\[(\\w+)\\]'"
    )
    parser.add_argument(
        "--field",
        metavar="TEXT=PATH",
        action="append",
        default=[],
        dest="fields",
        help="a text that becomes the mark of a field: 'Ana Bell=skipper.name' (may be given again)",
    )
    parser.add_argument("--tidy", action="store_true", help="take out what a word processor leaves behind")
    parser.add_argument("--replace", action="store_true", help="write over files that are there")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    from pribble.review import adopt

    settings = project_settings()
    into = folder_of(options.into, settings)
    made = adopt(
        options.source,
        into=into,
        name=options.name,
        page=options.page,
        placeholder=options.placeholder,
        fields=dict(map(_field_option, options.fields)),
        tidy=options.tidy,
        replace=options.replace,
        locale=settings.locale,
    )
    if options.json:
        print_json(
            {
                "files": [str(path) for path in made.files],
                "fields": [asdict(one) for one in made.fields],
                "findings": as_data(made.findings),
            }
        )
    else:
        _show(made)
        print(f"look at it: pribble preview {options.name} --templates {into}")
    return 1 if any(one.severity == "error" for one in made.findings) else 0


def _field_option(written: str) -> tuple[str, str]:
    """Returns the text and the path of ``TEXT=PATH``, which is cut at its last sign of equality."""
    text, equals, path = written.rpartition("=")
    if not equals:
        raise Usage(f'--field takes TEXT=PATH, not "{written}"')
    return text, path.strip()


def _show(made: Adopted) -> None:
    from rich.text import Text

    from pribble.cli.terminal import Terminal

    console = Terminal(soft_wrap=True)
    for path in made.files:
        console.print(Text.assemble("  ", str(path), (f"  {path.stat().st_size:,} bytes", "dim")))
    for one in made.fields:
        console.print(
            Text.assemble(
                ("  {{ " + one.path + " }}", "bold"), f"  {counted(one.places, 'place')}", (f"  “{one.text}”", "dim")
            )
        )
    for finding in made.findings:
        where = f"  line {finding.where.line}" if finding.where else ""
        console.print(
            Text.assemble(
                "  ", (finding.severity, SEVERITY_STYLES[finding.severity]), f" {finding.rule}", (where, "dim")
            )
        )
        console.print(Text(f"    {finding.message}"))
        if finding.severity != "note":
            console.print(Text.assemble("    ", ("fix: ", "bold"), finding.fix))
