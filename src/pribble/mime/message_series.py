"""Messages that differ in whom they are to and what they say: what they have in common is checked and written once."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import Any, Unpack

from pribble.errors import PribbleError
from pribble.mime.address import AddressList, Mailbox, Recipients, recipients
from pribble.mime.base import InlinePicture
from pribble.mime.header import checked
from pribble.mime.message import Message, MessageOptions, message_id_of, of_values, this_second
from pribble.mime.message_header import further_fields, is_international, own_fields, sender_fields
from pribble.mime.part import Part, encoded_part, picture_part

# What a message may have of its own and still cost little; whatever else makes it cost as much as any.
_CHEAP = frozenset({"subject", "date", "seed"})
_MAYBE_TEXT = (str, type(None))
_MOST_PICTURES = 32


class MessageSeries:
    """Makes messages of one sender that have the same options.

    `sender` and `options` are those of `Message`, and so are its errors, which come at once.  A message of a series is,
    octet for octet, the `Message` that is given the same, and costs less; a file that is attached to all of them is
    encoded once.  A series does not change: any number of threads may use it.
    """

    def __init__(self, *, sender: Mailbox, id_domain: str | None = None, **options: Unpack[MessageOptions]) -> None:
        self._given: dict[str, Any] = {"sender": sender, "id_domain": id_domain, **options}
        common = self._common = Message(**self._given)
        self._fields: dict[bool, tuple[bytes, bytes]] = {}  # those before and behind a message's own
        self._is_international = is_international(common)
        # Its attributes, and of what it keeps, what is the same in each message.
        self._values = {name: value for name, value in vars(common).items() if not name.startswith("_")}
        self._values["_files"] = tuple(map(encoded_part, common._files))
        self._parts: dict[int, tuple[InlinePicture, str, Part]] = {}

    def message(
        self,
        *,
        to: Recipients = (),
        text: str | None = None,
        html: str | None = None,
        pictures: Iterable[InlinePicture] = (),
        **own: Unpack[MessageOptions],
    ) -> Message:
        """Returns a message with the options of the series; those of its `own` go before.

        The arguments are those of `Message`, and so are its errors.
        """
        if not isinstance(pictures, (list, tuple)):
            pictures = tuple(pictures)
        if own.keys() <= _CHEAP and self._common.invitation is None:
            try:
                return self._cheap(recipients(to, "To"), text, html, tuple(pictures), own)
            except (TypeError, AttributeError, ValueError, PribbleError):
                pass  # what is wrong is said below, as of any message
        return Message(**{**self._given, "to": to, "text": text, "html": html, "pictures": pictures, **own})

    def _cheap(
        self,
        to: AddressList,
        text: str | None,
        html: str | None,
        pictures: tuple[InlinePicture, ...],
        own: MessageOptions,
    ) -> Message:
        if not (isinstance(text, _MAYBE_TEXT) and isinstance(html, _MAYBE_TEXT)) or (html is None and pictures):
            raise TypeError
        given = self._given
        seed = own.get("seed", given.get("seed"))
        if seed is None:
            seed = os.urandom(16)
        message_id = given.get("message_id") or message_id_of(seed, self._common.authors[0].domain)
        subject = own.get("subject", self._common.subject)
        utf8 = self._is_international or any(address.needs_smtputf8 for address in to)
        made = of_values(
            self._values,
            {
                "to": to,
                "text": text,
                "html": html,
                "pictures": pictures,
                "subject": None if subject is None else checked("Subject", subject, text=True),
                "date": own.get("date") or given.get("date") or this_second(),
                "seed": seed,
                "message_id": message_id,
                "_international": utf8,
                "_inline": () if html is None else tuple(dict(map(self._part, pictures)).values()),
            },
        )
        if utf8 not in self._fields:
            self._fields[utf8] = sender_fields(self._common, utf8), further_fields(self._common, utf8)
        before, behind = self._fields[utf8]
        vars(made)["_header"] = before + own_fields(made, utf8) + behind
        return made

    def _part(self, picture: InlinePicture) -> tuple[str, Part]:
        """Returns the Content-ID of a picture, and its part; those that are the same in all messages are soon known
        again where others, which are of one message each, have filled the room."""
        known = self._parts.get(id(picture))
        if known is not None and known[0] is picture:
            return known[1:]
        content_id = picture.content_id(self._common.id_domain)
        part = picture_part(picture.file_name, picture.type, picture.base64_body, content_id)
        if len(self._parts) >= _MOST_PICTURES:
            self._parts.clear()
        self._parts[id(picture)] = picture, content_id, part
        return content_id, part
