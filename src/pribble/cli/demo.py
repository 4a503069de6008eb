"""``pribble demo``: the full example, from template to a message that was received and read."""

from __future__ import annotations

import argparse
import shlex
from pathlib import Path
from typing import TYPE_CHECKING

from pribble.cli.command_line import add_command
from pribble.cli.common import print_json
from pribble.cli.terminal import Terminal
from pribble.demo import Demo, run_demo
from pribble.demo.season import SKIPPERS, SeasonNotice

if TYPE_CHECKING:
    from pribble.demo.booked import BookedBerth


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "demo",
        description="Render the demo's templates for one event, send the messages through the stand-in receiver on a "
        "free port of this machine, read back what came with the standard library's parser, and audit it.",
    )
    parser.add_argument(
        "--out",
        metavar="DIR",
        type=Path,
        default=Path("pribble-demo"),
        help="where to leave messages, pages and texts (pribble-demo)",
    )
    parser.add_argument("--json", action="store_true", help="answer in JSON, for programs")
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    done = run_demo(options.out)
    outcomes = done.messages
    sound = not any(outcome.unresolved or outcome.defects or outcome.departures for outcome in outcomes)
    sound = sound and (done.notice is None or not done.notice.more) and not (done.booked and done.booked.again)
    if options.json:
        print_json(
            {
                "preview": str(done.preview),
                "booked": done.booked and {"lines": list(done.booked.lines), "again": done.booked.again},
                "notice": done.notice
                and {
                    "journal": str(done.notice.journal),
                    "received_before_kill": done.notice.killed,
                    "received_once": done.notice.once,
                    "received_more": done.notice.more,
                },
                "messages": [
                    {
                        "template": o.template,
                        "subject": o.subject,
                        "to": o.to,
                        "parts": [p.strip() for p in o.parts],
                        "bytes": o.size,
                        "pictures_resolved": o.pictures,
                        "pictures_unresolved": o.unresolved,
                        "defects": list(o.defects),
                        "departures": list(o.departures),
                        "message": str(o.eml),
                        "html": o.html and str(o.html),
                        "text": str(o.text),
                    }
                    for o in outcomes
                ],
            }
        )
    else:
        show(done)
    return 0 if sound else 1


def show(done: Demo) -> None:
    from rich import box
    from rich.table import Table

    console = Terminal()
    console.print("Messages of the berth office at Skerrow Haven, sent and read back:\n")
    table = Table(box=box.SIMPLE_HEAD, header_style="bold", show_lines=False, padding=(0, 1), pad_edge=False)
    for column in ("message", "parts", "bytes", "pictures", "audit"):
        table.add_column(
            column,
            justify="right" if column in ("bytes", "pictures", "audit") else "left",
            overflow="fold",
            no_wrap=column in ("parts", "bytes"),
        )
    for number, o in enumerate(done.messages):
        if number:
            table.add_row()
        pictures = f"{o.pictures} of {o.pictures + o.unresolved}" if o.html else ""
        about = f"[bold]{o.template}[/bold]\n{_plain(o.subject)}\nto {_plain(o.to)}"
        found = "\n".join((*o.defects, *o.departures)) or "sound"
        table.add_row(about, "\n".join(o.parts), f"{o.size:,}", pictures, found)
    console.print(table)
    console.print("The files:")
    for o in done.messages:
        console.print(f"  {o.eml}  [dim]{o.template} as it was received[/dim]", soft_wrap=True)
    folder = done.preview.parent
    for pattern, what in (("*.html", "their HTML, for a browser"), ("*.txt", "their plain text")):
        console.print(f"  {folder}/{pattern}  [dim]{what}[/dim]", soft_wrap=True)
    if done.booked:
        show_booking(console, done.booked)
    if done.notice:
        show_notice(console, done.notice)
    console.print("\nLook at all templates with their samples, as their readers see them, in a browser:")
    console.print(f"  {done.preview}", soft_wrap=True)


def show_booking(console: Terminal, booked: BookedBerth) -> None:
    console.print(f"\nThe event {booked.event} {booked.key} of pribble.toml, posted twice:")
    for line in booked.lines:
        console.print(f"  {_plain(line)}", soft_wrap=True)
    console.print("  the second time: " + ("sent again" if booked.again else "known, and not sent again"))
    console.print(f"A draft waits for somebody to look at it: {booked.drafts}", soft_wrap=True)


def show_notice(console: Terminal, notice: SeasonNotice) -> None:
    console.print("\nA notice to 120 skippers, through a receiver that refuses two and defers three:")
    shown = ["pribble", *(SKIPPERS.name if word == str(SKIPPERS) else word for word in notice.command)]
    console.print(f"  [dim]{_plain(shlex.join(shown))}[/dim]", soft_wrap=True)
    console.print(f"Killed when {notice.killed} had come; then the same command once more:")
    for line in notice.said.splitlines():
        console.print(f"  {_plain(line)}", soft_wrap=True)
    more = "nobody twice" if not notice.more else f"{notice.more} of them more than once"
    console.print(f"By the receiver's record {notice.once + notice.more} have it, {more}.  What became of each:")
    console.print(f"  pribble journal {notice.journal}", soft_wrap=True)


def _plain(text: str) -> str:
    from rich.markup import escape

    return escape(text)
