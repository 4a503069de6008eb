"""The sending of what a journal keeps of events: what has just been posted, what is left of one, all that is due."""

from __future__ import annotations

import threading
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from functools import partial

from pribble.delivery.claims import Claim, Settled
from pribble.delivery.journal import Journal, Wanted
from pribble.delivery.journal_events import ToStore, erase_settled, expire, is_under_way, stored_message, waiting
from pribble.delivery.sending import Pace, Sending, Work, look
from pribble.delivery.states import State
from pribble.delivery.transports import Transport
from pribble.errors import PribbleError
from pribble.mime.base import BaseMessage
from pribble.records import field, record

_SHORTEST_PAUSE, _LONGEST_PAUSE = 0.01, 0.5  # seconds between two looks at what others have under way


@record(frozen=True, slots=True)
class Left:
    """What became of messages that had waited: in which states recipients `ended`, and what was `stopped` and why."""

    ended: Counter[State] = field(default_factory=Counter)
    stopped: list[str] = field(default_factory=list)


class EventSender:
    """Sends the messages of events that a journal keeps, each by the transport that `transport_of` returns for a name;
    those of one event within so many seconds (`deadline`)."""

    def __init__(self, journal: Journal, transport_of: Callable[[str], Transport], deadline: float) -> None:
        self._journal, self._transport_of, self._deadline = journal, transport_of, deadline
        self._lock = threading.Lock()
        self._is_stopped = False
        self._sweeps: set[Sending] = set()

    def stop(self) -> None:
        """Let `send_due`, in other threads, end after the messages that are under way."""
        with self._lock:
            self._is_stopped = True
            for sending in self._sweeps:
                sending.stop("it was asked to stop")

    def send_due(self, event: str | None = None, key: str | None = None) -> Left:
        """Send what is left of all events, or of one, and due; returns what became of it."""
        return self._send(event, key, None)

    def send_in_time(self, event: str, key: str) -> Left:
        """Send what is left of an event, and wait for what somebody else has under way of it, until the deadline."""
        ends = time.monotonic() + self._deadline
        left = self._send(event, key, ends)
        pause = _SHORTEST_PAUSE
        while is_under_way(self._journal, event, key) and time.monotonic() < ends:
            time.sleep(pause)
            pause = min(2 * pause, _LONGEST_PAUSE)
        return left

    def _send(self, event: str | None, key: str | None, ends: float | None) -> Left:
        """Send what is left of all events, or of one, and due, until a moment (by the monotonic clock)."""
        expire(self._journal)
        left = Left()
        stored = partial(stored_message, self._journal)
        for one in list(waiting(self._journal, event, key)):
            try:
                way = self._transport_of(one.through)
            except PribbleError as error:
                left.stopped.append(f"{one.job}: {error.problem}")
                continue
            work = Work(stored, one.job, way, self._journal, wanted=Wanted(key=key), pace=Pace(wait=0))
            look(work)
            if ends is not None:
                self._try(work, ends, left)
            elif not self._sweep(work, left):
                break
        erase_settled(self._journal, event, key)
        return left

    def send_new(self, event: str, key: str, claimed: Sequence[tuple[ToStore, Claim]]) -> Left:
        """Send messages of an event that have just been kept and are this process's, until the deadline."""
        left, ends = Left(), time.monotonic() + self._deadline
        for through in dict.fromkeys(one.through for one, _ in claimed):
            messages = {claim.id: one.message for one, claim in claimed if one.through == through}
            claims = [claim for one, claim in claimed if one.through == through]
            try:
                way = self._transport_of(through)
            except PribbleError as error:
                left.stopped.append(f"{event}: {error.problem}")
                self._journal.settle([Settled(claim, {}) for claim in claims])
                continue
            message_of = partial(_known_message, messages)
            self._try(Work(message_of, event, way, self._journal, pace=Pace(wait=0), claims=claims), ends, left)
        erase_settled(self._journal, event, key)  # of this one alone, however many others wait
        return left

    def _try(self, work: Work, ends: float, left: Left) -> None:
        """Send what a work is about until a moment; what became of it is added to what is `left`."""
        sending, seconds = Sending(work, None), ends - time.monotonic()
        if seconds <= 0:
            sending.stop("no time was left for it")
        sending.go(max(seconds, 1.0))
        self._add(sending, left)

    def _sweep(self, work: Work, left: Left) -> bool:
        """Send what a work is about, until it is asked to stop; returns whether it was not asked before."""
        sending = Sending(work, None)
        with self._lock:
            if self._is_stopped:
                return False
            self._sweeps.add(sending)
        try:
            sending.go()
        finally:
            with self._lock:
                self._sweeps.discard(sending)
        self._add(sending, left)
        return True

    @staticmethod
    def _add(sending: Sending, left: Left) -> None:
        if sending.stopped:
            left.stopped.append(f"{sending.work.job}: {sending.stopped}")
        left.ended.update(sending.ended)


def _known_message(messages: Mapping[int, BaseMessage], claim: Claim) -> BaseMessage:
    return messages[claim.id]
