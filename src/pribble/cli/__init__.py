"""The command line: one module a command; nothing else in Pribble prints."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence

from pribble.cli import audit, convert, demo, fields, receive, render, send
from pribble.cli.common import Usage, complain
from pribble.errors import DeliveryError, MissingExtra, PribbleError
from pribble.template import UnknownTemplate

COMMANDS = (demo, fields, render, convert, audit, send, receive)

# Exit codes: 0 done; 1 template, data, pictures, addresses or headers, or errors that an audit found; 2 wrong usage, or
# a file that is not there; 3 all that a transport says.
WRONG_INPUT, WRONG_USAGE, NOT_DELIVERED = 1, 2, 3


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit code.  Errors go to standard error, never as a traceback."""
    parser = argparse.ArgumentParser(
        prog="pribble",
        allow_abbrev=False,
        description="Turn templates, data and pictures into e-mail messages that any receiver can read.",
    )
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for command in COMMANDS:
        command.add(commands)
    chosen = parser.parse_args(arguments)
    try:
        return int(chosen.run(chosen) or 0)
    except DeliveryError as error:
        return complain(error, NOT_DELIVERED)
    except MissingExtra as error:
        return complain(error, WRONG_USAGE)
    except PribbleError as error:
        return complain(error, WRONG_INPUT)
    except (Usage, UnknownTemplate, NotADirectoryError, ValueError) as error:
        return complain(error, WRONG_USAGE)
    except BrokenPipeError:  # the reader of our output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return complain(f"{error.filename}: {error.strerror}" if error.filename else error, WRONG_USAGE)
    except KeyboardInterrupt:
        return 130
