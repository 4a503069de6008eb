"""The command line: one module a command; nothing else in Pribble prints."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from importlib import import_module

from pribble.cli.command_line import COMMANDS, Parser, Version, add_command


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit code.  Errors go to standard error, never as a traceback; with ``--json`` they
    are the answer, on standard output."""
    given = sys.argv[1:] if arguments is None else arguments
    try:
        chosen = _parser(given).parse_args(given)
        return int(chosen.run(chosen) or 0)
    except BrokenPipeError:  # the reader of our output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except KeyboardInterrupt:
        return 130
    except Exception as error:
        from pribble.cli.failures import complain, exit_code

        code = exit_code(error)
        if code is None:
            raise
        return complain(error, code, as_json="--json" in given)


def _parser(given: Sequence[str]) -> Parser:
    parser = Parser(
        prog="pribble", description="Turn templates, data and pictures into e-mail messages that any receiver can read."
    )
    parser.add_argument("--version", action=Version, nargs=0, help="say which version this is")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    chosen = next((word for word in given if word in COMMANDS), None)
    for command in COMMANDS:
        if command == chosen:
            import_module(f"pribble.cli.{command}").add(commands)
        else:
            add_command(commands, command)
    return parser
