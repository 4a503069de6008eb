"""The command line: one module a command; nothing else in Pribble prints."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from importlib import import_module

from pribble.cli.common import NOT_DELIVERED, Parser, Usage, Version, complain
from pribble.errors import DeliveryError, MissingExtra, PribbleError
from pribble.template import UnknownTemplate

# The commands, each a module of its own that is loaded when it is asked for.
COMMANDS = (
    "demo",
    "adopt",
    "fields",
    "render",
    "check",
    "preview",
    "differences",
    "convert",
    "audit",
    "send",
    "post",
    "batch",
    "journal",
    "serve",
    "receive",
)

# Exit codes: 0 done; 1 template, data, pictures, addresses or headers, or errors that a check or an audit found;
# 2 wrong usage, or a file that is not there; 3 all that a transport says.
WRONG_INPUT, WRONG_USAGE = 1, 2


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command; returns the exit code.  Errors go to standard error, never as a traceback; with ``--json`` they
    are the answer, on standard output."""
    given = sys.argv[1:] if arguments is None else arguments
    as_json = "--json" in given
    try:
        chosen = _parser(given).parse_args(given)
        return int(chosen.run(chosen) or 0)
    except DeliveryError as error:
        return complain(error, NOT_DELIVERED, as_json=as_json)
    except MissingExtra as error:
        return complain(error, WRONG_USAGE, as_json=as_json)
    except PribbleError as error:
        return complain(error, WRONG_INPUT, as_json=as_json)
    except (Usage, UnknownTemplate, NotADirectoryError, ValueError) as error:
        return complain(error, WRONG_USAGE, as_json=as_json)
    except BrokenPipeError:  # the reader of our output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        problem = Usage(f"{error.filename}: {error.strerror}") if error.filename else error
        return complain(problem, WRONG_USAGE, as_json=as_json)
    except KeyboardInterrupt:
        return 130


def _parser(given: Sequence[str]) -> Parser:
    parser = Parser(
        prog="pribble", description="Turn templates, data and pictures into e-mail messages that any receiver can read."
    )
    parser.add_argument("--version", action=Version, nargs=0, help="say which version this is")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for command in given[:1] if given and given[0] in COMMANDS else COMMANDS:
        import_module(f"pribble.cli.{command}").add(commands)
    return parser
