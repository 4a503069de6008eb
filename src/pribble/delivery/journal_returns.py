"""What a journal learns from reports of servers: whom a message that was taken came back from."""

from __future__ import annotations

from collections.abc import Collection, Iterable

from sqlalchemy import Connection, bindparam, func, select, update

from pribble.delivery.journal import Journal
from pribble.delivery.journal_tables import IS_RETURNED, MESSAGES, RECIPIENTS, clock
from pribble.mime.delivery_report import DeliveryReport, ReportedRecipient
from pribble.records import record

# A message that is in doubt was taken, if it comes back.
_MAY_RETURN = ("accepted", "in_doubt", "committing")
_BY_ID = select(MESSAGES.c.id).where(MESSAGES.c.message_id == bindparam("p_id")).limit(2)
_BY_SENDER = select(MESSAGES.c.id).where(MESSAGES.c.envelope_sender == bindparam("p_sender")).limit(2)
_RETURNED = select(RECIPIENTS.c.address).where(IS_RETURNED, RECIPIENTS.c.enhanced.like("5.%"))
_RETURNED_AMONG = _RETURNED.where(
    func.lower(RECIPIENTS.c.address).in_(bindparam("p_addresses", expanding=True)),
)
_CHUNK = 500


@record(frozen=True, slots=True)
class Returns:
    """What a report came to: whether the message `is_known`, and the recipients that it was `returned` for, now."""

    is_known: bool
    returned: tuple[str, ...] = ()


def note_returns(journal: Journal, report: DeliveryReport) -> Returns:
    """Keep what a report says: recipients that a message could not be delivered to are "returned", with the words.

    The message is known by its envelope id, the id in its header, or an envelope sender that it alone has.
    """
    with journal.transaction() as connection:
        message = _message(connection, report)
        if message is None:
            return Returns(False)
        now = clock(connection)
        query = select(RECIPIENTS.c.id, RECIPIENTS.c.address, RECIPIENTS.c.state).where(RECIPIENTS.c.message == message)
        people = connection.execute(query).all()
        by_address = {address.casefold(): (number, address, state) for number, address, state in people}
        returned = []
        for one in report.recipients:
            known = next((found for addr in one.addresses if (found := by_address.get(addr.casefold()))), None)
            if known is None and len(people) == 1:  # it was forwarded, and came back from there
                known = next(iter(by_address.values()))
            if one.action == "failed" and known is not None and known[2] in _MAY_RETURN:
                connection.execute(update(RECIPIENTS).where(RECIPIENTS.c.id == known[0]).values(_said(one, now)))
                returned.append(known[1])
        return Returns(True, tuple(returned))


def _said(one: ReportedRecipient, now: float) -> dict[str, object]:
    return {"state": "returned", "code": one.code, "enhanced": one.status, "words": one.words, "changed": now}


def _message(connection: Connection, report: DeliveryReport) -> int | None:
    """Returns the number of the message that a report is about; None where it is not in the journal."""
    ids = (report.envelope_id and f"<{report.envelope_id.strip('<>')}>", report.message_id)
    tries = [(_BY_ID, {"p_id": one}) for one in ids if one] + [(_BY_SENDER, {"p_sender": one}) for one in report.to]
    for query, given in tries:
        found = connection.scalars(query, given).all()
        if len(found) == 1:
            return int(found[0])
    return None


def without_mail(addresses: Iterable[str], listed: Collection[str], returned: Collection[str]) -> frozenset[str]:
    """Returns who of these addresses gets nothing: whoever is `listed`, case folded, or messages came back from, in
    lower case."""
    return frozenset(one for one in addresses if one.casefold() in listed or one.lower() in returned)


def returned_addresses(journal: Journal) -> set[str]:
    """Returns the addresses, in lower case, that messages came back from for good (5.y.z)."""
    with journal.transaction() as connection:
        return {one.lower() for one in connection.scalars(_RETURNED)}


def returned_among(journal: Journal, addresses: Iterable[str]) -> set[str]:
    """Returns which of these addresses, in lower case, messages came back from for good (5.y.z)."""
    wanted = sorted({one.lower() for one in addresses})
    found: set[str] = set()
    with journal.transaction() as connection:
        for start in range(0, len(wanted), _CHUNK):
            found |= set(connection.scalars(_RETURNED_AMONG, {"p_addresses": wanted[start : start + _CHUNK]}))
    return {one.lower() for one in found}
