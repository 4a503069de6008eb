"""A transport that keeps messages in this process: for the tests of applications."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Sequence
from weakref import WeakValueDictionary

from pribble.delivery.base import Committing, Unconnected, recipients_of_try
from pribble.delivery.faults import DEFERRED, REFUSED, Faults, Refusal, is_like
from pribble.delivery.receipts import Outcome, Receipt, outcome_of_reply, outcome_of_words, receipt_of
from pribble.delivery.replies import Reply
from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage


class Outbox(Unconnected):
    """A transport for tests: it keeps each message, and answers as it is told to.

        outbox = Outbox()
        outbox.refuse("*@closed.example")
        application = create_application(transport=outbox.address)
        …
        self.assertEqual([message.subject for message in outbox.messages], ["Your berth"])

    `messages` are those that somebody would have got, `receipts` what was answered, both in order.  `address` names
    this very outbox for `pribble.delivery.transport`, as long as it is there.
    """

    def __init__(self) -> None:
        self.messages: list[BaseMessage] = []
        self.receipts: list[Receipt] = []
        self.address = f"memory:{next(_NUMBERS)}"
        self._faults = Faults()
        self._lost: list[str] = []  # patterns
        self._down: str | None = None
        self._lock = threading.Lock()
        _OUTBOXES[self.address] = self

    @classmethod
    def of_address(cls, address: str) -> Outbox:
        """Returns the outbox that has this `address`; raises `ValueError` where none has."""
        found = _OUTBOXES.get(address)
        if found is None:
            raise ValueError(f'"{address}" is no outbox of this process; ask pribble.testing.Outbox() for its address')
        return found

    # ---- what it answers ----------------------------------------------------------------------------------------

    def refuse(self, pattern: str, code: int = REFUSED[0], text: str = REFUSED[1]) -> None:
        """Refuse recipients whose address is like `pattern`: ``*@closed.example``; case does not count."""
        self._faults.refusals.append(Refusal(pattern, _code(code, 5), text))

    def defer(self, pattern: str, times: int | None = None, code: int = DEFERRED[0], text: str = DEFERRED[1]) -> None:
        """Defer recipients whose address is like `pattern`, each so many `times`, or always."""
        self._faults.refusals.append(Refusal(pattern, _code(code, 4), text, times))

    def lose(self, pattern: str) -> None:
        """Take the message for recipients whose address is like `pattern`, and give no answer: they are in doubt."""
        self._lost.append(pattern)

    def be_down(self, words: str | None = "cannot be reached") -> None:
        """Take nothing from now on: `deliver` raises `DeliveryError` with these words; None: take messages again."""
        self._down = words

    def clear(self) -> None:
        """Forget what was sent; what is answered stays."""
        with self._lock:
            self.messages.clear()
            self.receipts.clear()

    # ---- a transport --------------------------------------------------------------------------------------------

    def deliver(
        self,
        message: BaseMessage,
        *,
        recipients: Sequence[str] | None = None,
        committing: Committing | None = None,
    ) -> Receipt:
        chosen = recipients_of_try(message, recipients)
        if self._down is not None:
            raise DeliveryError(f"the outbox {self._down}")
        bytes(message)  # what cannot be written is found here, as it would be by a server
        outcomes: dict[str, Outcome] = {}
        for one in chosen:
            if (said := self._faults.answer(one)) is not None:
                reply = Reply(said.code, (said.text.encode("utf-8", "replace"),))
                outcomes[one] = outcome_of_reply(one, "refused" if said.code >= 500 else "deferred", reply)
        taken = [one for one in chosen if one not in outcomes]
        if taken and committing is not None:
            committing(taken)
        for one in taken:
            if any(is_like(one, pattern) for pattern in self._lost):
                outcomes[one] = outcome_of_words(one, "in_doubt", "no answer to the message")
            else:
                outcomes[one] = outcome_of_reply(one, "accepted", Reply(250, (b"2.0.0 kept",)))
        receipt = receipt_of(message, chosen, outcomes)
        with self._lock:
            if taken:
                self.messages.append(message)
            self.receipts.append(receipt)
        return receipt


_NUMBERS = itertools.count(1)
_OUTBOXES: WeakValueDictionary[str, Outbox] = WeakValueDictionary()


def _code(code: int, first: int) -> int:
    if code // 100 != first:
        raise ValueError(f"the code of such an answer has three digits and begins with {first}, not {code}")
    return code
