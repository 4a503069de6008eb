"""``pribble receive``: the small stand-in receiver, and its faults."""

from __future__ import annotations

import argparse
import json
import os
import re
import threading
from pathlib import Path
from typing import get_args

from pribble.cli.command_line import Usage, add_command
from pribble.cli.common import port
from pribble.delivery.faults import DEFERRED, REFUSED, Faults, Refusal, Where
from pribble.delivery.passwords import VARIABLE
from pribble.delivery.receiver import Fault, Manner, Received, Receiver
from pribble.errors import visible

_WHERE: tuple[str, ...] = get_args(Where)


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "receive",
        description="Listen on loopback, keep each message that comes as an .eml file, deliver none.  Stop it with "
        "Ctrl-C.  A PATTERN is an address in which * stands for anything.",
    )
    parser.add_argument("--port", metavar="N", type=port, default=8025, help="the port (default 8025; 0: any free one)")
    parser.add_argument(
        "--folder", metavar="DIR", type=Path, default=Path("received"), help="where to keep them (received)"
    )
    parser.add_argument("--count", metavar="N", type=int, help="stop after so many messages")
    parser.add_argument("--json", action="store_true", help="a line of JSON for each message, for programs")
    faults = parser.add_argument_group("faults", "to see what a sender makes of them")
    faults.add_argument(
        "--refuse", metavar="PATTERN", action="append", default=[], help="refuse recipients like this (550)"
    )
    faults.add_argument(
        "--defer",
        metavar="PATTERN[:TIMES]",
        action="append",
        default=[],
        type=_deferral,
        help="defer recipients like this (451), each so many times, or always",
    )
    faults.add_argument(
        "--drop-after",
        metavar="N[:WHERE]",
        action="append",
        default=[],
        type=_drop,
        help="after N messages, lose the connection of the next one: before-dot, when it is not taken, or after-dot, "
        "when it is taken and not answered (default)",
    )
    faults.add_argument(
        "--delay", metavar="SECONDS", type=_seconds, default=0.0, help="wait before each answer to a message"
    )
    parser.add_argument(
        "--tls",
        nargs="?",
        const="starttls",
        choices=["starttls", "smtps"],
        help="speak TLS, by STARTTLS (the default) or from the first octet, with a certificate of its own in DIR",
    )
    parser.add_argument("--auth", metavar="USER", help=f"want a login first, with the password in {VARIABLE}")
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    enough = threading.Event()

    def arrived(received: Received) -> None:
        if options.json:
            known = {
                "file": str(received.path),
                "sender": received.sender,
                "recipients": received.recipients,
                "bytes": received.size,
            }
            print(json.dumps(known), flush=True)
        else:
            people = f"from {received.sender or '<>'} to {', '.join(received.recipients)}"
            print(visible(f"{received.path}  {received.size:,} bytes  {people}"), flush=True)
        if options.count is not None and len(receiver.received) >= options.count:
            enough.set()

    def faulted(fault: Fault) -> None:
        if options.json:
            print(json.dumps({"fault": fault.words, "recipient": fault.recipient}), flush=True)
        else:
            print(visible(f"fault: {f'{fault.recipient}: ' if fault.recipient else ''}{fault.words}"), flush=True)

    receiver = Receiver(options.folder, options.port, arrived, _manner(options), faulted)
    with receiver:
        if options.json:
            print(json.dumps({"listening": receiver.address}), flush=True)
        else:
            print(f"listening on {receiver.address}, keeping messages in {options.folder}", flush=True)
        enough.wait()


def _manner(options: argparse.Namespace) -> Manner:
    refusals = [Refusal(pattern, *REFUSED) for pattern in options.refuse]
    return Manner(
        Faults([*refusals, *options.defer], dict(options.drop_after)), options.delay, options.tls, _login(options)
    )


def _login(options: argparse.Namespace) -> tuple[str, str] | None:
    if options.auth is None:
        return None
    password = os.environ.get(VARIABLE)
    if password is None:
        raise Usage(f"--auth: set the environment variable {VARIABLE} to the password of {options.auth}")
    return options.auth, password


def _deferral(written: str) -> Refusal:
    pattern, colon, times = written.rpartition(":")
    if not colon or not re.fullmatch("[0-9]{1,6}", times):
        pattern, times = written, ""
    return Refusal(pattern, *DEFERRED, int(times) if times else None)


def _drop(written: str) -> tuple[int, str]:
    count, colon, where = written.partition(":")
    if not re.fullmatch("[0-9]{1,9}", count) or (colon and where not in _WHERE):
        raise argparse.ArgumentTypeError(
            f'"{written[:40]}" is no number of messages, or goes on with no {" or ".join(_WHERE)}'
        )
    return int(count), where or "after-dot"


def _seconds(written: str) -> float:
    if not re.fullmatch(r"[0-9]{1,5}(\.[0-9]{1,3})?", written):
        raise argparse.ArgumentTypeError(f'"{written[:20]}" is no number of seconds')
    return float(written)
