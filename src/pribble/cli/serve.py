"""``pribble serve``: events and templates over HTTP, for workflows that can call nothing else."""

from __future__ import annotations

import argparse
import json
import logging
import os
import signal
import sys
import threading
from collections.abc import Mapping
from contextlib import nullcontext
from typing import TYPE_CHECKING, Any

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import count_of, port, settings_with_events
from pribble.hosts import is_loopback
from pribble.settings import SETTINGS_FILE

if TYPE_CHECKING:
    from pribble.delivery.mailroom import Mailroom
    from pribble.queueing import Queue

PORT = 8026


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "serve",
        description=f"Answer over HTTP for the events and templates of {SETTINGS_FILE}, and send what is left and due "
        "every 30 seconds.  Requests say Authorization: Bearer, and the token that the environment variable "
        "PRIBBLE_TOKEN holds.  GET /openapi.json describes them.  SIGTERM or Ctrl-C ends it when all is answered.",
    )
    parser.add_argument("--host", metavar="HOST", default="127.0.0.1", help="where to listen (127.0.0.1)")
    parser.add_argument("--port", metavar="N", type=port, default=PORT, help=f"the port ({PORT}; 0: any free one)")
    parser.add_argument(
        "--name", metavar="NAME", action="append", default=[], help="a name that clients have for it in Host; repeat"
    )
    parser.add_argument(
        "--threads", metavar="N", type=count_of("number of threads"), default=16, help="requests answered at once (16)"
    )
    parser.add_argument(
        "--queue",
        action="store_true",
        help="leave sending to workers: celery -A pribble.queueing worker --beat; PRIBBLE_BROKER names their broker",
    )
    parser.add_argument("--no-token", action="store_true", help="ask for no token; on loopback alone")
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    from pribble.delivery import Mailroom
    from pribble.serving import Server, application
    from pribble.serving.request_log import line
    from pribble.serving.waiting_sender import WaitingSender

    settings = settings_with_events()
    if settings.journal is None:
        raise Usage(f"{SETTINGS_FILE} has no journal =: an event that a client posts again would be sent again")
    token, names = _token(options), _names(options)
    hand_over = _queue().hand_over if options.queue else None
    with Mailroom(settings, secret=os.environ.get, hand_over=hand_over) as mailroom:
        _check(mailroom)
        _tell_of_server()
        sender = WaitingSender(mailroom, _say)
        app = application(mailroom, token=token, names=names, log=_say, waits=sender.wake)
        server = Server(
            app,
            options.host,
            options.port,
            threads=options.threads,
            refused=lambda status, kind: _say(line(route=None, problem=kind, status=status)),
        )
        for one in (signal.SIGTERM, signal.SIGINT):
            signal.signal(one, lambda *_: server.stop())
        _say(line(listening=server.address))
        with nullcontext() if options.queue else sender:
            server.run()
        _say(line(ended=server.address))


def _queue() -> Queue:
    from pribble.queueing import project_queue

    return project_queue()


def _token(options: argparse.Namespace) -> str | None:
    from pribble.serving.gate import TOKEN_VARIABLE, checked_token

    if options.no_token:
        if not _is_local(options.host):
            raise Usage(f"--no-token goes with loopback alone, and others reach {options.host}")
        return None
    token = os.environ.get(TOKEN_VARIABLE)
    if not token:
        raise Usage(f"set the environment variable {TOKEN_VARIABLE} to a token, or say --no-token")
    return checked_token(token)


def _names(options: argparse.Namespace) -> tuple[str, ...]:
    from pribble.serving.gate import LOOPBACK_NAMES

    if not options.name and not _is_local(options.host):
        raise Usage("--host: say by which names clients call it: --name mail.example.org")
    return (*LOOPBACK_NAMES, *options.name)


def _is_local(host: str) -> bool:
    """Returns whether nobody but this machine reaches a host."""
    return host == "localhost" or is_loopback(host)


def _check(mailroom: Mailroom) -> None:
    """Raise what is wrong with an event before anybody asks for it, and with the journal."""
    for name in mailroom.settings.events:
        mailroom.event(name)
    mailroom.journal.count_waiting()


class _ServerLog(logging.Handler):
    """What the server itself has to say, as a line like others."""

    def emit(self, record: logging.LogRecord) -> None:
        from pribble.serving.request_log import line

        _say(line(server=record.getMessage()))


def _tell_of_server() -> None:
    logger = logging.getLogger("waitress")
    logger.addHandler(_ServerLog())
    logger.propagate = False
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)  # that requests wait is no news


_writing = threading.Lock()


def _say(facts: Mapping[str, Any]) -> None:
    """Write one line of JSON."""
    with _writing:
        sys.stdout.write(json.dumps(facts, ensure_ascii=False) + "\n")
        sys.stdout.flush()
