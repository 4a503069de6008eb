"""The transport that a command uses: one that is written out, or one of ``pribble.toml``; passwords are the
environment's."""

from __future__ import annotations

import argparse
import os

from pribble.cli.command_line import Usage
from pribble.delivery.passwords import DEFAULT, check_password_variables, password_of
from pribble.delivery.transports import Transport, transport
from pribble.errors import did_you_mean
from pribble.files import as_shown
from pribble.settings import SETTINGS_FILE, ProjectSettings


def add_through(parser: argparse._ActionsContainer) -> None:
    parser.add_argument(
        "--through",
        metavar="TRANSPORT",
        help="smtp://[user@]host[:587], smtps://[user@]host[:465], folder:DIR, maildir:DIR, command:PROGRAM, "
        "drafts+folder:DIR, drafts+imaps://user@host, or a name of [transports] in pribble.toml (its default)",
    )


def transport_if_any(through: str | None, settings: ProjectSettings, *, connections: int = 1) -> Transport | None:
    """Returns the transport that is written out or named, or the default one; None where there is none."""
    if through is not None and ":" in through:
        return transport(through, password_of(None, os.environ.get), connections=connections)
    name = through or DEFAULT
    address = settings.transport(name)
    if address is None and through is None:
        return None
    known = [known for known, _ in settings.transports]
    if address is None:
        hint = did_you_mean(name, known) if known else "an address has a colon: folder:DIR"
        raise Usage(f'--through: "{name}" is no name in [transports] of {SETTINGS_FILE} ({hint})')
    check_password_variables(known)
    password, folder = password_of(name, os.environ.get), as_shown(settings.file_folder)
    return transport(address, password, connections=connections, folder=folder)
