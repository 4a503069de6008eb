"""The sending of a batch, once: threads that take claims, try them, and write down what became of them."""

from __future__ import annotations

import math
import threading
import time
from collections import Counter, deque
from collections.abc import Callable, Collection, Sequence
from contextlib import suppress

from pribble.delivery.base import Searchable
from pribble.delivery.claims import Claim, Fenced, Settled
from pribble.delivery.composing import content_digest, words_of
from pribble.delivery.journal import Journal, Wanted
from pribble.delivery.journal_tables import JournalAway
from pribble.delivery.receipts import Outcome, outcome_of_words
from pribble.delivery.states import State
from pribble.delivery.transports import Transport
from pribble.delivery.workers import at_work
from pribble.errors import DeliveryError, PribbleError
from pribble.mime.base import BaseMessage
from pribble.records import field, record, replace

WAIT = 900.0  # seconds in which something has to become due, or the batch ends
_TELLING = 5  # failures in a row with one reason…
_DOMAINS = 3  # …over so many domains are the account's trouble, and not the recipients'
_LONGEST_PAUSE = 60.0  # seconds between two connections that fail
_CLAIMS = 16  # messages claimed at once, for each connection
_PATIENCE = 90.0  # seconds in which a journal that is away may come back
_FLUSH = 20  # outcomes that are not yet in the journal, at most


@record(frozen=True, slots=True)
class Progress:
    """How far a batch is: how many recipients have ended in each state in this run, of how many."""

    ended: Counter[State]
    total: int
    seconds: float


@record(frozen=True)
class Pace:
    """When and how fast a batch goes: so many messages a minute (`rate`), to a moment (`until`, seconds since 1970), as
    long as something becomes due within `wait` seconds, until `stop_after` failures among the last twice as many."""

    rate: float | None = None
    until: float | None = None
    wait: float = WAIT
    stop_after: int | None = None


@record(frozen=True)
class Work:
    """What is sent: `message_of` makes the message of a claim, of the `job` in the `journal`; the transport that it
    goes `through` over so many `connections`, which messages are `wanted`, at which `pace`; where `claims` are given,
    these and no others."""

    message_of: Callable[[Claim], BaseMessage]
    job: str
    through: Transport
    journal: Journal
    connections: int = 1
    wanted: Wanted = field(default_factory=Wanted)
    pace: Pace = field(default_factory=Pace)
    claims: Sequence[Claim] | None = None


class Sending:
    """The sending of a batch, once: threads that take claims, try them, and write down what became of them."""

    def __init__(self, work: Work, progress: Callable[[Progress], None] | None) -> None:
        self.work, self.journal, self.pace = work, work.journal, work.pace
        self.stopped: str | None = None
        self._progress = progress
        self._lock = threading.Lock()
        self._claims: deque[Claim] = deque(work.claims or ())
        self._busy = 0
        self.ended: Counter[State] = Counter()
        waiting = self.journal.summary(work.job) if progress else Counter()
        self._total = waiting["planned"] + waiting["deferred"]
        self._began = time.monotonic()
        self._next_start = self._began
        self._end = threading.Event()
        # Nothing begins before all threads have: an interruption could not wait for one that is about to.
        self._gate = threading.Event()
        self._running = work.connections
        self._finished = threading.Event()
        self._failures: deque[bool] = deque(maxlen=2 * (self.pace.stop_after or 1))
        self._same = _SameReason()
        self._pauses = 0
        self._wanted = work.wanted
        self._error: BaseException | None = None
        self._not_theirs: list[Settled] = []  # failures that were the account's

    def go(self, seconds: float | None = None) -> bool:
        """Send what is due; returns whether it ended within so many seconds: what is under way then goes on by itself,
        and nothing more begins.

        Raises what a thread raised.
        """
        with at_work() as self._worker:
            threads = [
                threading.Thread(target=self._work, name=f"pribble: sending {number}", daemon=True)
                for number in range(self.work.connections)
            ]
            try:
                for thread in threads:
                    thread.start()
                self._gate.set()
                self._wait_for_threads(seconds)
            except KeyboardInterrupt:
                self.stop("interrupted")
                if self._gate.is_set():
                    self._wait_for_threads()  # what is under way ends; a second interruption does not wait for it
                self._gate.set()
        if self._not_theirs:
            self.journal.take_back(self._not_theirs)
        if self._error is not None:
            raise self._error
        if not self._finished.is_set():
            self.stop(f"no answer within {seconds:g} s")
            self._give_back()
            return False
        return True

    def stop(self, why: str) -> None:
        """Let nothing more begin."""
        with self._lock:
            if self.stopped is None:
                self.stopped = why
        self._end.set()

    def _work(self) -> None:
        pending: list[Settled] = []
        self._gate.wait()
        try:
            try:
                self._try_all(pending)
            except JournalAway:
                self._flush(pending)
                raise
        except BaseException as error:
            self._error = self._error or error
            self.stop(str(error))
        finally:
            with self._lock:
                self._running -= 1
                if not self._running:
                    self._finished.set()

    def _try_all(self, pending: list[Settled]) -> None:
        while (claim := self._next(pending)) is not None:
            try:
                self._try(claim, pending)
            finally:
                with self._lock:
                    self._busy -= 1
            if len(pending) >= _FLUSH:
                self._flush(pending)
        self._flush(pending)

    def _wait_for_threads(self, seconds: float | None = None) -> None:
        """Wait for all threads.  Not by joining them: a join that is interrupted takes a thread that runs for ended."""
        ends = time.monotonic() + (math.inf if seconds is None else seconds)
        while not self._finished.wait(min(0.2, max(0.0, ends - time.monotonic()))):
            if time.monotonic() >= ends:
                return

    def _flush(self, pending: list[Settled]) -> None:
        """Keep what has become of messages.  While the journal is away, it is waited for: nobody else knows it."""
        ends = time.monotonic() + _PATIENCE
        while pending:
            try:
                self.journal.settle(pending)
                pending.clear()
            except JournalAway:
                if time.monotonic() >= ends:
                    raise
                time.sleep(1.0)

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
            if self.work.claims is not None:
                break
            if not self._claim_more() and not self._wait_for_due():
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
            for wanted in (self._wanted, self.work.wanted):  # and once more from the beginning
                self._claims.extend(
                    self.journal.claim(self.work.job, _CLAIMS * self.work.connections, wanted, self._worker)
                )
                if self._claims:
                    self._wanted = replace(self.work.wanted, after=self._claims[-1].position)
                    return True
            return False

    def _wait_for_due(self) -> bool:
        """Wait a little for what becomes due; returns False where nothing does, soon enough."""
        due = self.journal.next_due(self.work.job, self.work.wanted)
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

    def _try(self, claim: Claim, pending: list[Settled]) -> None:
        if self._end.is_set():
            pending.append(Settled(claim, {}))
            return
        try:
            message = self.work.message_of(claim)
            content = content_digest(message)
        except PribbleError as error:  # checked before, so that the data, the template or the keys are others now
            pending.append(Settled(claim, _refused(claim, f"not made: {words_of(error)}")))
            return
        if claim.content is not None and claim.content != content:
            words = "it is not what it was when it was first tried (--changed unsent plans it anew)"
            pending.append(Settled(claim, _refused(claim, words)))
            return

        def committing(addresses: Collection[str]) -> None:
            sender = message.envelope.sender
            self.journal.commit(claim, addresses, message.message_id, content, sender, pending)
            pending.clear()

        try:
            receipt = self.work.through.deliver(message, recipients=claim.addresses, committing=committing)
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
                self.ended[outcome.state] += 1
                self._failures.append(outcome.state != "accepted")
            told = Progress(Counter(self.ended), self._total, time.monotonic() - self._began)
            common = self._same.judge(settled)
            if self._progress:
                self._progress(told)
            too_many = stop_after is not None and sum(self._failures) >= stop_after
        if common is not None:
            reason, self._not_theirs = common
            self.stop(f"one reason for recipients of several domains, which is the account's trouble: {reason}")
        elif too_many:
            self.stop(f"{stop_after} failures among the last {2 * (stop_after or 0)}")


def look(work: Work) -> None:
    """Settle what is in doubt where one can look: files are there, or they are not, as drafts are in a mailbox.

    Where the message would be another one today, nobody knows what to look for, and it stays in doubt.
    """
    if not isinstance(work.through, Searchable):
        return
    for claim in work.journal.doubtful(work.job):
        try:
            message = work.message_of(claim)
        except PribbleError:
            continue
        if content_digest(message) == claim.content:
            with suppress(DeliveryError):
                is_there = work.through.holds(message, recipients=claim.addresses)
                work.journal.settle_doubt(claim, is_there=is_there)


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
        reasons = {_failure_reason(one) for one in failed}
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


def _failure_reason(outcome: Outcome) -> str:
    """Returns what a failure is known by: its enhanced code, or its words without the address."""
    return f"{outcome.code} {outcome.enhanced or outcome.message.replace(outcome.recipient, '')}"


def _refused(claim: Claim, words: str) -> dict[str, Outcome]:
    return {one: outcome_of_words(one, "refused", words) for one in claim.addresses}
