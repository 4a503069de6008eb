"""``pribble journal``: what became of each message; what is in doubt is settled here."""

from __future__ import annotations

import argparse
import csv
import os
import sys
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

from pribble.cli.command_line import NOT_DELIVERED, Usage, add_command
from pribble.cli.common import add_json, counted, existing_file, in_words, print_json
from pribble.cli.terminal import Terminal
from pribble.delivery.states import State
from pribble.errors import DataError
from pribble.settings import project_settings

if TYPE_CHECKING:
    from pribble.delivery.journal import Entry, Journal

_COLUMNS = ("key", "address", "state", "tries", "code", "enhanced", "words", "message_id", "changed")


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "journal",
        description="Show what became of the messages that a journal knows, and settle what is in doubt.",
    )
    parser.add_argument("journal", metavar="FILE", help="the journal: a file, or postgresql://host/name")
    parser.add_argument("--job", metavar="NAME", help="of one job only")
    parser.add_argument("--state", choices=get_args(State), help="list the recipients in this state")
    parser.add_argument("--csv", action="store_true", help="list them as CSV")
    parser.add_argument(
        "--resolve",
        metavar=("KEY", "HOW"),
        nargs=2,
        help="settle a message that is in doubt: accepted (somebody looked, and it is there), or resend",
    )
    parser.add_argument(
        "--again",
        metavar="refused[:TEXT]",
        help="plan refused recipients again: all, or those whose address or answer has this text",
    )
    parser.add_argument(
        "--go-on",
        action="store_true",
        help="send what is left of events, and due: from a crontab, say; batches go on by their own command",
    )
    parser.add_argument(
        "--read-bounces",
        metavar="MAILBOX",
        help="read reports of servers that could not deliver (RFC 3464): maildir:DIR, or folder:DIR with .eml files; "
        "whom a message came back from is returned, and gets nothing any more",
    )
    parser.add_argument("--verify", action="store_true", help="say what in the journal contradicts itself")
    parser.add_argument("--proof", metavar="KEY", help="a record in JSON of what became of the message with this key")
    parser.add_argument("--message", metavar="FILE", help="with --proof: a kept message that must be the one sent")
    parser.add_argument(
        "--forget", metavar="DAYS", type=float, help="forget addresses and words of what ended so many days ago"
    )
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    from pribble.delivery import Journal

    if "://" not in options.journal and not Path(options.journal).is_file():
        raise Usage(f"there is no journal {options.journal}")
    journal = Journal(options.journal)
    try:
        if options.job is not None and options.job not in journal.jobs():
            raise Usage(f'the journal has no job "{options.job}" ({", ".join(journal.jobs()) or "it has none"})')
        if options.resolve:
            return _resolve(options, journal)
        if options.again:
            return _again(options, journal)
        if options.go_on:
            return _go_on(options, journal)
        if options.read_bounces is not None:
            return _read_bounces(options, journal)
        if options.verify:
            return _verify(options, journal)
        if options.proof is not None:
            return _proof(options, journal)
        if options.forget is not None:
            return _forget(options, journal)
        if options.csv or options.state:
            return _list(options, journal)
        return _summary(options, journal)
    finally:
        journal.close()


def _resolve(options: argparse.Namespace, journal: Journal) -> int:
    key, how = options.resolve
    states: dict[str, State] = {"accepted": "accepted", "resend": "planned"}
    if how not in states:
        raise Usage(f'--resolve KEY accepted, or --resolve KEY resend, not "{how}"')
    count = journal.resolve(key, states[how], options.job)
    if not count:
        raise Usage(f'nothing is in doubt under the key "{key}"')
    _told(options, count, f"{counted(count, 'recipient')} {'accepted' if how == 'accepted' else 'planned again'}")
    return 0


def _again(options: argparse.Namespace, journal: Journal) -> int:
    state, _, text = options.again.partition(":")
    if state != "refused":
        raise Usage("--again refused, or --again refused:TEXT")
    count = journal.again(text or None, options.job)
    _told(options, count, f"{counted(count, 'recipient')} planned again")
    return 0


def _go_on(options: argparse.Namespace, journal: Journal) -> int:
    from pribble.delivery import Mailroom

    with Mailroom(project_settings(), secret=os.environ.get, journal=journal) as mailroom:
        left = mailroom.send_waiting()
    if options.json:
        print_json({"ended": dict(left.ended), "stopped": left.stopped})
    else:
        terminal = Terminal(soft_wrap=True)
        terminal.print(in_words(left.ended) or "nothing was left")
        for words in left.stopped:
            terminal.print(f"stopped: {words}")
    return NOT_DELIVERED if left.stopped or set(left.ended) - {"accepted"} else 0


def _read_bounces(options: argparse.Namespace, journal: Journal) -> int:
    from pribble.delivery.journal_returns import note_returns
    from pribble.delivery.report_folders import ReportFolder

    folder = ReportFolder.of(options.read_bounces)
    returned: list[str] = []
    reports, unknown, others = 0, list[str](), 0
    for one in folder.arrived():
        if one.report is None:
            others += 1
            continue
        reports += 1
        found = note_returns(journal, one.report)
        returned += found.returned
        if found.is_known:
            folder.done(one)
        else:
            unknown.append(str(one.path))
    if options.json:
        print_json({"reports": reports, "returned": returned, "unknown": unknown, "others": others})
        return 0
    terminal = Terminal(soft_wrap=True)
    terminal.print(f"{counted(reports, 'report')}; {counted(len(returned), 'recipient')} returned")
    for address in returned:
        terminal.print(f"  {address}")
    for path in unknown:
        terminal.print(f"of no message of this journal: {path}")
    if others:
        terminal.print(f"{counted(others, 'other message')} left as they are")
    return 0


def _verify(options: argparse.Namespace, journal: Journal) -> int:
    from pribble.delivery.journal_records import verify

    found = verify(journal)
    if options.json:
        print_json({"problems": found})
    else:
        terminal = Terminal(soft_wrap=True)
        for one in found or ["it holds together"]:
            terminal.print(one)
    return 1 if found else 0


def _proof(options: argparse.Namespace, journal: Journal) -> int:
    from pribble.delivery.journal_records import matches, records

    found = list(records(journal, options.proof, options.job))
    if not found:
        raise Usage(f'the journal has no message with the key "{options.proof}"')
    print_json(found[0] if len(found) == 1 else found)
    if options.message is not None:
        raw = existing_file(options.message).read_bytes()
        if not any(matches(one, raw) for one in found):
            raise DataError(f"{options.message} is not the message that was sent")
    return 0


def _forget(options: argparse.Namespace, journal: Journal) -> int:
    from pribble.delivery.journal_records import forget

    if not 0 <= options.forget < 100_000:
        raise Usage("--forget takes a number of days")
    count = forget(journal, options.forget, options.job)
    _told(options, count, f"{counted(count, 'message')} forgotten")
    return 0


def _told(options: argparse.Namespace, count: int, words: str) -> None:
    if options.json:
        print_json({"count": count})
    else:
        print(words)


def _list(options: argparse.Namespace, journal: Journal) -> int:
    entries = journal.entries(options.job, options.state)
    if options.json:
        print_json([_row(entry) for entry in entries])
    elif options.csv:
        writer = csv.writer(sys.stdout)
        writer.writerow(_COLUMNS)
        for entry in entries:
            writer.writerow([_guarded(value) for value in _row(entry).values()])
    else:
        terminal = Terminal(soft_wrap=True)
        for entry in entries:
            terminal.print(f"{entry.key}  {entry}")
    return 0


def _row(entry: Entry) -> dict[str, Any]:
    row = {name: getattr(entry, name) for name in _COLUMNS}
    row["changed"] = datetime.fromtimestamp(entry.changed, UTC).isoformat(timespec="seconds")
    return row


def _guarded(value: Any) -> Any:
    """Returns a cell that no spreadsheet takes for a formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in ("=", "+", "-", "@", "\t", "\r") else value


def _summary(options: argparse.Namespace, journal: Journal) -> int:
    jobs = [options.job] if options.job is not None else journal.jobs()
    if options.json:
        print_json({"jobs": [{"job": job, "states": dict(journal.summary(job))} for job in jobs]})
        return 0
    terminal = Terminal(soft_wrap=True)
    for job in jobs:
        for line in _job_lines(journal, job):
            terminal.print(line)
    return 0


def _job_lines(journal: Journal, job: str) -> Iterator[str]:
    states = journal.summary(job)
    yield f"{job}: {counted(sum(states.values()), 'recipient')}"
    for state in get_args(State):
        if states[state]:
            yield f"  {states[state]:>7,} {state.replace('_', ' ')}"
            if state not in ("accepted", "planned", "suppressed"):
                for count, words in journal.reasons(state, job):
                    if words:
                        yield f"          {count:,} × {words}"
