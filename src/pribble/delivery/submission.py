"""One message over one connection: the envelope, the body, the dot; and what each reply means for each recipient.

What an answer means is not decided here but looked up in the table of `pribble.delivery.states`.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence

from pribble.delivery.base import Committing
from pribble.delivery.receipts import FinalState, Outcome, outcome_of_reply, outcome_of_words
from pribble.delivery.replies import Reply, answer_of
from pribble.delivery.smtp import Connection, NoAnswer
from pribble.delivery.states import Answer, Decision, Next, Step, decide
from pribble.mime.base import BaseMessage
from pribble.mime.delivery_report import to_xtext
from pribble.records import record

# How many commands are sent at once: their replies must fit where nobody reads them yet (RFC 2920 3.1).
GROUP = 50
_LONGEST_ID = 100  # characters of an envelope id (RFC 3461 4.4)

# What a message may need, the extension that has it, how it is asked for, and what a server without it lacks
# (RFC 6531 3.4, RFC 6152 2).
_NEEDS = (
    ("smtputf8", "smtputf8", "SMTPUTF8", "takes no addresses outside ASCII"),
    ("8bit", "8bitmime", "BODY=8BITMIME", "takes no octets outside ASCII, which a message nested in this one has"),
)


class Submission:
    """One try to hand over a message to `recipients`.

    `outcomes` fills up by recipient; who has none is `left`.  The same submission can go on over a further connection.
    """

    def __init__(self, message: BaseMessage, recipients: Sequence[str], committing: Committing | None) -> None:
        self.message, self.raw, self.committing = message, bytes(message), committing
        self.sender, self.recipients = message.envelope.sender, recipients
        self.outcomes: dict[str, Outcome] = {}
        # How many recipients a transaction takes, as far as the server let it be known.
        self._most = len(self.recipients)

    @property
    def left(self) -> list[str]:
        """Who has no outcome yet."""
        return [one for one in self.recipients if one not in self.outcomes]

    def end(self, recipients: Sequence[str], state: FinalState, said: Reply | str) -> None:
        """Give those of `recipients` who have no outcome yet the one that a reply, or our own words, mean."""
        for one in recipients:
            if one in self.outcomes:
                continue
            if isinstance(said, Reply):
                self.outcomes[one] = outcome_of_reply(one, state, said)
            else:
                self.outcomes[one] = outcome_of_words(one, state, said)

    def over(self, connection: Connection) -> Next:
        """Submit to all who are left; returns what is next for the connection: "continue", "close" or "reconnect"."""
        if refused := self._refused_here(connection):
            self.end(self.left, "refused", refused)
            return "continue"
        waiting = deque(self.left)
        while recipients := self._next_few(waiting):
            if connection.needs_reset and not connection.reset():
                return "reconnect"
            transaction = _Transaction(self, connection, recipients)
            following = transaction.run()
            connection.age = "reused"
            waiting.extendleft(reversed(transaction.postponed))
            if following == "reset":
                connection.needs_reset = True
            elif following in ("close", "reconnect"):
                return following
        return "continue"

    def _next_few(self, waiting: deque[str]) -> list[str]:
        """Returns, and takes away, as many of those who wait as one transaction may have."""
        few: list[str] = []
        while waiting and len(few) < self._most:
            one = waiting.popleft()
            if one not in self.outcomes:  # what was said of the message may have been said of all
                few.append(one)
        return few

    def _refused_here(self, connection: Connection) -> str | None:
        """Returns why the server could not take the message, if one need not ask it."""
        for need, extension, _, says in _NEEDS:
            if need in self.message.needs and not connection.has_extn(extension):
                return f"{connection} {says} (it offers no {extension.upper()})"
        largest = connection.largest
        if largest is not None and len(self.raw) > largest:
            return f"{connection} takes {largest:,} octets at most, and the message has {len(self.raw):,}"
        return None

    def _mail(self, connection: Connection) -> str:
        options = [option for need, _, option, _ in _NEEDS if need in self.message.needs]
        if connection.has_extn("size"):
            options.append(f"SIZE={len(self.raw)}")
        if connection.has_extn("dsn"):  # RFC 3461 4.3: a report says the envelope's id, and holds no more than a header
            options.append("RET=HDRS")
            envelope_id = to_xtext((self.message.message_id or "").strip("<>"))
            if envelope_id and envelope_id.isascii() and len(envelope_id) <= _LONGEST_ID:
                options.append(f"ENVID={envelope_id}")
        return " ".join((f"MAIL FROM:<{self.sender}>", *options))

    def _rcpt(self, connection: Connection, recipient: str) -> str:
        is_told = connection.has_extn("dsn") and recipient.isascii()
        return f"RCPT TO:<{recipient}>" + (f" ORCPT=rfc822;{to_xtext(recipient)}" if is_told else "")

    def learn(self, taken: int) -> None:
        """Let no further transaction have more recipients than this one took."""
        self._most = max(1, taken)


@record
class _Transaction:
    """MAIL, RCPT, DATA, the body and the dot (RFC 5321 3.3) for `recipients`, once."""

    submission: Submission
    connection: Connection
    recipients: Sequence[str]

    def run(self) -> Next:
        self.taken: list[str] = []
        self.postponed: list[str] = []  # those whom the server takes in another transaction
        following = self._envelope()
        if following != "continue":
            return following
        if not self.taken:
            return "reset"
        return self._body() if (following := self._data()) == "continue" else following

    def _envelope(self) -> Next:
        """Send MAIL and RCPT, many at once where the server can; "again" is remembered, and the rest goes on."""
        connection = self.connection
        commands: list[tuple[Step, str | None, str]] = [("mail", None, self.submission._mail(connection))]
        commands += [("rcpt", one, self.submission._rcpt(connection, one)) for one in self.recipients]
        size = GROUP if connection.has_extn("pipelining") else 1
        for start in range(0, len(commands), size):
            group = commands[start : start + size]
            try:
                connection.send_commands([line for _, _, line in group])
            except NoAnswer as error:
                return self._without_answer(group[0][0], error)
            for step, recipient, _ in group:
                try:
                    reply, answer = connection.read_answer(step)
                except NoAnswer as error:
                    return self._without_answer(step, error)
                following = self._answered(step, recipient, reply, answer)
                if following == "reset":
                    return self._rest_unread(len(group) - 1)
                if following in ("close", "reconnect"):
                    return following
        return "continue"

    def _answered(self, step: Step, recipient: str | None, reply: Reply, answer: Answer) -> Next:
        """Keep what a reply to MAIL or RCPT means; returns what is next."""
        if answer == "full":
            if self.taken and recipient is not None:
                self.submission.learn(len(self.taken))
                self.postponed.append(recipient)
                return "again"
            answer = "later" if reply.code < 500 else "no"
        decision = self._decided(step, answer)
        if decision.next == "reconnect":
            return "reconnect"
        if decision.state == "started":
            if recipient is not None:
                self.taken.append(recipient)
        elif decision.next == "continue" and recipient is not None:
            self._end([recipient], decision, reply)
        else:  # said of the message, or of one recipient as the connection ends: it holds for all without an answer
            self._end(self.submission.left, decision, reply)
        return decision.next

    def _rest_unread(self, count: int) -> Next:
        """Read the replies to the commands that were sent with a MAIL that was not taken; they mean nothing."""
        try:
            answers = [self.connection.read_answer("rcpt")[1] for _ in range(count)]
        except NoAnswer:
            return "close"
        return "close" if "closing" in answers else "reset"

    def _data(self) -> Next:
        try:
            self.connection.send_commands(["DATA"])
            reply, answer = self.connection.read_answer("data")
        except NoAnswer as error:
            return self._without_answer("data", error)
        decision = self._decided("data", answer)
        if decision.state != "started":
            self._end(self.submission.left, decision, reply)
        return decision.next

    def _body(self) -> Next:
        """Send the body; then, when that is known to be about to happen, the dot."""
        connection = self.connection
        try:
            try:
                connection.send_body(self.submission.raw)
                early = connection.early_reply()
            except NoAnswer as error:
                if error.answer != "closed":
                    raise
                early = connection.last_words()  # why it closed
                if early is None:
                    raise
        except NoAnswer as error:
            return self._without_answer("body", error)
        if early is not None:
            decision = self._decided("body", answer_of("body", early))
            self._end(self.taken, decision, early)
            return self._closed_for_all(decision, early)
        if self.submission.committing is not None:
            self.submission.committing(tuple(self.taken))
        try:
            connection.send_dot()
            reply, answer = connection.read_answer("dot")
        except NoAnswer as error:
            return self._without_answer("dot", error)
        decision = self._decided("dot", answer)
        self._end(self.taken, decision, reply)
        return self._closed_for_all(decision, reply)

    def _decided(self, step: Step, answer: Answer) -> Decision:
        return decide(step, answer, self.connection.age)

    def _without_answer(self, step: Step, error: NoAnswer) -> Next:
        decision = self._decided(step, error.answer)
        if decision.next == "reconnect":
            return "reconnect"
        words = f"{self.connection}: {error.words}"
        self._end(self.taken if step == "dot" else self.recipients, decision, words)
        # Of those of a further transaction nothing was said yet.
        self.submission.end(self.submission.left, "deferred", words)
        return decision.next

    def _closed_for_all(self, decision: Decision, reply: Reply) -> Next:
        """Returns what is next; where the connection ends, whoever would have gone in a further transaction waits."""
        if decision.next == "close":
            self.submission.end(self.submission.left, "deferred", reply)
        return decision.next

    def _end(self, recipients: Sequence[str], decision: Decision, said: Reply | str) -> None:
        assert decision.state in ("accepted", "refused", "deferred", "in_doubt")
        self.submission.end(recipients, decision.state, said)
