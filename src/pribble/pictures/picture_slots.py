"""The places of pictures in a rendering, filled when it is known how they travel."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, get_args
from urllib.parse import quote

from pribble.errors import Place
from pribble.pictures.picture import Picture
from pribble.records import record

if TYPE_CHECKING:
    from pribble.findings import Finding

Embed = Literal["cid", "data", "link", "none"]
EMBED: tuple[Embed, ...] = get_args(Embed)


@record(slots=True, eq=False)
class PictureSlot:
    """The place of a picture: `address` is that of one that travels by Content-ID (RFC 2392).

    `path` is where the picture lies below the base of linked pictures, None for one that has no file; `written` what
    its author wrote; `travels` how this one travels, whatever the others do, or None; `findings` is what was corrected
    of one that the data chose, `sized` the attributes that were added to it and where.
    """

    address: str
    picture: Picture
    path: str | None
    written: str
    travels: Embed | None
    findings: tuple[Finding, ...] = ()
    sized: tuple[str, Place] | None = None

    @classmethod
    def of(
        cls, picture: Picture, domain: str, *, path: str | None = None, written: str = "", travels: Embed | None = None
    ) -> PictureSlot:
        """Returns the slot of a picture; `domain` is the right side of its Content-ID."""
        return cls(f"cid:{picture.content_id(domain)}", picture, path, written, travels)

    def filled(self, embed: Embed, base: str | None) -> str:
        """Returns the address as the picture travels; a picture without a file to link to travels inside."""
        way = self.travels or embed
        if way == "cid":
            return self.address
        if way == "link" and self.path is not None:
            return linked_address(base or "", self.path)
        if way == "none" and self.written:
            return self.written
        return self.picture.data_url


@record(frozen=True, slots=True)
class NamedPicture:
    """A ``cid:`` address that came from data: the message must be given the picture it names."""

    address: str


def linked_address(base: str, path: str) -> str:
    """Returns the address of a picture below a base."""
    return base.rstrip("/") + "/" + quote(path)
