"""The media types that are recognised by their content: of pictures, and of what is often attached.  One row each.

The pictures' room reads the rows to decode, name and encode, the audit to hold a part's type against its octets.
"""

from __future__ import annotations

import re
from typing import Literal

from pribble.records import record


@record(frozen=True, slots=True)
class MediaType:
    """A media type (RFC 6838).

    `title` is what people call it, `ending` that of its files.  `signature` matches its first octets, None where they
    do not tell; `aliases` are names by which it is declared too.  `decoders` are Pillow's names of it, none for what
    is no picture that Pillow reads.  `shown` is whether receivers everywhere show it.  A picture that is made anew is
    encoded `as_` "png" or "jpeg", or by what it shows: few colours as PNG, a photograph as JPEG.
    """

    name: str
    title: str
    ending: str
    signature: re.Pattern[bytes] | None
    decoders: tuple[str, ...] = ()
    shown: bool = False
    as_: Literal["png", "jpeg", "either"] = "either"
    aliases: tuple[str, ...] = ()

    @property
    def is_picture(self) -> bool:
        """Whether it is a kind of picture."""
        return self.name.startswith("image/")


def _begins(pattern: bytes) -> re.Pattern[bytes]:
    return re.compile(pattern, re.DOTALL)


PNG = MediaType("image/png", "PNG", ".png", _begins(rb"\x89PNG\r\n\x1a\n"), ("PNG",), shown=True, as_="png")
JPEG = MediaType(
    "image/jpeg",
    "JPEG",
    ".jpg",
    _begins(rb"\xff\xd8\xff"),
    ("JPEG", "MPO"),
    shown=True,
    as_="jpeg",
    aliases=("image/jpg",),
)
GIF = MediaType("image/gif", "GIF", ".gif", _begins(rb"GIF8[79]a"), ("GIF",), shown=True, as_="png")
SVG = MediaType("image/svg+xml", "SVG", ".svg", None)
MEDIA_TYPES = (
    PNG,
    JPEG,
    GIF,
    MediaType("image/webp", "WebP", ".webp", _begins(rb"RIFF.{4}WEBP"), ("WEBP",)),
    MediaType("image/avif", "AVIF", ".avif", _begins(rb".{4}ftypavi[fs]"), ("AVIF",)),
    MediaType("image/tiff", "TIFF", ".tiff", _begins(rb"II\*\x00|MM\x00\*"), ("TIFF",)),
    MediaType("image/bmp", "BMP", ".bmp", _begins(rb"BM.{12}"), ("BMP", "DIB")),
    MediaType(
        "image/x-icon",
        "ICO",
        ".ico",
        _begins(rb"\x00\x00\x01\x00"),
        ("ICO",),
        as_="png",
        aliases=("image/vnd.microsoft.icon",),
    ),
    SVG,
    MediaType("application/pdf", "PDF", ".pdf", _begins(rb"%PDF-")),
)
# By every name that a part may declare, and by the names that Pillow gives what it has read.
BY_NAME = {name: one for one in MEDIA_TYPES for name in (one.name, *one.aliases)}
BY_DECODER = {name: one for one in MEDIA_TYPES for name in one.decoders}


def type_of(content: bytes) -> MediaType | None:
    """Returns what octets are by their signature; None where it tells nothing."""
    return next((one for one in MEDIA_TYPES if one.signature and one.signature.match(content)), None)


def ending_of(name: str) -> str:
    """Returns the ending of files of a media type; "" for one that is not known here."""
    return BY_NAME[name].ending if name in BY_NAME else ""


def is_shown_everywhere(name: str) -> bool:
    """Returns whether receivers everywhere show a media type."""
    return name in BY_NAME and BY_NAME[name].shown
