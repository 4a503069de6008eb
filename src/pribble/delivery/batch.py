"""Many messages of one template, a row each: checked before the first is sent, and resumable after the last.

The first pass renders every row and sends nothing.  The second one sends what the journal has planned, over as many
connections as there may be; whenever it ends, the journal knows what became of each recipient.
"""

from __future__ import annotations

import hashlib
import threading
import time
from collections import Counter, deque
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Unpack

from pribble.delivery.composing import Composer, ComposerOptions
from pribble.delivery.files import FileTransport
from pribble.delivery.journal import Claim, Fenced, Journal, Planned, PlanResult, Settled, Wanted
from pribble.delivery.receipts import Outcome, outcome_of_words
from pribble.delivery.rows import RowProblem, Rows, read_rows
from pribble.delivery.states import State
from pribble.delivery.transports import Transport
from pribble.errors import DeliveryError, PribbleError
from pribble.mime.message import Message
from pribble.template import Template

WAIT = 900.0  # seconds in which something has to become due, or the batch ends
_TELLING = 5  # failures in a row with one reason…
_DOMAINS = 3  # …over so many domains are the account's trouble, and not the recipients'
_LONGEST_PAUSE = 60.0  # seconds between two connections that fail
_CLAIMS = 16  # messages claimed at once, for each connection
_FLUSH = 20  # outcomes that are not yet in the journal, at most


class BatchError(PribbleError):
    """A batch is not sent, since rows of it are wrong: `problems` says which."""

    def __init__(self, problems: list[RowProblem]) -> None:
        shown = "\n".join(f"  {one}" for one in problems[:100])
        more = f"\n  and {len(problems) - 100:,} more" if len(problems) > 100 else ""
        super().__init__(f"{len(problems):,} {'row is' if len(problems) == 1 else 'rows are'} wrong; nothing was sent")
        self.problems = problems
        self.listing = shown + more

    def __str__(self) -> str:
        return f"{self.problem}\n{self.listing}"


@dataclass(frozen=True, slots=True)
class Outlier:
    """A row that is unlike the others: `what` says in which way."""

    what: str
    number: int
    value: str


@dataclass(frozen=True, slots=True)
class Progress:
    """How far a batch is: how many recipients have ended in each state in this run, of how many."""

    ended: Counter[State]
    total: int
    seconds: float


@dataclass(frozen=True, slots=True)
class BatchResult:
    """What became of a batch: `states` are those of all its recipients, `plan` what planning came to, `problems` the
    rows that were left out, `stopped` why it ended early, if it did."""

    states: Counter[State]
    plan: PlanResult
    problems: tuple[RowProblem, ...]
    stopped: str | None

    @property
    def is_accepted(self) -> bool:
        """Whether everybody has it who was to get it."""
        return not self.problems and set(self.states) <= {"accepted", "suppressed"}


@dataclass(frozen=True)
class Pace:
    """When and how fast a batch goes: so many messages a minute (`rate`), to a moment (`until`, seconds since 1970), as
    long as something becomes due within `wait` seconds, until `stop_after` failures among the last twice as many."""

    rate: float | None = None
    until: float | None = None
    wait: float = WAIT
    stop_after: int | None = None


class Batch:
    """A message for each of `rows` (a `Rows`, or what `read_rows` takes), by a template.

    - `sender`: a mailbox.  `to`, `cc`, `bcc`, `reply_to`: a column's name, or mailboxes with marks, which are parsed
      before a row fills them.  `locale`, `unsubscribe`: texts with marks.  `attachments`: files for everybody.
    - `key`: the columns that tell rows apart; without, the table must stay the same.
    - `job`: what the `journal` calls it, by default the template's name.  `through`: a transport, over so many
      `connections`.
    - `suppressed`: addresses that get nothing.  With `skip_bad` rows that are wrong are left out; with `change_unsent`
      what nobody has yet gets the template and the data of today.
    - All is planned; what is `wanted` is sent, at the `pace` that is asked for.

    Raises `TemplateError` for a pattern that is none, `DataError` for what is no table, or a key that is no column.
    """

    def __init__(
        self,
        template: Template,
        rows: Rows | str | Path | Iterable[Any],
        *,
        through: Transport,
        journal: Journal,
        job: str | None = None,
        connections: int = 1,
        suppressed: Collection[str] = (),
        skip_bad: bool = False,
        change_unsent: bool = False,
        wanted: Wanted | None = None,
        pace: Pace | None = None,
        **options: Unpack[ComposerOptions],
    ) -> None:
        self.rows = rows if isinstance(rows, Rows) else read_rows(rows)
        self.composer = Composer.of(template, self.rows.columns, **options)
        self.job = job or template.name
        self.through, self.journal, self.connections = through, journal, connections
        self.suppressed, self.skip_bad, self.change_unsent = suppressed, skip_bad, change_unsent
        self.wanted, self.pace = wanted or Wanted(), pace or Pace()
        self.outliers: list[Outlier] = []
        self._bad: set[int] = set()
        self._checked = False
        self._problems: list[RowProblem] = []

    def problems(self) -> list[RowProblem]:
        """Returns what is wrong with which rows: each is rendered, its addresses are read, its message is made."""
        if self._checked:
            return self._problems
        self._problems = list(self.rows.problems)
        heaviest: tuple[int, int] = (0, 0)
        longest: tuple[int, int, str] = (0, 0, "")
        for index, row in enumerate(self.rows):
            number = self.rows.number(index)
            try:
                self.composer.key_of(row, number)
                message = self.composer.message(row)
                heaviest = max(heaviest, (len(bytes(message)), -number))
                name = max((one.name for one in message.to), key=len, default="")
                longest = max(longest, (len(name), -number, name))
            except (PribbleError, KeyError, TypeError, ValueError) as error:
                self._bad.add(index)
                self._problems.append(self.rows.problem(index, _words(error)))
        self._problems.sort(key=lambda one: one.number)
        self._checked = True
        if heaviest[0]:
            self.outliers = [Outlier("heaviest message", -heaviest[1], f"{heaviest[0]:,} bytes")]
            if longest[0]:
                self.outliers.append(Outlier("longest name", -longest[1], longest[2]))
        return self._problems

    def send(self, progress: Callable[[Progress], None] | None = None) -> BatchResult:
        """Send what is planned and due; returns what became of all.

        Raises `BatchError` where rows are wrong, unless they are left out; `JournalError` where the journal cannot be
        used.  An interruption (`KeyboardInterrupt`) lets what is under way end; a second one does not.
        """
        problems = self.problems()
        if problems and not self.skip_bad:
            raise BatchError(problems)
        keys = self.composer.key
        plan = self.journal.plan(
            self.job,
            self._planned(),
            template=self.composer.template.version,
            rows=None if keys else self.rows.digest,
            change_unsent=self.change_unsent,
        )
        self.journal.recover(self.job)
        self._look()
        run = _Run(self, progress)
        run.go()
        return BatchResult(self.journal.summary(self.job), plan, tuple(problems), run.stopped)

    def _look(self) -> None:
        """Settle what is in doubt where one can look: files are there, or they are not."""
        if isinstance(self.through, FileTransport):
            for claim in self.journal.doubtful(self.job):
                message = self.composer.message(self.rows[claim.position], seed=claim.seed, date=claim.date)
                is_there = self.through.holds(message, recipients=claim.addresses)
                self.journal.settle_doubt(claim, is_there=is_there)

    def _planned(self) -> Iterator[Planned]:
        suppressed = {address.strip().casefold() for address in self.suppressed}
        for index, row in enumerate(self.rows):
            if index not in self._bad:
                addresses = self.composer.recipients(row)
                yield Planned(
                    self.composer.key_of(row, self.rows.number(index)),
                    index,
                    self.composer.data_digest(row),
                    addresses,
                    frozenset(one for one in addresses if one.casefold() in suppressed),
                )


def _words(error: Exception) -> str:
    if isinstance(error, PribbleError):
        where = f"{error.place}: " if error.place else ""
        return f"{where}{error.problem}" + (f" ({error.hint})" if error.hint else "")
    return f"no {error}" if isinstance(error, KeyError) else str(error)


class _Run:
    """The sending of a batch, once: threads that take claims, try them, and write down what became of them."""

    def __init__(self, batch: Batch, progress: Callable[[Progress], None] | None) -> None:
        self.batch, self.journal, self.pace = batch, batch.journal, batch.pace
        self.stopped: str | None = None
        self._progress = progress
        self._lock = threading.Lock()
        self._claims: deque[Claim] = deque()
        self._busy = 0
        self._ended: Counter[State] = Counter()
        waiting = self.journal.summary(batch.job)
        self._total = waiting["planned"] + waiting["deferred"]
        self._began = time.monotonic()
        self._next_start = self._began
        self._end = threading.Event()
        # Nothing begins before all threads have: an interruption could not wait for one that is about to.
        self._gate = threading.Event()
        self._running = batch.connections
        self._finished = threading.Event()
        self._failures: deque[bool] = deque(maxlen=2 * (self.pace.stop_after or 1))
        self._same = _SameReason()
        self._pauses = 0
        self._wanted = batch.wanted
        self._error: BaseException | None = None
        self._not_theirs: list[Settled] = []  # failures that were the account's

    def go(self) -> None:
        with self.batch.through as way:
            threads = [
                threading.Thread(target=self._work, args=(way,), name=f"pribble: batch {number}", daemon=True)
                for number in range(self.batch.connections)
            ]
            try:
                for thread in threads:
                    thread.start()
                self._gate.set()
                self._wait()
            except KeyboardInterrupt:
                self.stop("interrupted")
                if self._gate.is_set():
                    self._wait()  # what is under way ends; a second interruption does not wait for it
                self._gate.set()
        if self._not_theirs:
            self.journal.take_back(self._not_theirs)
        if self._error is not None:
            raise self._error

    def stop(self, why: str) -> None:
        """Let nothing more begin."""
        with self._lock:
            if self.stopped is None:
                self.stopped = why
        self._end.set()

    def _work(self, way: Transport) -> None:
        pending: list[Settled] = []
        self._gate.wait()
        try:
            while (claim := self._next(pending)) is not None:
                try:
                    self._try(way, claim, pending)
                finally:
                    with self._lock:
                        self._busy -= 1
                if len(pending) >= _FLUSH:
                    self._flush(pending)
            self._flush(pending)
        except BaseException as error:
            self._error = self._error or error
            self.stop(str(error))
        finally:
            with self._lock:
                self._running -= 1
                if not self._running:
                    self._finished.set()

    def _wait(self) -> None:
        """Wait for all threads.  Not by joining them: a join that is interrupted takes a thread that runs for ended."""
        while not self._finished.wait(0.2):
            pass

    def _flush(self, pending: list[Settled]) -> None:
        if pending:
            self.journal.settle(pending)
            pending.clear()

    # ---- what is next -------------------------------------------------------------------------------------------

    def _next(self, pending: list[Settled]) -> Claim | None:
        """Returns the next claim, when it may begin; None where the batch ends."""
        while not self._end.is_set():
            if self.pace.until is not None and time.time() >= self.pace.until:
                self.stop("its time is over")
                break
            with self._lock:
                if self._claims:
                    self._busy += 1
                    claim = self._claims.popleft()
                    begins = self._slot()
                    break_at = max(0.0, begins - time.monotonic())
                else:
                    claim = None
            if claim is not None:
                self._end.wait(break_at)
                return claim
            self._flush(pending)
            if not self._claim_more() and not self._waits():
                break
        self._give_back()
        return None

    def _slot(self) -> float:
        """Returns when the next message may begin, at the rate that is asked for."""
        begins = max(self._next_start, time.monotonic())
        self._next_start = begins + (60.0 / self.pace.rate if self.pace.rate else 0.0)
        return begins

    def _claim_more(self) -> bool:
        with self._lock:
            if self._claims:
                return True
            for wanted in (self._wanted, self.batch.wanted):  # and once more from the beginning
                self._claims.extend(self.journal.claim(self.batch.job, _CLAIMS * self.batch.connections, wanted))
                if self._claims:
                    self._wanted = replace(self.batch.wanted, after=self._claims[-1].position)
                    return True
            return False

    def _waits(self) -> bool:
        """Wait a little for what becomes due; returns False where nothing does, soon enough."""
        due = self.journal.next_due(self.batch.job, self.batch.wanted)
        with self._lock:
            if self._busy:  # what others have under way may be due again
                due = min(due, 0.05) if due is not None else 0.05
        if due is None or due > self.pace.wait:
            return False
        self._end.wait(min(max(due, 0.05), 1.0))
        return True

    def _give_back(self) -> None:
        """Give claims that nobody will try back to the journal."""
        with self._lock:
            left = [Settled(claim, {}) for claim in self._claims]
            self._claims.clear()
        if left:
            self.journal.settle(left)

    # ---- one message --------------------------------------------------------------------------------------------

    def _try(self, way: Transport, claim: Claim, pending: list[Settled]) -> None:
        if self._end.is_set():
            pending.append(Settled(claim, {}))
            return
        try:
            message = self._message(claim)
        except PribbleError as error:  # checked before, so that the data or the template are others now
            pending.append(Settled(claim, _refused(claim, f"not made: {_words(error)}")))
            return
        content = hashlib.sha256(message.envelope.sender.encode() + b"\0" + bytes(message)).hexdigest()
        if claim.content is not None and claim.content != content:
            words = "it is not what it was when it was first tried (--changed unsent plans it anew)"
            pending.append(Settled(claim, _refused(claim, words)))
            return

        def committing(addresses: Collection[str]) -> None:
            self.journal.commit(claim, addresses, message.message_id, content, pending)
            pending.clear()

        try:
            receipt = way.deliver(message, recipients=claim.addresses, committing=committing)
        except Fenced:
            return
        except DeliveryError as error:
            pending.append(Settled(claim, {}))
            self._unreached(error)
            return
        except BaseException:
            pending.append(Settled(claim, {}))
            raise
        self._pauses = 0
        settled = Settled(claim, {one.recipient: one for one in receipt.outcomes})
        pending.append(settled)
        self._judge(settled)

    def _message(self, claim: Claim) -> Message:
        with self._lock:
            row = self.batch.rows[claim.position]
        return self.batch.composer.message(row, seed=claim.seed, date=claim.date)

    def _unreached(self, error: DeliveryError) -> None:
        """Make of an error before any word of a message a pause, or the end."""
        if error.is_lasting:
            self.stop(str(error.problem))
            return
        with self._lock:
            self._pauses += 1
            pause = min(2.0 ** (self._pauses - 1), _LONGEST_PAUSE)
            is_long = sum(min(2.0**n, _LONGEST_PAUSE) for n in range(self._pauses)) > self.pace.wait
        if is_long:
            self.stop(str(error.problem))
        self._end.wait(pause)

    def _judge(self, settled: Settled) -> None:
        """Count outcomes, tell of them, and stop where they say that going on would do harm."""
        stop_after = self.pace.stop_after
        with self._lock:
            for outcome in settled.outcomes.values():
                self._ended[outcome.state] += 1
                self._failures.append(outcome.state != "accepted")
            told = Progress(Counter(self._ended), self._total, time.monotonic() - self._began)
            common = self._same.judge(settled)
            if self._progress:
                self._progress(told)
            too_many = stop_after is not None and sum(self._failures) >= stop_after
        if common is not None:
            reason, self._not_theirs = common
            self.stop(f"one reason for recipients of several domains, which is the account's trouble: {reason}")
        elif too_many:
            self.stop(f"{stop_after} failures among the last {2 * (stop_after or 0)}")


class _SameReason:
    """Notices that one reason comes again and again, whoever the message is for."""

    def __init__(self) -> None:
        self._begin(None)

    def _begin(self, reason: str | None) -> None:
        self._reason = reason
        self._domains: set[str] = set()
        self._whose: list[Settled] = []

    def judge(self, settled: Settled) -> tuple[str, list[Settled]] | None:
        """Take one more message; returns the reason, and those whom it was given for, where it is the account's."""
        failed = [one for one in settled.outcomes.values() if one.state in ("refused", "deferred")]
        reasons = {_reason(one) for one in failed}
        if len(failed) < len(settled.outcomes) or len(reasons) != 1:
            self._begin(None)
            return None
        reason = reasons.pop()
        if reason != self._reason:
            self._begin(reason)
        self._domains |= {one.recipient.rpartition("@")[2] for one in failed}
        self._whose.append(settled)
        if len(self._whose) < _TELLING or len(self._domains) < _DOMAINS:
            return None
        return f"{failed[0].code or ''} {failed[0].message}".strip(), self._whose


def _reason(outcome: Outcome) -> str:
    """Returns what a failure is known by: its enhanced code, or its words without the address."""
    return f"{outcome.code} {outcome.enhanced or outcome.message.replace(outcome.recipient, '')}"


def _refused(claim: Claim, words: str) -> dict[str, Outcome]:
    return {one: outcome_of_words(one, "refused", words) for one in claim.addresses}
