"""``pribble post``: an event of ``pribble.toml``, with all its messages; and what is wrong with any of them."""

from __future__ import annotations

import argparse
import os
import sys
from typing import TYPE_CHECKING, Any

from pribble.cli.command_line import NOT_DELIVERED, Usage, add_command
from pribble.cli.common import add_json, counted, print_json, read_given_data, settings_with_events
from pribble.cli.failures import complain
from pribble.cli.terminal import Terminal
from pribble.errors import PribbleError
from pribble.settings import SETTINGS_FILE

if TYPE_CHECKING:
    from pribble.delivery.mailroom import Mailroom, Posted


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "post",
        description=f"Post an event of {SETTINGS_FILE}: its messages are rendered, kept in the journal, and sent.  "
        "Posted again, by the key that its data give it, nothing is sent twice.",
    )
    parser.add_argument("event", metavar="EVENT", nargs="?", help="its name in [events]; with --check all by default")
    parser.add_argument("--data", metavar="FILE", help="JSON; - for standard input")
    parser.add_argument(
        "--check",
        action="store_true",
        help="send nothing: say what is wrong with events, their templates and patterns, and try their samples",
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    from pribble.delivery import Mailroom

    settings = settings_with_events()
    with Mailroom(settings, secret=os.environ.get) as mailroom:
        if options.check:
            return _check_events(options, mailroom)
        if options.event is None:
            raise Usage("say which event: " + (", ".join(settings.events) or f"{SETTINGS_FILE} has none"))
        if options.data is None:
            raise Usage("say what happened: --data FILE, or - for standard input")
        posted = mailroom.post(options.event, read_given_data(options.data))
        if options.json:
            print_json(posted.as_data())
        else:
            _tell(posted, mailroom)
    return 0 if posted.is_accepted else NOT_DELIVERED


def _tell(posted: Posted, mailroom: Mailroom) -> None:
    terminal = Terminal(soft_wrap=True)
    if not posted.is_new:
        terminal.print(f"posted before, and not again: {posted.event} {posted.key}")
    if not posted.messages:
        terminal.print(f"{posted.event} {posted.key}: no message of it is wanted")
    for message in posted.messages:
        for one in message.entries:
            terminal.print(f"{message.name}  {one}")
    for name, words in posted.problems:
        terminal.print(f"{name}  not made: {words}")
    for words in posted.stopped:
        terminal.print(f"stopped: {words}")
    waits = posted.states["planned"] + posted.states["deferred"]
    if waits and mailroom.is_idempotent:
        terminal.print(f"{waits} left: pribble journal {mailroom.journal.where} --go-on")
    if not mailroom.is_idempotent:
        print(
            f"{SETTINGS_FILE} has no journal =: nobody remembers this event, and posted again it is sent again",
            file=sys.stderr,
        )


def _check_events(options: argparse.Namespace, mailroom: Mailroom) -> int:
    names = [options.event] if options.event else []
    problems = mailroom.problems(names)
    checked = names or list(mailroom.settings.events)
    if options.json:
        print_json({"events": checked, "problems": [_problem(one) for one in problems]})
        return 1 if problems else 0
    for one in problems:
        complain(one, 1, as_json=False)
        print(file=sys.stderr)
    terminal = Terminal()
    terminal.print(f"{counted(len(checked), 'event')} checked; {counted(len(problems), 'problem')}")
    return 1 if problems else 0


def _problem(error: PribbleError) -> dict[str, Any]:
    return {**error.as_data(), "text": str(error)}
