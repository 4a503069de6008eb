"""Many messages of one template that have a sender and options in common."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Unpack

from pribble.mime.address import Mailbox, Recipients
from pribble.mime.message import Message, MessageOptions
from pribble.mime.message_series import MessageSeries
from pribble.pictures.picture import Picture
from pribble.rendering.rendering import Rendering, checked_options, message_in_series

if TYPE_CHECKING:
    from pribble.template import Template


class TemplateSeries:
    """Makes messages of a template: what is the same in all of them is checked and written once, and files that are
    attached to all are encoded once.

    Made by `Template.series`.  It does not change: any number of threads may use it.
    """

    def __init__(self, template: Template, sender: Mailbox, options: MessageOptions) -> None:
        self.template = template
        checked_options(options)
        self._series = MessageSeries(sender=sender, id_domain=template.folder.options.id_domain, **options)

    def message(
        self,
        data: Any,
        *,
        to: Recipients,
        locale: str | None = None,
        timezone: str | None = None,
        pictures: Sequence[Picture] = (),
        **own: Unpack[MessageOptions],
    ) -> Message:
        """Returns the template filled with `data`, as a message of the series.

        It is the message that ``template.render(data, …).message(sender=…, to=…, …)`` gives, octet for octet where
        `date` and `seed` are the same.  Options of its `own` go before those of the series; with `subject`, `date` and
        `seed` alone it costs the least.  Raises what `Template.render` and `Rendering.message` raise.
        """
        checked_options(own)
        rendering = self.template.render(data, locale=locale, timezone=timezone)
        return self.of(rendering, to=to, pictures=pictures, **own)

    def of(
        self, rendering: Rendering, *, to: Recipients, pictures: Sequence[Picture] = (), **own: Unpack[MessageOptions]
    ) -> Message:
        """Returns a rendering as a message of the series; the other arguments are those of `message`."""
        return message_in_series(rendering, self._series, to, pictures, own)
