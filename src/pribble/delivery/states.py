"""What becomes of a recipient: the states, and the one table that says which reply leads to which.

The table is data.  The transaction looks its decisions up here, docs/delivery.md prints it and draws the diagram from
it, and the tests walk it row by row.

    planned → started → committing → accepted | refused | deferred | in_doubt

Only a recipient that was committing, and got no answer, is in doubt: a server that had the whole message may have taken
it (RFC 1047).  Whoever is planned or started can be tried again without asking anybody.
"""

from __future__ import annotations

from typing import Literal, get_args

from pribble.records import record

State = Literal[
    "planned",
    "started",
    "committing",
    "accepted",
    "refused",
    "deferred",
    "in_doubt",
    "expired",
    "suppressed",
    "returned",
]

# What was sent, or awaited, in the order of a conversation.
Step = Literal["connect", "greeting", "ehlo", "starttls", "tls", "auth", "rset", "mail", "rcpt", "data", "body", "dot"]

# What came back.
Answer = Literal[
    "ok",  # 2yz
    "more",  # 3yz: the command was understood, and more is wanted
    "later",  # 4yz
    "no",  # 5yz
    "full",  # to RCPT: 452, or a 552 that is not about one mailbox (RFC 5321 4.5.3.1.10)
    "closing",  # 421 (RFC 5321 3.8)
    "closed",  # the end of the connection, also in the middle of a reply
    "silent",  # nothing, or half a reply, until the time limit of the step
    "broken",  # what is no reply: no code, too long, out of place
]

# Whether a message went over this connection before.
Age = Literal["fresh", "reused"]

Next = Literal[
    "continue",  # with the next step, or the next recipient
    "again",  # these recipients go in a further transaction of the same message (RFC 5321 4.5.3.1.10)
    "reset",  # the message ends here; RSET goes before the next one (RFC 5321 4.1.1.5)
    "close",  # the message ends here, and so does the connection
    "reconnect",  # the same at once on a fresh connection; no try is counted
    "pause",  # nothing was said of the message: the connection ends, and another one is for later
    "stop",  # nothing was said of the message, and another connection would not help
]


@record(frozen=True, slots=True)
class Row:
    """A `step` that gets one of these `answers`, on a connection of one of these `ages`: the state of the recipients
    whom it is about, and what is `next`."""

    step: Step
    answers: tuple[Answer, ...]
    ages: tuple[Age, ...]
    state: State
    next: Next


@record(frozen=True, slots=True)
class Decision:
    """What an answer means: the `state` of the recipients whom it is about, and what is `next`."""

    state: State
    next: Next


_FRESH: tuple[Age, ...] = ("fresh",)
_REUSED: tuple[Age, ...] = ("reused",)
_ANY: tuple[Age, ...] = ("fresh", "reused")

ROWS: tuple[Row, ...] = (
    # Before the message: whoever it is for stays planned.
    Row("connect", ("ok",), _FRESH, "planned", "continue"),
    Row("connect", ("closed", "silent"), _FRESH, "planned", "pause"),
    Row("connect", ("no",), _FRESH, "planned", "stop"),  # a name that is no host's
    Row("greeting", ("ok",), _FRESH, "planned", "continue"),
    Row("greeting", ("more", "later", "closing", "closed", "silent", "broken"), _FRESH, "planned", "pause"),
    Row("greeting", ("no",), _FRESH, "planned", "stop"),
    Row("ehlo", ("ok",), _FRESH, "planned", "continue"),
    Row("ehlo", ("more", "later", "closing", "closed", "silent", "broken"), _FRESH, "planned", "pause"),
    Row("ehlo", ("no",), _FRESH, "planned", "stop"),
    Row("starttls", ("ok",), _FRESH, "planned", "continue"),
    Row("starttls", ("more", "later", "closing", "closed", "silent", "broken"), _FRESH, "planned", "pause"),
    Row("starttls", ("no",), _FRESH, "planned", "stop"),  # also where it is not offered
    Row("tls", ("ok",), _FRESH, "planned", "continue"),
    Row("tls", ("closed", "silent", "broken"), _FRESH, "planned", "pause"),
    Row("tls", ("no",), _FRESH, "planned", "stop"),  # a certificate that does not convince
    Row("auth", ("ok",), _FRESH, "planned", "continue"),
    Row("auth", ("more", "later", "closing", "closed", "silent", "broken"), _FRESH, "planned", "pause"),
    Row("auth", ("no",), _FRESH, "planned", "stop"),
    Row("rset", ("ok",), _REUSED, "planned", "continue"),
    Row("rset", ("more", "later", "no", "closing", "closed", "silent", "broken"), _REUSED, "planned", "reconnect"),
    # The envelope: MAIL is about all recipients, RCPT about its own.
    Row("mail", ("ok",), _ANY, "started", "continue"),
    Row("mail", ("later",), _ANY, "deferred", "reset"),
    Row("mail", ("no",), _ANY, "refused", "reset"),
    Row("mail", ("closing", "closed"), _FRESH, "deferred", "close"),
    Row("mail", ("closing", "closed"), _REUSED, "planned", "reconnect"),
    Row("mail", ("more", "silent", "broken"), _ANY, "deferred", "close"),
    Row("rcpt", ("ok",), _ANY, "started", "continue"),
    Row("rcpt", ("later",), _ANY, "deferred", "continue"),
    Row("rcpt", ("no",), _ANY, "refused", "continue"),
    Row("rcpt", ("full",), _ANY, "planned", "again"),  # once somebody was taken; else as "later" or "no"
    Row("rcpt", ("more", "closing", "closed", "silent", "broken"), _ANY, "deferred", "close"),
    # The message: about all who were taken.
    Row("data", ("more",), _ANY, "started", "continue"),
    Row("data", ("later",), _ANY, "deferred", "reset"),
    Row("data", ("no",), _ANY, "refused", "reset"),
    Row("data", ("ok", "closing", "closed", "silent", "broken"), _ANY, "deferred", "close"),
    # What a server says before it has the dot is an answer; without the dot, it cannot take the message.
    Row("body", ("later", "ok", "more", "closing", "closed", "silent", "broken"), _ANY, "deferred", "close"),
    Row("body", ("no",), _ANY, "refused", "close"),
    Row("dot", ("ok",), _ANY, "accepted", "continue"),
    Row("dot", ("later",), _ANY, "deferred", "reset"),
    Row("dot", ("no",), _ANY, "refused", "reset"),
    Row("dot", ("closing",), _ANY, "deferred", "close"),
    Row("dot", ("more", "closed", "silent", "broken"), _ANY, "in_doubt", "close"),
)

_DECISIONS = {
    (row.step, answer, age): Decision(row.state, row.next) for row in ROWS for answer in row.answers for age in row.ages
}


def decide(step: Step, answer: Answer, age: Age) -> Decision:
    """Returns what `answer` to `step` means, on a connection of this `age`."""
    return _DECISIONS[step, answer, age]


@record(frozen=True, slots=True)
class Move:
    """A recipient passes from the state `before` to `after`; `why` says when."""

    before: State
    after: State
    why: str


# What a recipient can pass through.
MOVES: tuple[Move, ...] = (
    Move("planned", "started", "a try begins"),
    Move("started", "planned", "nothing was said of it, or it goes in a further transaction"),
    Move("started", "deferred", "4yz, or no answer before the dot"),
    Move("started", "refused", "5yz"),
    Move("started", "committing", "the body is sent, and the dot is next"),
    Move("committing", "accepted", "2yz to the dot"),
    Move("committing", "refused", "5yz to the dot"),
    Move("committing", "deferred", "4yz to the dot"),
    Move("committing", "in_doubt", "no answer to the dot"),
    Move("deferred", "planned", "its time has come again"),
    Move("deferred", "expired", "its time is over"),
    Move("planned", "expired", "its time is over"),
    Move("planned", "suppressed", "the address is on a list of those who get nothing"),
    Move("accepted", "returned", "a message came back"),
    Move("in_doubt", "returned", "a message came back"),
    Move("in_doubt", "accepted", "somebody looked, and it is there"),
    Move("in_doubt", "planned", "somebody looked, and it is not there"),
)

STATES: tuple[State, ...] = get_args(State)
STEPS: tuple[Step, ...] = get_args(Step)
ANSWERS: tuple[Answer, ...] = get_args(Answer)


def state_before(step: Step) -> State:
    """Returns the state of a recipient while an answer to `step` is awaited."""
    return "committing" if step == "dot" else "started"
