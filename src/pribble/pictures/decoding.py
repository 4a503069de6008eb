"""Pictures read: which type the bytes are, how large, and whether they are whole."""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from pribble.errors import PictureError
from pribble.mime.media_types import BY_DECODER, MEDIA_TYPES, SVG
from pribble.regexes import regex

if TYPE_CHECKING:
    from PIL.Image import Image

# More pixels than this are a decompression bomb or a mistake; a message shows a few hundred across.
MOST_PIXELS = 64_000_000
_LARGEST_SIZE = 100_000  # pixels of an SVG, which has none of its own
*_TITLES, _LAST_TITLE = [one.title for one in MEDIA_TYPES if one.is_picture]
_TAKEN = f"{', '.join(_TITLES)} and {_LAST_TITLE} are taken"
# What may stand before the root of an SVG (XML 1.0, 2.8), each with its end; and so far it is looked for.
_BEFORE_ROOT = {b"<!--": b"-->", b"<?": b"?>", b"<!DOCTYPE": b">"}
_HEAD = 4096
_ROOT = regex(rb"<svg(?=[\s/>])[^>]*+>")
_SIZE = {name: regex(rf"\s{name}\s*+=\s*+[\"']\s*+([0-9.]++)(?:px)?\s*+[\"']") for name in ("width", "height")}
_BOX = regex(r"\sviewBox\s*+=\s*+[\"']\s*+[-0-9.]++[\s,]++[-0-9.]++[\s,]++([0-9.]++)[\s,]++([0-9.]++)")
_NUMBER = regex(r"\d++\.?\d*+|\.\d++")


def measured(content: bytes, called: str) -> tuple[str, int, int]:
    """Returns media type, width and height of a picture, all of which was read; `called` names it in errors.

    Raises `PictureError` for what is no picture, damaged or enormous.
    """
    root = _root(content)
    if root is not None:
        return SVG.name, *_svg_size(root)
    image = open_image(content, called)
    return BY_DECODER[str(image.format)].name, image.width, image.height


def open_image(content: bytes, called: str) -> Image:
    """Returns a picture's pixels.  Raises `PictureError`."""
    from PIL import Image  # loaded when first needed

    with _report(called), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of bombs, which are refused below, and of metadata, which are dropped
        image = Image.open(io.BytesIO(content))
        if image.width * image.height > MOST_PIXELS:
            raise PictureError(
                f"{called} has {image.width} × {image.height} pixels",
                hint=f"at most {MOST_PIXELS:,} are taken; scale it down",
            )
        if image.format not in BY_DECODER:
            raise PictureError(f"{called} is of the kind {image.format}, which no receiver shows", hint=_TAKEN)
        image.load()
    return image


@contextmanager
def _report(called: str) -> Iterator[None]:
    """What goes wrong while a picture is read, as a `PictureError`."""
    from PIL import Image, UnidentifiedImageError

    try:
        yield
    except UnidentifiedImageError:
        raise PictureError(f"{called} is no picture, whatever its name says", hint=_TAKEN) from None
    except Image.DecompressionBombError:
        raise PictureError(f"{called} is enormous", hint=f"at most {MOST_PIXELS:,} pixels are taken") from None
    except (OSError, SyntaxError, ValueError, EOFError) as error:
        raise PictureError(f"{called} is damaged: {error}") from None


def _root(content: bytes) -> str | None:
    """Returns the root's tag of an SVG; None for what is none, or has so much before its root that nobody would look
    for it."""
    position = len(b"\xef\xbb\xbf") if content.startswith(b"\xef\xbb\xbf") else 0
    while position < _HEAD:
        while position < _HEAD and content[position : position + 1].isspace():
            position += 1
        begun = next((before for before in _BEFORE_ROOT if content.startswith(before, position)), None)
        if begun is None:
            break
        end = content.find(_BEFORE_ROOT[begun], position + len(begun))
        if end < 0:
            return None
        position = end + len(_BEFORE_ROOT[begun])
    root = _ROOT.match(content, position)
    return root[0].decode("utf-8", "replace") if root else None


def _svg_size(opening: str) -> tuple[int, int]:
    """Returns an SVG's width and height in pixels: as its root says, by its viewBox, or the default of 300 × 150."""
    sizes = {name: pattern.search(opening) for name, pattern in _SIZE.items()}
    box = _BOX.search(opening)
    width, height = (_svg_number(m[1]) if m else 0.0 for m in (sizes["width"], sizes["height"]))
    across, down = (_svg_number(box[1]), _svg_number(box[2])) if box else (0.0, 0.0)
    if across and down:
        width = width or (height * across / down if height else across)
        height = height or width * down / across
    return tuple(_svg_pixels(size, usual) for size, usual in ((width, 300), (height, 150)))  # type: ignore[return-value]


def _svg_pixels(size: float, usual: int) -> int:
    """Returns a size in whole pixels; the `usual` one where none is given that a page could have."""
    return max(1, round(size)) if 0 < size <= _LARGEST_SIZE else usual


def _svg_number(text: str) -> float:
    return float(text) if _NUMBER.fullmatch(text) else 0.0
