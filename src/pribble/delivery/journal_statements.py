"""The statements that a journal runs for each message: built once, since building one takes longer than running it.

Their parameters begin with ``p_``, which no column does.
"""

from __future__ import annotations

from sqlalchemy import ColumnElement, Float, bindparam, func, or_, select, update

from pribble.delivery.claims import LONGEST_PAUSE
from pribble.delivery.journal_tables import MESSAGES, RECIPIENTS

OPEN = ("started", "committing", "in_doubt")
WAITING = ("planned", "deferred")

# Not as IN: a list could not go into a statement that is run for many parameters at once.
_IS_OPEN = or_(*(RECIPIENTS.c.state == state for state in OPEN))
_MINE = (RECIPIENTS.c.message == bindparam("p_message"), RECIPIENTS.c.attempt == bindparam("p_attempt"))


def is_due_at(now: ColumnElement[float] | float) -> ColumnElement[bool]:
    """Returns the condition that a recipient is due.

    Also whoever would wait longer than anybody has to: the clock has been set back since.
    """
    return or_(RECIPIENTS.c.not_before <= now, RECIPIENTS.c.not_before > now + LONGEST_PAUSE)


# Messages that nobody else has become this process's.
CLAIM = (
    update(MESSAGES)
    .where(MESSAGES.c.id.in_(bindparam("p_messages", expanding=True)), MESSAGES.c.worker.is_(None))
    .values(
        attempt=MESSAGES.c.attempt + 1,
        worker=bindparam("p_worker"),
        lease=bindparam("p_lease"),
        date=func.coalesce(MESSAGES.c.date, bindparam("p_date")),
    )
)
CLAIMED = (
    select(MESSAGES).where(MESSAGES.c.id.in_(bindparam("p_messages", expanding=True))).order_by(MESSAGES.c.position)
)
# Whom of them it is for, now.
DUE = (
    select(RECIPIENTS.c.id, RECIPIENTS.c.message, RECIPIENTS.c.address, RECIPIENTS.c.tries, RECIPIENTS.c.first_try)
    .where(
        RECIPIENTS.c.message.in_(bindparam("p_messages", expanding=True)),
        RECIPIENTS.c.state.in_(WAITING),
        is_due_at(bindparam("p_now", type_=Float)),
    )
    .order_by(RECIPIENTS.c.id)
)
START = (
    update(RECIPIENTS)
    .where(RECIPIENTS.c.id.in_(bindparam("p_recipients", expanding=True)))
    .values(
        state="started",
        changed=bindparam("p_now"),
        attempt=select(MESSAGES.c.attempt).where(MESSAGES.c.id == RECIPIENTS.c.message).scalar_subquery(),
    )
)
# The fence: it changes a row for each address, or the claim is somebody else's.
COMMIT = (
    update(RECIPIENTS)
    .where(*_MINE, RECIPIENTS.c.state == "started", RECIPIENTS.c.address == bindparam("p_address"))
    .values(
        state="committing",
        changed=bindparam("p_now"),
        first_try=func.coalesce(RECIPIENTS.c.first_try, bindparam("p_now")),
    )
)
COMMITTED = (
    update(MESSAGES)
    .where(MESSAGES.c.id == bindparam("p_message"))
    .values(
        lease=bindparam("p_lease"),
        message_id=bindparam("p_message_id"),
        content=bindparam("p_content"),
        envelope_sender=bindparam("p_sender"),
    )
)
SETTLE = (
    update(RECIPIENTS)
    .where(*_MINE, RECIPIENTS.c.address == bindparam("p_address"), _IS_OPEN)
    .values(
        state=bindparam("p_state"),
        tries=bindparam("p_tries"),
        code=bindparam("p_code"),
        enhanced=bindparam("p_enhanced"),
        words=bindparam("p_words"),
        changed=bindparam("p_now"),
        not_before=bindparam("p_not_before"),
        first_try=func.coalesce(RECIPIENTS.c.first_try, bindparam("p_now")),
    )
)
# Whoever was started and got no outcome has not been tried.
PLAN_AGAIN = update(RECIPIENTS).where(*_MINE, RECIPIENTS.c.state == "started").values(state="planned")
# And whoever was at the last word, and got none, may have it.
DOUBT = update(RECIPIENTS).where(*_MINE, RECIPIENTS.c.state == "committing").values(state="in_doubt")
LET_GO = (
    update(MESSAGES)
    .where(MESSAGES.c.id == bindparam("p_message"), MESSAGES.c.attempt == bindparam("p_attempt"))
    .values(worker=None, lease=None)
)
PLACE = update(MESSAGES).where(MESSAGES.c.id == bindparam("p_message")).values(position=bindparam("p_position"))
