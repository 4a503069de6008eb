"""``pribble batch``: one message for each row of a table, resumable."""

from __future__ import annotations

import argparse
import re
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING, Any

from pribble.cli.command_line import NOT_DELIVERED, Usage, add_command
from pribble.cli.common import (
    add_embed,
    add_json,
    add_templates,
    count_of,
    counted,
    existing_file,
    in_words,
    print_json,
    sender,
    template,
    write,
)
from pribble.cli.terminal import Terminal
from pribble.cli.transports import add_through, transport_if_any
from pribble.mime.part import Attachment
from pribble.records import replace
from pribble.settings import ProjectSettings, project_settings

if TYPE_CHECKING:
    from pribble.delivery.batch import Batch, BatchResult
    from pribble.delivery.composing import ComposerOptions
    from pribble.delivery.journal import Journal
    from pribble.delivery.rows import Rows
    from pribble.delivery.sending import Pace, Progress
    from pribble.delivery.transports import Transport

WRONG_ROWS = 1
_EVERY = 10.0  # seconds between two lines of progress where no terminal shows a bar
_TEST_MARK = "[test] "


def add(commands: argparse._SubParsersAction[argparse.ArgumentParser]) -> None:
    parser = add_command(
        commands,
        "batch",
        description="Render a message for each row of a table, check them all, and send them.  The journal knows what "
        "became of each; called again, the batch goes on where it ended.  A PATTERN is a text with marks that a row "
        "fills.",
    )
    count = count_of("number from 1")
    given = parser.add_argument
    given("template", metavar="TEMPLATE", help="a name in the template folder, or a path to a file")
    given("--rows", metavar="TABLE", required=True, help="CSV, JSON, JSON lines, .xlsx, .parquet; - for standard input")
    given("--to", metavar="PATTERN", required=True, help="a column, or a pattern: '{{ name }} <{{ mail }}>'")
    for name in ("cc", "bcc", "reply-to"):
        given(f"--{name}", metavar="PATTERN", help="the same")
    given("--from", metavar="A", dest="sender", help="the sender, or its name in [senders] of pribble.toml")
    given("--locale", metavar="PATTERN", help="the locale of each row's message")
    given("--unsubscribe", metavar="PATTERN", help="the address that leads off the list (RFC 2369)")
    given("--envelope-sender", metavar="PATTERN", help="where failures are reported to (else the sender)")
    given("--attach", metavar="FILE", action="append", default=[], help="a file to attach to each message")
    add_templates(parser)
    add_embed(parser)
    sending = parser.add_argument_group("sending")
    add_through(sending)
    given = sending.add_argument
    given("--journal", metavar="FILE", help="what became of each: a file, or postgresql://host/name")
    given("--job", metavar="NAME", help="what the journal calls this batch (the template's name)")
    given("--key", metavar="COLUMN", action="append", default=[], help="what tells rows apart, if the table may change")
    given("--changed", choices=["unsent"], help="give what nobody has yet the data and the template of today")
    given("--skip-bad", action="store_true", help="leave out rows that are wrong, and send the others")
    given("--first", metavar="N", type=count, help="send only the first N rows")
    given("--only", metavar="KEY", help="send only this row")
    given("--connections", metavar="K", type=count, default=1, help="how many at once (1)")
    given("--rate", metavar="N/min", type=_rate, help="at most so many messages a minute")
    given("--until", metavar="TIME", type=_moment, help="begin nothing after this: 18:00, or 2026-12-01T18:00")
    given("--wait", metavar="MINUTES", type=_minutes, default=900.0, help="for what is due so soon (15)")
    given("--stop-after", metavar="N", type=count, help="end after N failures among the last 2 N")
    given = parser.add_argument_group("looking first").add_argument
    given("--show", metavar="N", type=count, help="write the message of row N, and send nothing")
    given("--format", choices=["eml", "html", "text", "subject"], default="text", help="of --show (text)")
    given(
        "--rehearse",
        action="store_true",
        help="send all of it to a receiver on this machine that keeps nothing and defers some: how long, how much",
    )
    given("--test-to", metavar="ADDRESS", help="send the message of --show, or of the first row, to this address")
    add_json(parser)
    parser.set_defaults(run=run)


def run(options: argparse.Namespace) -> int:
    settings = project_settings()
    with _table(options.rows) as rows:
        for note in rows.notes:
            print(f"{rows.name}: {note}", file=sys.stderr)
        if options.show or options.test_to:
            return _look(options, settings, rows)
        if options.rehearse:
            return _rehearse(options, settings, rows)
        if options.journal is None:
            raise Usage("say where to keep what became of each: --journal FILE")
        return _send_all(options, settings, rows)


def _table(named: str) -> Rows:
    from pribble.delivery.rows import read_rows, read_stream

    if named == "-":
        return read_stream(sys.stdin.buffer, "standard input")
    return read_rows(existing_file(named))


def _composing(options: argparse.Namespace, settings: ProjectSettings) -> ComposerOptions:
    """Returns whom the messages are from, to and about."""
    from pribble.delivery.signing import project_signer

    return {
        "sender": sender(options, settings),
        "to": options.to,
        "cc": options.cc,
        "bcc": options.bcc,
        "reply_to": options.reply_to,
        "locale": options.locale,
        "unsubscribe": options.unsubscribe,
        "envelope_sender": options.envelope_sender,
        "key": options.key,
        "attachments": [Attachment.from_path(existing_file(path)) for path in options.attach],
        "sign": project_signer(settings),
    }


# ---- looking ------------------------------------------------------------------------------------------------------


def _look(options: argparse.Namespace, settings: ProjectSettings, rows: Rows) -> int:
    from pribble.delivery.composing import Composer
    from pribble.delivery.patterns import AddressPattern

    composer = Composer.of(template(options, settings), rows.columns, **_composing(options, settings))
    index = (options.show or 1) - 1
    if index >= len(rows):
        raise Usage(f"the table has {counted(len(rows), 'row')}")
    if not options.test_to:
        made = composer.message(rows[index])
        forms = {"eml": bytes(made), "html": made.html, "text": made.text, "subject": f"{made.subject or ''}\n"}
        form = forms[options.format]
        if form is None:
            raise Usage(f'"{options.template}" has no HTML')
        write(form if isinstance(form, bytes) else form.encode("utf-8"), None)
        return 0
    alone = replace(composer, to=AddressPattern(options.test_to, "--test-to"), cc=None, bcc=None, mark=_TEST_MARK)
    way = transport_if_any(options.through, settings)
    if way is None:
        raise Usage("say how to send it: --through")
    receipt = way.deliver(alone.message(rows[index]))
    if options.json:
        print_json(receipt.as_data())
    else:
        print(receipt.outcomes[0])
    return 0 if receipt.is_accepted else NOT_DELIVERED


# ---- sending ------------------------------------------------------------------------------------------------------


def _send_all(options: argparse.Namespace, settings: ProjectSettings, rows: Rows) -> int:
    from pribble.delivery import Journal

    way = transport_if_any(options.through, settings, connections=options.connections)
    if way is None:
        raise Usage("say how to send it: --through smtps://you@mail.example.org, or folder:DIR to look at it first")
    with Journal(options.journal) as journal:
        journal.jobs()  # whether it can be used shows before every row is rendered
        batch = _batch(options, settings, rows, way, journal)
        _first_pass(options, batch)
        with _progress(options.json, len(rows)) as progress:
            result = batch.send(progress)
        _tell_result(options, batch, journal, result)
    return 0 if result.is_accepted else NOT_DELIVERED


def _batch(
    options: argparse.Namespace, settings: ProjectSettings, rows: Rows, way: Transport, journal: Journal
) -> Batch:
    from pribble.delivery import Batch
    from pribble.delivery.journal import Wanted

    return Batch(
        template(options, settings),
        rows,
        through=way,
        journal=journal,
        job=options.job,
        connections=options.connections,
        suppressed=settings.suppressed(),
        skip_bad=options.skip_bad,
        change_unsent=options.changed == "unsent",
        wanted=Wanted(before=options.first, key=options.only),
        pace=_pace(options),
        **_composing(options, settings),
    )


def _first_pass(options: argparse.Namespace, batch: Batch) -> None:
    """Render every row and tell of it.  Raises `BatchError` where rows are wrong that may not be left out."""
    from pribble.delivery.batch import BatchError

    problems = batch.problems()
    if not options.json:
        _tell_first_pass(batch, len(batch.rows))
    if problems and not options.skip_bad:
        raise BatchError(problems)


def _rehearse(options: argparse.Namespace, settings: ProjectSettings, rows: Rows) -> int:
    from pribble.delivery.rehearsal import ONE_IN, rehearsing

    with rehearsing(options.connections) as rehearsal:
        batch = _batch(options, settings, rows, rehearsal.through, rehearsal.journal)
        _first_pass(options, batch)
        with _progress(options.json, len(rows)) as progress:
            done = rehearsal.run(batch, progress)
    first = done.first
    if options.json:
        states = {"first": dict(first.states), "then": dict(done.then), "stopped": first.stopped}
        print_json({"seconds": round(done.seconds, 3), "bytes": done.octets, **states})
    else:
        terminal = Terminal()
        terminal.print(
            f"rehearsed over {counted(options.connections, 'connection')}, with a receiver that defers one recipient "
            f"in {ONE_IN} at first:"
        )
        rate = first.states["accepted"] / max(done.seconds, 1e-9) * 60
        terminal.print(
            f"  {in_words(first.states)}: {done.seconds:,.1f} s, {rate:,.0f} a minute, {done.octets / 1e6:,.1f} MB"
        )
        if first.stopped:
            terminal.print(f"  stopped: {first.stopped}")
        elif first.states["deferred"]:
            terminal.print(f"  the same command, once the deferred ones are due: {in_words(done.then)}")
        terminal.print("nothing was sent, and no journal has anything of it")
    return 0 if first.stopped is None else NOT_DELIVERED


def _pace(options: argparse.Namespace) -> Pace:
    from pribble.delivery.sending import Pace

    return Pace(options.rate, options.until, options.wait, options.stop_after)


def _tell_first_pass(batch: Batch, count: int) -> None:
    terminal = Terminal()
    problems = batch.problems()
    terminal.print(f"{counted(count, 'row')} rendered; {counted(len(problems), 'problem')}")
    for outlier in batch.outliers:
        terminal.print(f"  {outlier.what}: row {outlier.number}, {outlier.value}")
    if problems and batch.skip_bad:
        for problem in problems[:100]:
            terminal.print(f"  left out: {problem}")


@contextmanager
def _progress(as_json: bool, count: int) -> Iterator[Any]:
    """Gives what shows progress: a bar in a terminal, else a line now and then."""
    if as_json:
        yield None
        return
    terminal = Terminal()
    if not terminal.is_terminal:
        yield _Lines(terminal)
        return
    from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bar

    columns = (BarColumn(), MofNCompleteColumn(), TimeRemainingColumn(), TextColumn("{task.description}"))
    with Bar(*columns, console=terminal) as bar:
        task = bar.add_task("", total=count)

        def show(progress: Progress) -> None:
            done = sum(progress.ended.values())
            rate = f"{done / max(progress.seconds, 1e-9) * 60:,.0f}/min"
            bar.update(task, completed=done, total=progress.total, description=f"{rate}  {in_words(progress.ended)}")

        yield show


class _Lines:
    """Progress as lines, for logs."""

    def __init__(self, terminal: Terminal) -> None:
        self._terminal, self._last = terminal, time.monotonic()

    def __call__(self, progress: Progress) -> None:
        if time.monotonic() - self._last >= _EVERY:
            self._last = time.monotonic()
            done = sum(progress.ended.values())
            self._terminal.print(f"{done:,} of {progress.total:,}: {in_words(progress.ended)}")


def _tell_result(options: argparse.Namespace, batch: Batch, journal: Journal, result: BatchResult) -> None:
    plan = result.plan
    if options.json:
        print_json(
            {
                "job": batch.job,
                "states": dict(result.states),
                "planned": {"new": plan.new, "known": plan.known, "anew": plan.anew, "gone": plan.gone},
                "changed": plan.changed,
                "repeated": plan.repeated,
                "left_out": [str(one) for one in result.problems],
                "stopped": result.stopped,
            }
        )
        return
    terminal = Terminal()
    terminal.print(f"{batch.job}: {in_words(result.states) or 'nothing'}")
    for state in ("refused", "deferred", "in_doubt", "expired"):
        for count, words in journal.reasons(state, batch.job) if result.states[state] else ():
            terminal.print(f"  {count:,} {state.replace('_', ' ')}: {words}")
    for keys, words in (
        (plan.repeated, "stands in the table more than once; it was sent once"),
        (plan.changed, "has other data now; somebody has, or may have, what was sent"),
    ):
        for key in keys[:20]:
            terminal.print(f"  {key} {words}")
    if plan.gone:
        terminal.print(f"  {counted(plan.gone, 'message')} of earlier tables: not in this one")
    if result.stopped:
        terminal.print(f"stopped: {result.stopped}")
    left = result.states["planned"] + result.states["deferred"]
    if left:
        terminal.print(f"{left:,} left: the same command goes on with them")
    if result.states["in_doubt"]:
        terminal.print(f"in doubt: pribble journal {options.journal} --state in_doubt")


# ---- what options say ---------------------------------------------------------------------------------------------


def _rate(written: str) -> float:
    number, slash, unit = written.partition("/")
    if not re.fullmatch("[0-9]{1,7}", number) or not int(number) or (slash and unit != "min"):
        raise argparse.ArgumentTypeError(f'"{written[:20]}" is no rate: 60/min')
    return float(number)


def _minutes(written: str) -> float:
    if not re.fullmatch(r"[0-9]{1,6}(\.[0-9]{1,2})?", written):
        raise argparse.ArgumentTypeError(f'"{written[:20]}" is no number of minutes')
    return 60.0 * float(written)


def _moment(written: str) -> float:
    now = datetime.now().astimezone()
    try:
        if re.fullmatch("[0-9]{2}:[0-9]{2}", written):
            return datetime.combine(now.date(), datetime.strptime(written, "%H:%M").time()).astimezone().timestamp()
        return datetime.fromisoformat(written).astimezone().timestamp()
    except ValueError:
        raise argparse.ArgumentTypeError(f'"{written[:40]}" is no time: 18:00, or 2026-12-01T18:00') from None
