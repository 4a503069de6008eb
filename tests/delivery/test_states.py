"""The table of states, row by row, against a server that is told what to say; and what the table must not say."""

from __future__ import annotations

import socket
import ssl
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack

from pribble import Attachment, DeliveryError, Message
from pribble.delivery.states import (
    ANSWERS,
    MOVES,
    ROWS,
    STATES,
    STEPS,
    Age,
    Answer,
    Decision,
    Step,
    decide,
    state_before,
)
from pribble.delivery.submitting import Smtp
from tests.delivery.certificates import Authority
from tests.delivery.scripted import CLOSE, ENDLESS, SILENCE, TLS, Act, Asked, Reply, Scripted
from tests.support import FEWER, Case, slow

# Each form in which an answer can come.
FORMS: dict[Answer, tuple[Reply, ...]] = {
    "ok": (b"250 2.0.0 ok\r\n", b"250\r\n", b"250-2.0.0 ok\r\n250 so it is\r\n", b"299 ok\n"),
    "more": (b"354 go on\r\n",),
    "later": (b"451 4.3.0 not now\r\n", b"450\r\n"),
    "no": (b"554 5.3.0 never\r\n", b"550-no\r\n550 never\r\n"),
    "full": (b"452 4.5.3 too many\r\n", b"452\r\n", b"552 5.5.3 too many\r\n", b"552\r\n"),
    "closing": ((b"421 4.3.2 bye\r\n", CLOSE), b"421-bye\r\n421 bye\r\n"),
    "closed": (CLOSE, (b"25", CLOSE), (b"250-half\r\n", CLOSE)),
    "silent": (SILENCE, (b"25", SILENCE), (b"250-half\r\n25", SILENCE)),
    "broken": (
        b"hello\r\n",
        b"\r\n",
        b"199 x\r\n",
        b"666 x\r\n",
        b"2500 x\r\n",
        b"25\xb2 x\r\n",
        b"250-a\r\n251 b\r\n",
        b"2" * 5000,
        ENDLESS,
    ),
}
OWN_FORMS: dict[tuple[Step, Answer], tuple[Reply, ...]] = {
    ("greeting", "ok"): (b"220 here\r\n", b"220-here\r\n220 I am\r\n"),
    ("greeting", "broken"): (*FORMS["broken"], b"250 not the greeting\r\n"),
    ("starttls", "ok"): ((b"220 go on\r\n", TLS),),
    ("starttls", "broken"): (*FORMS["broken"], b"250 not the code\r\n", b"220 go on\r\n250 injected\r\n"),
    ("auth", "ok"): (b"235 2.7.0 welcome\r\n",),
    ("auth", "broken"): (*FORMS["broken"], b"250 not the code\r\n"),
    ("body", "broken"): FORMS["broken"][:-1],  # what has no end would begin at no certain moment
    ("tls", "closed"): ((b"220 go on\r\n", CLOSE),),
    ("tls", "silent"): ((b"220 go on\r\n", SILENCE),),
}
VERBS: dict[Step, str] = {"greeting": "connect", "body": "data"}


def cases() -> Iterator[tuple[Step, Answer, Age, Reply]]:
    """Every row, each of its answers in each form, on a connection of each of its ages; in `make quick` in one form."""
    for row in ROWS:
        for answer in row.answers:
            for age in row.ages:
                forms = OWN_FORMS.get((row.step, answer), FORMS[answer])
                for form in forms[:1] if FEWER else forms:
                    yield row.step, answer, age, form


def message(*attachments: Attachment) -> Message:
    people = ["a@x.example", "b@x.example", "c@x.example"]
    return Message(sender="s@x.example", to=people, text="x", attachments=attachments)


SMALL = message()
# More than fits where nobody reads.
LARGE = message(Attachment("large.bin", bytes(6_000_000)))


class Walk:
    """One case: a message that is met by a form of an answer, and one before and behind it."""

    def __init__(
        self, step: Step, answer: Answer, age: Age, form: Reply, authority: Authority, context: ssl.SSLContext
    ) -> None:
        self.step, self.answer, self.age, self.form = step, answer, age, form
        self.authority, self.context = authority, context
        self.decision = decide(step, answer, age)
        self.has_met = False

    def script(self, asked: Asked) -> Reply | None:
        """The form, once: at its step, of the second message where the connection is to be a used one."""
        if self.step == "rset" and asked.verb == "rcpt" and asked.message == 0 and asked.connection == 0:
            return b"550 5.1.1 no\r\n"  # so that RSET goes before the next one
        is_here = asked.verb == VERBS.get(self.step, self.step if self.step != "tls" else "starttls")
        if self.step == "rcpt":
            is_here = is_here and "b@" in asked.line
        if self.age == "reused" and self.step != "rset":
            is_here = is_here and asked.message == 1
        if not is_here or self.has_met:
            return None
        self.has_met = True
        if self.step == "body":
            # What is said before the dot comes with the permission to send; whoever says nothing reads nothing either.
            rest = [self.form] if isinstance(self.form, bytes | Act) else list(self.form)
            joined = b"354 go on\r\n" + b"".join(one for one in rest if isinstance(one, bytes))
            return [joined, *(one for one in rest if isinstance(one, Act))]
        return self.form

    def run(self) -> list[str]:
        """Returns what is not as the table says."""
        wrong: list[str] = []

        def expect(what: str, found: object, expected: object) -> None:
            if found != expected:
                wrong.append(f"{what}: {found!r}, not {expected!r}")

        with ExitStack() as stack:
            server = stack.enter_context(Scripted(self.script, self.context))
            way = Smtp(
                "localhost",
                server.port,
                user="me" if self.step == "auth" else None,
                password="tide-table",
                plain=self.step not in ("starttls", "tls"),
                authorities=self.authority.file,
                longest=0.4 if self.answer == "silent" else 20,
            )
            stack.enter_context(way)
            if self.age == "reused":
                way.deliver(SMALL)
            before = server.connections
            committed: list[tuple[str, ...]] = []
            try:
                met = LARGE if self.step == "body" and self.answer in ("closed", "silent") else SMALL
                receipt = way.deliver(met, committing=lambda people: committed.append(tuple(people)))
            except DeliveryError as error:
                expect("raised, though next is", self.decision.next in ("stop", "pause"), True)
                expect("is_lasting", error.is_lasting, self.decision.next == "stop")
                expect("MAIL was sent", "mail" in server.verbs(), False)
                expect("committed", committed, [])
                return wrong
            states = {one.recipient[0]: one.state for one in receipt.outcomes}
            expect("outcomes", states, self._expected())
            expect("committed", [one[0] for people in committed for one in people], self._expected_commits())
            if self.decision.next in ("close", "continue", "reset", "again"):
                sent = len(server.bodies)
                expect("the next one", way.deliver(SMALL).is_accepted, True)
                expect("its body", len(server.bodies), sent + 1)
            resets = 1 if self.step == "rset" or self.decision.next == "reset" else 0
            expect("RSET", server.verbs().count("rset"), resets)
            fresh = 1 if before == 0 else 0
            more = 1 if self.decision.next in ("close", "reconnect") else 0
            expect("connections", server.connections - before, fresh + more)
        return wrong

    def _expected(self) -> dict[str, str]:
        """What becomes of each recipient."""
        decision = self.decision
        if decision.next in ("again", "reconnect") or (decision.next == "continue" and self.step != "rcpt"):
            return dict.fromkeys("abc", "accepted")  # in the end
        if self.step == "rcpt" and decision.next == "continue":
            return {
                **dict.fromkeys("abc", "accepted"),
                "b": decision.state if decision.state != "started" else "accepted",
            }
        return dict.fromkeys("abc", decision.state)

    def _expected_commits(self) -> list[str]:
        """Whom a journal would hold as committing, in this order."""
        if self.step == "dot":
            return ["a", "b", "c"]
        if self.decision.next == "again":
            return ["a", "c", "b"]
        return [one for one, state in self._expected().items() if state == "accepted"]


class Table(Case):
    @slow
    def test_every_row(self) -> None:
        authority = Authority(self.folder().path)
        context = authority.context()
        walks = [
            Walk(step, answer, age, form, authority, context)
            for step, answer, age, form in cases()
            if step != "connect" and not (step == "tls" and answer in ("ok", "no", "broken"))
        ]
        self.assertGreater(len(walks), 80 if FEWER else 250)
        with ThreadPoolExecutor(16) as pool:
            for walk, done in [(walk, pool.submit(walk.run)) for walk in walks]:
                with self.subTest(step=walk.step, answer=walk.answer, age=walk.age, form=walk.form):
                    self.assertEqual(done.result(), [])

    def test_a_connection_that_is_not_made(self) -> None:
        message = Message(sender="s@x.example", to="a@x.example", text="x")
        with ExitStack() as stack:
            closed = socket.create_server(("127.0.0.1", 0))
            port = closed.getsockname()[1]
            closed.close()
            full = stack.enter_context(socket.create_server(("127.0.0.1", 0), backlog=0))
            waiting = [stack.enter_context(socket.socket()) for _ in range(4)]
            for one in waiting:  # nobody accepts them, and there is no room for more
                one.setblocking(False)
                one.connect_ex(full.getsockname())
            for answer, host, to in (
                ("closed", "127.0.0.1", port),
                ("silent", "127.0.0.1", full.getsockname()[1]),
                ("no", "a..b", 25),
                ("no", "x" * 70, 25),
                ("no", "\ud800", 25),
            ):
                with self.subTest(answer, host=host[:10]), self.assertRaises(DeliveryError) as caught:
                    Smtp(host, to, longest=0.4).deliver(message)
                decision = decide("connect", answer, "fresh")  # type: ignore[arg-type]
                self.assertEqual(caught.exception.is_lasting, decision.next == "stop", caught.exception)

    def test_every_answer_to_every_step_has_one_meaning(self) -> None:
        met: set[tuple[Step, Answer, Age]] = set()
        for row in ROWS:
            for answer in row.answers:
                for age in row.ages:
                    self.assertNotIn((row.step, answer, age), met)
                    met.add((row.step, answer, age))
                    self.assertEqual(decide(row.step, answer, age), Decision(row.state, row.next))
        self.assertEqual({step for step, _, _ in met}, set(STEPS))
        spoken: set[Answer] = set(ANSWERS) - {"full"}
        for step in STEPS[STEPS.index("mail") :]:
            for age in ("fresh", "reused"):
                expected = spoken | ({"full"} if step == "rcpt" else set())
                self.assertEqual({a for s, a, g in met if (s, g) == (step, age)}, expected, step)
        for step in ("greeting", "ehlo", "starttls", "auth"):
            self.assertEqual({a for s, a, _ in met if s == step}, spoken, step)

    def test_what_it_must_not_say(self) -> None:
        for row in ROWS:
            with self.subTest(row):
                # Only what was wholly said, and not answered, is in doubt; only the dot makes a server take anything.
                self.assertEqual(
                    row.state == "in_doubt",
                    row.step == "dot" and not {"ok", "later", "no", "closing"} & set(row.answers),
                )
                self.assertEqual(row.state == "accepted", (row.step, row.answers) == ("dot", ("ok",)))
                # Without a word of the message nobody has an outcome; 5yz refuses, 4yz does not.
                self.assertEqual(
                    row.state == "planned",
                    row.next in ("again", "reconnect", "pause", "stop") or STEPS.index(row.step) < STEPS.index("mail"),
                )
                self.assertEqual(
                    row.state == "refused", row.answers == ("no",) and STEPS.index(row.step) >= STEPS.index("mail")
                )
                if row.next == "reconnect":
                    self.assertEqual(row.ages, ("reused",))

    def test_every_row_is_a_move(self) -> None:
        moves = {(move.before, move.after) for move in MOVES}
        for row in ROWS:
            before = state_before(row.step)
            self.assertIn(row.state, {before, *(after for start, after in moves if start == before)}, row)
        self.assertEqual({state for move in moves for state in move}, set(STATES))


if __name__ == "__main__":
    unittest.main()
