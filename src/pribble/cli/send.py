"""``pribble send``: one message, a test or a real one."""

from __future__ import annotations

import argparse

from pribble.cli.command_line import NOT_DELIVERED, Usage, add_command
from pribble.cli.common import add_json, add_quiet, add_template, as_data, print_json, rendering, tell, template
from pribble.cli.render import add_envelope, findings, message
from pribble.cli.transports import add_through, transport_if_any
from pribble.delivery.files import DraftFolder
from pribble.delivery.transports import Transport
from pribble.settings import ProjectSettings, project_settings

DRAFTS = "drafts"


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "send",
        description="Fill a template with data and send it, or leave it as a draft.  A password comes from the "
        "environment: PRIBBLE_PASSWORD, or PRIBBLE_PASSWORD_NAME for the transport NAME of pribble.toml.",
    )
    add_template(parser)
    add_envelope(parser, to_required=True)
    add_through(parser)
    parser.add_argument(
        "--draft",
        action="store_true",
        help=f"leave it for a person to send: in the folder {DRAFTS}, or where --through drafts+folder:DIR says",
    )
    add_json(parser)
    add_quiet(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    from pribble.delivery.signing import project_signer

    settings = project_settings()
    way = _drafts(options, settings) if options.draft else _transport(options, settings)
    chosen = template(options, settings)
    filled = rendering(options, chosen)
    made = message(options, settings, filled, sign=project_signer(settings))
    found = findings(chosen, filled, made)
    tell(options, found)
    receipt = way.deliver(made)
    if options.json:
        print_json({**receipt.as_data(), "findings": as_data(found)})
    else:
        for one in receipt.outcomes:
            print(one)
    return 0 if receipt.is_accepted else NOT_DELIVERED


def _transport(options: argparse.Namespace, settings: ProjectSettings) -> Transport:
    way = transport_if_any(options.through, settings)
    if way is None:
        raise Usage("say how to send it: --through smtps://you@mail.example.org, or folder:DIR to look at it first")
    return way


def _drafts(options: argparse.Namespace, settings: ProjectSettings) -> Transport:
    """Returns where a draft goes; nothing that would send it."""
    from pribble.delivery.imap import MailboxDrafts

    through = options.through or f"drafts+folder:{DRAFTS}"
    way = transport_if_any(f"drafts+{through}" if through.startswith("folder:") else through, settings)
    if not isinstance(way, DraftFolder | MailboxDrafts):
        raise Usage("--draft sends nothing: --through says where drafts are, drafts+folder:DIR or drafts+imaps:")
    return way
