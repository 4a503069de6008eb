"""``pribble receive``: the small stand-in receiver."""

from __future__ import annotations

import argparse
import json
import threading
from pathlib import Path

from pribble.cli.common import port
from pribble.delivery.receiver import Received, Receiver
from pribble.errors import visible


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = commands.add_parser(
        "receive",
        help="a small stand-in receiver on this machine",
        description="Listen on loopback, keep each message that comes as an .eml file, deliver none.  Stop it with "
        "Ctrl-C.",
    )
    parser.add_argument("--port", metavar="N", type=port, default=8025, help="the port (default 8025; 0: any free one)")
    parser.add_argument(
        "--folder", metavar="DIR", type=Path, default=Path("received"), help="where to keep them (received)"
    )
    parser.add_argument("--count", metavar="N", type=int, help="stop after so many messages")
    parser.add_argument("--json", action="store_true", help="a line of JSON for each message, for programs")
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> None:
    enough = threading.Event()

    def arrived(received: Received) -> None:
        if options.json:
            print(
                json.dumps(
                    {
                        "file": str(received.path),
                        "sender": received.sender,
                        "recipients": received.recipients,
                        "bytes": received.size,
                    }
                ),
                flush=True,
            )
        else:
            print(
                visible(
                    f"{received.path}  {received.size:,} bytes  from {received.sender or '<>'} "
                    f"to {', '.join(received.recipients)}"
                ),
                flush=True,
            )
        if options.count is not None and len(receiver.received) >= options.count:
            enough.set()

    receiver = Receiver(options.folder, options.port, arrived)
    with receiver:
        if options.json:
            print(json.dumps({"listening": receiver.address}), flush=True)
        else:
            print(f"listening on {receiver.address}, keeping messages in {options.folder}", flush=True)
        enough.wait()
