"""A picture: its bytes, its media type by what the bytes are, and its size in pixels."""

from __future__ import annotations

import hashlib
from base64 import b64encode
from copy import copy
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from pribble.arguments import integers, maybe_texts, numbers, octets, paths, texts, wrong
from pribble.cached_property import cached_property
from pribble.errors import PictureError, loaded, visible
from pribble.mime.encoding import base64_lines, quoted_printable
from pribble.mime.grammar import MEDIA_TYPE
from pribble.mime.media_types import SVG, ending_of
from pribble.mime.part import fit_name
from pribble.pictures import decoding, picture_encoder
from pribble.records import field, record
from pribble.values.kinds import Opaque

if TYPE_CHECKING:
    from PIL.Image import Image

# No side of a picture has so many pixels.
_LARGEST = 2**31


@record(frozen=True)
class Picture(Opaque):
    """A picture as it travels.

    `content` are its bytes, `type` its media type (judged by the content, never by a file's ending), `name` a file name
    or None, `width` and `height` its size in pixels.  `density` is how many of these pixels are one CSS pixel if the
    picture is shown at its own size.  Two pictures are equal if content and type are.
    """

    kind: ClassVar[str] = "picture"

    content: bytes = field(repr=False)
    type: str
    name: str | None = field(compare=False)
    width: int = field(compare=False)
    height: int = field(compare=False)
    density: float = field(compare=False, default=1.0)

    def __post_init__(self) -> None:
        octets(content=self.content)
        texts(type=self.type)
        maybe_texts(name=self.name)
        integers(width=self.width, height=self.height)
        numbers(density=self.density)
        if not (0 < self.width < _LARGEST and 0 < self.height < _LARGEST and 0 < self.density < _LARGEST):
            raise ValueError(f"width, height and density are above 0 and below {_LARGEST:,}")
        if not MEDIA_TYPE.fullmatch(self.type):
            raise PictureError(f'"{self.type[:60]}" is no media type of a picture', hint="as image/png")

    @classmethod
    def open(cls, path: str | Path) -> Picture:
        """Reads a picture from the file at `path`.  Raises `PictureError` if there is no sound picture."""
        paths(path=path)
        path = Path(path)
        try:
            content = path.read_bytes()
        except OSError as error:
            raise PictureError(f'the picture "{path}" cannot be read: {error.strerror or error}') from None
        except ValueError:  # NUL, half a surrogate pair
            raise PictureError(f'"{path}" is the name of no picture') from None
        return cls.from_bytes(content, path.name)

    @classmethod
    def from_bytes(cls, content: bytes, name: str | None = None) -> Picture:
        """Reads a picture from its bytes; `name` is the file name that it gets.  Raises `PictureError` if the bytes are
        no picture, or one that is damaged or enormous.
        """
        octets(content=content)
        maybe_texts(name=name)
        called = f'the picture "{visible(name)}"' if name else "the picture"
        type_, width, height = decoding.measured(content, called)
        return cls(content, type_, name, width, height)

    @classmethod
    def from_figure(cls, figure: Any, *, width: int | None = None, name: str | None = None) -> Picture:
        """Returns a Matplotlib figure as a PNG, drawn without a display.

        `width` is how wide it is shown, in CSS pixels (by default the figure's own inches at 96 to the inch); it is
        drawn with twice as many, so that it is sharp on a dense screen, and in few colours, so that it is small.
        Raises `MissingExtra` where Matplotlib is not installed, `TypeError` for what is no figure.
        """
        figures = loaded("matplotlib.figure", extra="charts", message="a figure needs Matplotlib")
        if not isinstance(figure, figures.FigureBase):
            raise wrong("figure", "a Matplotlib figure", figure)
        if width is not None:
            integers(width=width)
        maybe_texts(name=name)
        content = picture_encoder.drawn(figure, width)
        type_, pixels, height = decoding.measured(content, "the figure")
        return cls(content, type_, name, pixels, height, picture_encoder.DENSITY)

    # -- others made of it --

    def scaled(self, factor: float) -> Picture:
        """Returns the picture `factor` times as wide and high: `0.75` for one that came out a quarter too large.
        Raises `ValueError` for a factor of zero or less, `PictureError` for too many pixels or an SVG.
        """
        numbers(factor=factor)
        if not 0 < factor < 1000:
            raise ValueError("a factor is above 0 and below 1000")
        return self._of_width(max(1, round(self.width * factor)))

    def resized(self, *, width: int) -> Picture:
        """Returns the picture `width` pixels wide, with its proportions; the picture itself if it has that width.
        Raises `ValueError` for a width below 1 or enormous, `PictureError` for too many pixels or an SVG.
        """
        integers(width=width)
        if not 1 <= width <= decoding.MOST_PIXELS:
            raise ValueError(f"a width is at least 1, and at most {decoding.MOST_PIXELS:,}")
        return self._of_width(width)

    def _of_width(self, width: int) -> Picture:
        height = max(1, round(self.height * width / self.width))
        if (width, height) == (self.width, self.height):
            return self
        if width * height > decoding.MOST_PIXELS:
            raise PictureError(f"{self.called} would have {width} × {height} pixels")
        return self._redrawn(picture_encoder.resized(self._pixels(), (width, height)))

    def on(self, colour: str) -> Picture:
        """Returns the picture on a ground of `colour` (``#14364f``, ``white``), without transparency.  Raises
        `ValueError` for an unknown colour.
        """
        texts(colour=colour)
        return self._redrawn(picture_encoder.lay_on_ground(self._pixels(), colour))

    def _pixels(self) -> Image:
        if self.type == SVG.name:
            raise PictureError(f"{self.called} is an SVG, which has no pixels to change", hint="save it as PNG")
        return decoding.open_image(self.content, self.called)

    def _redrawn(self, image: Image) -> Picture:
        content, type_ = picture_encoder.encode_image(image, self.type)
        density = self.density * image.width / self.width
        return Picture(
            content,
            type_,
            renamed(self.name, self.type, type_),
            image.width,
            image.height,
            density if self.density != 1 else 1.0,
        )

    # -- how it is named --

    @property
    def called(self) -> str:
        """What errors call the picture."""
        return f'the picture "{visible(self.name)}"' if self.name else "the picture"

    @property
    def shown_width(self) -> int:
        """How wide it is shown, in CSS pixels, if nothing else says so."""
        return max(1, round(self.width / self.density))

    @cached_property
    def file_name(self) -> str:
        """Its name as it can travel (RFC 2183 2.3), or a name made from its content."""
        fit = fit_name(self.name) if self.name else None
        return fit or f"picture-{self._digest[:8]}{ending_of(self.type)}"

    def named(self, name: str | None) -> Picture:
        """Returns the same picture with another name."""
        maybe_texts(name=name)
        if name == self.name:
            return self
        made = copy(self)
        vars(made)["name"] = name
        vars(made).pop("file_name", None)
        return made

    def content_id(self, domain: str) -> str:
        """Returns its Content-ID without the angle brackets (RFC 2392); `domain` is the right side.  The same picture
        has the same id in every message.
        """
        texts(domain=domain)
        return f"{self._id}@{domain}"

    @cached_property
    def _id(self) -> str:
        return self._digest[:32]

    @cached_property
    def _digest(self) -> str:
        return hashlib.sha256(self.type.encode("ascii") + b"\0" + self.content).hexdigest()

    # -- how it travels; made once --

    @cached_property
    def base64_body(self) -> bytes:
        """Its content in base64, in lines as a part of a message has them."""
        return base64_lines(self.content)

    @cached_property
    def data_url(self) -> str:
        """The picture as a ``data:`` URL (RFC 2397)."""
        return f"data:{self.type};base64,{b64encode(self.content).decode('ascii')}"

    @cached_property
    def quoted_data_url(self) -> bytes:
        """The same in quoted-printable, as it stands in a page on the wire."""
        return quoted_printable(self.data_url)


def renamed(name: str | None, before: str, after: str) -> str | None:
    """Returns a file name with the ending of another type, where the type is another."""
    if name is None or before == after:
        return name
    return f"{Path(name).stem}{ending_of(after)}"
