"""``pribble fields``: what data a template needs."""

from __future__ import annotations

import argparse
import csv
import sys

from pribble.cli.command_line import add_command
from pribble.cli.common import add_json, add_template, print_json, template
from pribble.language.samples import data_skeleton, table_row
from pribble.settings import project_settings


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "fields",
        description="List the fields a template reads: path, kind, whether it may be missing, and where it is used.",
    )
    add_template(parser, data=False)
    parser.add_argument(
        "--sample",
        choices=("json", "csv"),
        help="write a data skeleton instead: for one message as JSON, or for a table of them as CSV",
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    chosen = template(options, project_settings())
    found = chosen.fields()
    if options.sample == "json":
        print_json(data_skeleton(found))
        return
    if options.sample == "csv":
        columns, values, left = table_row(found)
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerows([columns, values])
        if left:
            print(f"left out, since no row can hold a list: {', '.join(left)}", file=sys.stderr)
        return
    if options.json:
        print_json(
            [{"path": f.path, "kind": f.kind, "optional": f.optional, "uses": list(map(str, f.uses))} for f in found]
        )
        return
    from rich.table import Table

    from pribble.cli.terminal import Terminal

    table = Table(box=None, header_style="bold", pad_edge=False)
    for column in ("field", "kind", "may be missing", "first used at", "uses"):
        table.add_column(
            column, justify="right" if column == "uses" else "left", no_wrap=column != "first used at", overflow="fold"
        )
    for f in found:
        where = str(f.uses[0]).removeprefix(f"{chosen.folder.path}/")
        table.add_row(f.path, f.kind, "yes" if f.optional else "", where, str(len(f.uses)))
    Terminal().print(table)
