"""What all transports have in common."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol, Self, runtime_checkable

from pribble.errors import DeliveryError
from pribble.mime.base import BaseMessage

# Called when all of a message is said but the word that makes the other side take it, with those who will get it.  What
# it raises is passed on, and the message is not sent.
Committing = Callable[[Sequence[str]], None]


@runtime_checkable
class Searchable(Protocol):
    """A transport of which one can ask whether a message is there."""

    def holds(self, message: BaseMessage, *, recipients: Sequence[str] | None = None) -> bool:
        """Returns whether the message is there, whole, as a try to deliver it to `recipients` would have left it.

        Raises `DeliveryError` where it cannot be found out.
        """


class Unconnected:
    """A transport that has no connection to keep."""

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        """There is nothing to close."""


def recipients_of_try(message: BaseMessage, only: Sequence[str] | None) -> tuple[str, ...]:
    """Returns whom a try is for: all of the envelope, or `only` these of it.

    Raises `DeliveryError` for a message that is for nobody, `ValueError` for an address that is not in its envelope.
    """
    known = message.envelope.recipients
    if not known:
        raise DeliveryError("the message has no recipients", is_lasting=True)
    if only is None:
        return known
    if not only or not set(only) <= set(known):
        raise ValueError("a try is for some of the recipients of the message")
    return tuple(dict.fromkeys(only))
