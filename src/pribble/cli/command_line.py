"""The command line itself: which commands there are, and how one is called wrongly.

It loads nothing that a command needs, so that ``pribble --help`` answers at once.
"""

from __future__ import annotations

import argparse

from pribble import __version__

TYPE_CHECKING = False  # as in typing, which takes as long to load as all of this
if TYPE_CHECKING:
    from typing import Any, NoReturn

# The commands, each a module of its own that is loaded when it is asked for, and what they say of themselves.
COMMANDS = {
    "demo": "the full example, sent to a receiver of its own",
    "adopt": "what somebody else designed becomes a template",
    "fields": "what data a template needs",
    "render": "one message, or one of its forms",
    "check": "what will go wrong with a message, before it is sent",
    "preview": "messages as their readers see them, in one page",
    "differences": "what differs between two messages, templates or commits",
    "convert": "styles and pictures of any page written into it, or its plain text",
    "audit": "the parts of a message, and every departure from the standards",
    "send": "send one message",
    "post": "an event, with all its messages",
    "batch": "one message for each row of a table, resumable",
    "journal": "what became of each message of a batch",
    "serve": "events and templates over HTTP",
    "receive": "a small stand-in receiver on this machine",
}

# The exit code where a transport did not take a message for somebody.
NOT_DELIVERED = 3


class Usage(Exception):
    """The command was called wrongly, of which `usage` says how it is called, or names a file that is not there."""

    def __init__(self, message: str, usage: str = "") -> None:
        super().__init__(f"{usage}{message}")
        self.message = message


class Parser(argparse.ArgumentParser):
    """Reads a command line: options in full, and what is wrong with them as an error like others."""

    def __init__(self, *arguments: Any, **given: Any) -> None:
        super().__init__(*arguments, **{**given, "allow_abbrev": False})

    def error(self, message: str) -> NoReturn:
        raise Usage(f"{self.prog}: {message}", self.format_usage())


class Version(argparse.Action):
    """Says which version this is."""

    def __call__(self, parser: argparse.ArgumentParser, *_: Any) -> None:
        print(f"{parser.prog} {__version__}")
        parser.exit()


def add_command(commands: Any, name: str, *, description: str | None = None) -> Parser:
    """Adds a command, and returns what reads its arguments."""
    parser: Parser = commands.add_parser(name, help=COMMANDS[name], description=description)
    return parser
