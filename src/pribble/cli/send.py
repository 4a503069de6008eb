"""``pribble send``: one message, a test or a real one."""

from __future__ import annotations

import argparse
import os

from pribble.cli.common import (
    NOT_DELIVERED,
    Usage,
    add_json,
    add_quiet,
    add_template,
    as_data,
    print_json,
    rendering,
    tell,
    template,
)
from pribble.cli.render import add_envelope, findings, message
from pribble.delivery.transports import transport
from pribble.settings import project_settings


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = commands.add_parser(
        "send",
        help="send one message",
        description="Fill a template with data and send it.  A password comes from the environment variable "
        "PRIBBLE_PASSWORD and from nowhere else.",
    )
    add_template(parser)
    add_envelope(parser, to_required=True)
    parser.add_argument(
        "--through",
        metavar="TRANSPORT",
        help="smtp://[user@]host[:587], smtps://[user@]host[:465] or folder:DIR (else that of pribble.toml)",
    )
    add_json(parser)
    add_quiet(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    settings = project_settings()
    through = options.through or settings.through
    if through is None:
        raise Usage("say how to send it: --through smtps://you@mail.example.org, or folder:DIR to look at it first")
    way = transport(through, os.environ.get("PRIBBLE_PASSWORD"))
    chosen = template(options, settings)
    filled = rendering(options, chosen)
    made = message(options, settings, filled)
    found = findings(chosen, filled, made)
    tell(options, found)
    receipt = way.deliver(made)
    if options.json:
        print_json({**receipt.as_data(), "findings": as_data(found)})
    else:
        for one in receipt.outcomes:
            print(one)
    return 0 if receipt.is_accepted else NOT_DELIVERED
