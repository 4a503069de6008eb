"""A rendering: one run of a template over data, in all the forms a message needs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from pribble.compiler.steps import PREHEADER
from pribble.mime.address import Recipients
from pribble.mime.message import Message
from pribble.pictures.picture import Picture, Source
from pribble.plaintext.flow import flow
from pribble.plaintext.layout import layout
from pribble.values.escaping import markup

Embed = Literal["cid", "data"]

# Hidden in the customary way: each of these hides it from receivers that ignore the others.
_BEFORE_PREHEADER = ('<div style="display:none;max-height:0;max-width:0;overflow:hidden;opacity:0;font-size:1px;'
              'line-height:1px;mso-hide:all">')


def with_preheader(pieces: list[str], preheader: str | None) -> list[str]:
    """`pieces`, the preheader put in its place."""
    if preheader:
        for index, piece in enumerate(pieces):
            if piece is PREHEADER:
                pieces[index] = f"{_BEFORE_PREHEADER}{markup(preheader)}</div>"
                break
    return pieces


@dataclass(frozen=True, init=False)
class Rendering:
    """A template filled with data: subject, preheader, HTML, plain text, pictures.

    `subject` and `preheader` are None where the template has none, `html` where it is text only.
    """

    subject: str | None
    preheader: str | None
    embed: Embed
    id_domain: str = field(repr=False)
    _pieces: Sequence[str] | None = field(repr=False)
    _text: Sequence[Any] | str = field(repr=False)

    def __init__(self, subject: str | None, preheader: str | None, embed: Embed, id_domain: str,
                 pieces: Sequence[str] | None, text: Sequence[Any] | str) -> None:
        # One update and not six guarded assignments: there is one of these for every message.
        vars(self).update(subject=subject, preheader=preheader, embed=embed, id_domain=id_domain, _pieces=pieces,
                          _text=text)

    @cached_property
    def html(self) -> str | None:
        """The HTML, pictures embedded as asked for."""
        if self._pieces is None:
            return None
        if self.embed == "cid":
            return "".join(self._pieces)
        return "".join([piece.picture.data_url if isinstance(piece, Source) else piece for piece in self._pieces])

    @cached_property
    def text(self) -> str:
        """The plain text: written by hand, or one that says what the HTML does, laid out when first asked for."""
        return self._text if isinstance(self._text, str) else layout(flow(self._text))

    @cached_property
    def pictures(self) -> tuple[Picture, ...]:
        """The pictures that the HTML refers to by Content-ID, each once, in the order of their first use."""
        if self.embed != "cid" or self._pieces is None:
            return ()
        return tuple(dict.fromkeys(piece.picture for piece in self._pieces if isinstance(piece, Source)))

    def message(self, *, sender: Recipients, to: Recipients = (), **envelope: Any) -> Message:
        """A `Message` of this rendering; `envelope` takes what `Message` takes (cc, bcc, attachments, …)."""
        return Message(sender=sender, to=to, subject=self.subject, text=self.text, html=self.html,
                       pictures=self.pictures, id_domain=self.id_domain, **envelope)
