"""What went wrong, as a command says it: in words or as JSON, and its exit code."""

from __future__ import annotations

import sys

from pribble.cli.command_line import NOT_DELIVERED, Usage
from pribble.cli.common import print_json
from pribble.errors import DeliveryError, MissingExtra, PribbleError
from pribble.template import UnknownTemplate

# Exit codes: 0 done; 1 template, data, pictures, addresses or headers, or errors that a check or an audit found;
# 2 wrong usage, or a file that is not there; 3 all that a transport says.
WRONG_INPUT, WRONG_USAGE = 1, 2


def exit_code(error: Exception) -> int | None:
    """Returns the exit code of an error that a command may end with; None for a fault of our own."""
    if isinstance(error, DeliveryError):
        return NOT_DELIVERED
    if isinstance(error, PribbleError):
        return WRONG_USAGE if isinstance(error, MissingExtra) else WRONG_INPUT
    return WRONG_USAGE if isinstance(error, (Usage, UnknownTemplate, ValueError, OSError)) else None


def complain(error: Exception, code: int, *, as_json: bool) -> int:
    """Put an error on standard error, or, `as_json`, on standard output; returns `code`."""
    if isinstance(error, OSError) and not isinstance(error, NotADirectoryError) and error.filename:
        error = Usage(f"{error.filename}: {error.strerror}")
    if not as_json:
        print(error, file=sys.stderr)
        return code
    said = {"message": getattr(error, "message", str(error)), "hint": None, "where": None}
    if isinstance(error, PribbleError):
        said = error.as_data()
    print_json({"error": {"kind": type(error).__name__, **said, "exit_code": code}})
    return code
