"""The places of pictures in a rendering, filled when it is known how they travel."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal
from urllib.parse import quote

from pribble.errors import Place
from pribble.findings import Finding
from pribble.pictures.picture import Picture

Embed = Literal["cid", "data", "link", "none"]
EMBED: tuple[Embed, ...] = ("cid", "data", "link", "none")


class PictureSlot(str):
    """The address of a picture, as one travels by Content-ID (RFC 2392); knows how it travels otherwise.

    `path` is where the picture lies below the base of linked pictures, None for one that has no file; `written` what
    its author wrote; `travels` how this one travels, whatever the others do, or None; `told` is what was put right of
    one that the data chose, `sized` the attributes that were added to it and where.
    """

    __slots__ = ("findings", "path", "picture", "sized", "travels", "written")

    picture: Picture
    path: str | None
    written: str
    travels: Embed | None
    findings: tuple[Finding, ...]
    sized: tuple[str, Place] | None

    @classmethod
    def of(
        cls, picture: Picture, domain: str, *, path: str | None = None, written: str = "", travels: Embed | None = None
    ) -> PictureSlot:
        """The slot of a picture."""
        made = cls(f"cid:{picture.content_id(domain)}")
        made.picture, made.path, made.written, made.travels = picture, path, written, travels
        made.findings, made.sized = (), None
        return made

    def filled(self, embed: Embed, base: str | None) -> str:
        """The address as the picture travels; a picture without a file to link to travels inside."""
        match self.travels or embed:
            case "data":
                return self.picture.data_url
            case "link":
                return self.picture.data_url if self.path is None else linked_address(base or "", self.path)
            case "none" if self.written:
                return self.written
            case "none":
                return self.picture.data_url
        return str(self)


class VariantPiece(str):
    """A stretch that reads otherwise where pictures travel by Content-ID: `by_cid` there, `otherwise` elsewhere."""

    __slots__ = ("by_cid", "otherwise")

    by_cid: Sequence[str]
    otherwise: Sequence[str]

    @classmethod
    def of(cls, by_cid: Sequence[str], otherwise: Sequence[str]) -> VariantPiece:
        """A stretch of two forms, each in pieces."""
        made = cls()
        made.by_cid, made.otherwise = by_cid, otherwise
        return made

    def __reduce__(self) -> tuple[Callable[..., VariantPiece], tuple[Sequence[str], Sequence[str]]]:
        return VariantPiece.of, (self.by_cid, self.otherwise)


class NamedId(str):
    """A ``cid:`` address that came from data: the message must be given the picture it names."""

    __slots__ = ()


def linked_address(base: str, path: str) -> str:
    """The address of a picture below a base."""
    return base.rstrip("/") + "/" + quote(path)
