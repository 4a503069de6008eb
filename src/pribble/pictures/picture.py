"""A picture: its bytes, its media type by what the bytes are, and its size in pixels."""

from __future__ import annotations

import hashlib
import io
import re
import warnings
from base64 import b64encode
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import ClassVar

from pribble.errors import PictureError
from pribble.mime.encoding import base64_lines
from pribble.values.kinds import Opaque

# More pixels than this are a decompression bomb or a mistake; a message shows a few hundred across.
MOST_PIXELS = 64_000_000
_TYPES = {"PNG": "image/png", "JPEG": "image/jpeg", "GIF": "image/gif", "WEBP": "image/webp", "BMP": "image/bmp"}
_ENDINGS = {"image/png": ".png", "image/jpeg": ".jpg", "image/gif": ".gif", "image/webp": ".webp",
            "image/bmp": ".bmp", "image/svg+xml": ".svg"}
_SVG = re.compile(rb"(?:\xef\xbb\xbf)?\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*|<!DOCTYPE[^>]*>\s*)*<svg[\s>]", re.DOTALL)


@dataclass(frozen=True)
class Picture(Opaque):
    """A picture as it travels.

    `content` are its bytes, `type` its media type (judged by the content, never by a file's ending), `name`
    a file name or None, `width` and `height` its size in pixels.  Two pictures are equal if content and
    type are.
    """

    kind: ClassVar[str] = "picture"

    content: bytes = field(repr=False)
    type: str
    name: str | None = field(compare=False)
    width: int = field(compare=False)
    height: int = field(compare=False)

    @classmethod
    def open(cls, path: str | Path) -> Picture:
        """Read a picture from a file.  Raises `PictureError` where there is none, or none that is sound."""
        path = Path(path)
        try:
            content = path.read_bytes()
        except OSError as error:
            raise PictureError(f'the picture "{path}" cannot be read: {error.strerror or error}') from None
        return cls.from_bytes(content, path.name)

    @classmethod
    def from_bytes(cls, content: bytes, name: str | None = None) -> Picture:
        """A picture from its bytes.  Raises `PictureError` for what is no picture, damaged or enormous."""
        called = f'the picture "{name}"' if name else "the picture"
        if _SVG.match(content[:4096]):
            return cls(content, "image/svg+xml", name, *_svg_size(content))
        from PIL import Image, UnidentifiedImageError  # loaded when first needed

        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore", Image.DecompressionBombWarning)
                image = Image.open(io.BytesIO(content))
            width, height = image.size
            if width * height > MOST_PIXELS:
                raise PictureError(f"{called} has {width} × {height} pixels",
                                   hint=f"at most {MOST_PIXELS:,} are taken; scale it down")
            if image.format not in _TYPES:
                raise PictureError(f"{called} is of the kind {image.format}, which receivers do not show",
                                   hint="save it as PNG or JPEG")
            image.load()
        except UnidentifiedImageError:
            raise PictureError(f"{called} is no picture, whatever its name says",
                               hint="PNG, JPEG, GIF and WebP are taken") from None
        except Image.DecompressionBombError:
            raise PictureError(f"{called} is enormous", hint=f"at most {MOST_PIXELS:,} pixels are taken") from None
        except (OSError, SyntaxError, ValueError) as error:
            raise PictureError(f"{called} is damaged: {error}") from None
        return cls(content, _TYPES[str(image.format)], name, width, height)

    @property
    def file_name(self) -> str:
        """Its name, or one made from its content."""
        return self.name or f"picture-{self._digest[:8]}{_ENDINGS.get(self.type, '')}"

    def content_id(self, domain: str) -> str:
        """Its Content-ID without the angle brackets (RFC 2392): the same for the same picture, everywhere."""
        return f"{self._id}@{domain}"

    @cached_property
    def _id(self) -> str:
        return self._digest[:32]

    @cached_property
    def _digest(self) -> str:
        return hashlib.sha256(self.type.encode("ascii") + b"\0" + self.content).hexdigest()

    @cached_property
    def base64_body(self) -> bytes:
        """Its content in base64, in lines as a part of a message has them; made once."""
        return base64_lines(self.content)

    @cached_property
    def data_url(self) -> str:
        """The picture as a ``data:`` URL (RFC 2397)."""
        return f"data:{self.type};base64,{b64encode(self.content).decode('ascii')}"


class Source(str):
    """The address of a picture in the HTML, as one travels by Content-ID; knows its `picture`."""

    __slots__ = ("picture",)

    picture: Picture

    @classmethod
    def of(cls, picture: Picture, domain: str) -> Source:
        """The ``cid:`` URL of a picture (RFC 2392)."""
        made = cls(f"cid:{picture.content_id(domain)}")
        made.picture = picture
        return made


def _svg_size(content: bytes) -> tuple[int, int]:
    """An SVG's width and height in pixels: as its root says, by its viewBox, or the default of 300 × 150."""
    root = re.search(rb"<svg\b[^>]*>", content, re.DOTALL)
    opening = root[0].decode("utf-8", "replace") if root else ""
    sizes = {name: re.search(rf"\s{name}\s*=\s*[\"']\s*([0-9.]+)(?:px)?\s*[\"']", opening)
             for name in ("width", "height")}
    box = re.search(r"\sviewBox\s*=\s*[\"']\s*[-0-9.]+[\s,]+[-0-9.]+[\s,]+([0-9.]+)[\s,]+([0-9.]+)", opening)
    width, height = (float(m[1]) if m else 0.0 for m in (sizes["width"], sizes["height"]))
    if box and float(box[1]) and float(box[2]):
        proportion = float(box[2]) / float(box[1])
        width = width or (height / proportion if height else float(box[1]))
        height = height or width * proportion
    return max(1, round(width or 300)), max(1, round(height or 150))
