"""Corrections of pictures: what receivers cannot show, show wrongly, or should not learn.

Each of these can be switched off, and each correction that is made is reported.
"""

from __future__ import annotations

import io
import struct
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING

from pribble.arguments import texts, wrong
from pribble.errors import visible
from pribble.mime.media_types import GIF, JPEG, PNG, SVG, is_shown_everywhere
from pribble.pictures import decoding, picture_encoder
from pribble.pictures.picture import Picture, renamed
from pribble.records import record

if TYPE_CHECKING:
    from PIL.Image import Image

# What can be corrected: sizes in the markup, pixels that nobody sees, types few receivers show, colours other than
# 8-bit sRGB, the orientation a camera noted, and what else it noted.
SIZE, RESAMPLE, FORMAT, COLOUR, ORIENTATION, METADATA = (
    "size",
    "resample",
    "format",
    "colour",
    "orientation",
    "metadata",
)
ALL = frozenset({SIZE, RESAMPLE, FORMAT, COLOUR, ORIENTATION, METADATA})

_ORIENTATION_TAG = 0x0112


@record(frozen=True, slots=True)
class Correction:
    """One thing that was corrected: which, and what was done to the picture."""

    what: str
    message: str


def checked_corrections(put_right: Collection[str]) -> frozenset[str]:
    """`put_right`, if all of it can be; raises `ValueError` otherwise."""
    if isinstance(put_right, str) or not isinstance(put_right, Collection):
        raise wrong("put_right", "a list of texts", put_right)
    for one in put_right:
        texts(put_right=one)
    if unknown := sorted(set(put_right) - ALL):
        raise ValueError(f'put_right takes {", ".join(sorted(ALL))}, not "{visible(unknown[0][:60])}"')
    return frozenset(put_right)


def correct(picture: Picture, wanted: frozenset[str]) -> tuple[Picture, tuple[Correction, ...]]:
    """Returns a picture corrected as far as is `wanted`, and what that was.  Raises `PictureError`."""
    if picture.type == SVG.name:
        return picture, ()
    image = decoding.open_image(picture.content, picture.called)
    changes = list(_needed(picture, image, wanted))
    if not changes:
        return _without_metadata(picture, image, wanted)
    done = {change.what for change in changes}
    if ORIENTATION in done:
        from PIL import ImageOps

        image = ImageOps.exif_transpose(image)
    if COLOUR in done:
        image = _in_srgb(image)
    if METADATA in wanted:
        for name in ("exif", "xmp", "comment", "icc_profile"):
            image.info.pop(name, None)
    content, type_ = picture_encoder.encode_image(image, picture.type)
    made = Picture(
        content, type_, renamed(picture.name, picture.type, type_), image.width, image.height, picture.density
    )
    return made, tuple(Correction(change.what, change.message.replace("…", type_)) for change in changes)


def fitted(picture: Picture, shown: int | None, density: float) -> tuple[Picture, Correction | None]:
    """Returns a picture with no more pixels than it is shown with: `shown` CSS pixels across, each `density` of its
    own."""
    if shown is None or picture.type == SVG.name or picture.width <= round(shown * density):
        return picture, None
    if picture.type == GIF.name and _is_animated(decoding.open_image(picture.content, picture.called)):
        return picture, None
    made = picture.resized(width=max(1, round(shown * density)))
    if len(made.content) >= len(picture.content):
        return picture, None
    says = f"{picture.width} × {picture.height} pixels, shown {shown} wide, became {made.width} × {made.height}"
    return made, Correction(RESAMPLE, f"{says} ({len(picture.content):,} bytes became {len(made.content):,})")


def _needed(picture: Picture, image: Image, wanted: frozenset[str]) -> Iterator[Correction]:
    animated = _is_animated(image)
    if FORMAT in wanted and not is_shown_everywhere(picture.type):
        yield Correction(FORMAT, f"{picture.type} became …")
    if FORMAT in wanted and animated and picture.type != GIF.name:
        yield Correction(FORMAT, "of an animation the first frame is left")
    if picture.type == GIF.name:
        return
    if ORIENTATION in wanted and (turned := image.getexif().get(_ORIENTATION_TAG, 1)) in range(2, 9):
        yield Correction(ORIENTATION, f"turned upright, as its orientation ({turned}) says")
    if COLOUR in wanted:
        if image.mode in ("CMYK", "YCbCr", "LAB", "HSV"):
            yield Correction(COLOUR, f"{image.mode} became sRGB")
        elif image.mode.startswith(("I", "F")) or _is_deep(picture):
            yield Correction(COLOUR, "16 bits became 8")
        elif _foreign_profile(image):
            yield Correction(COLOUR, "its colour profile became sRGB")


def _is_animated(image: Image) -> bool:
    return bool(getattr(image, "is_animated", False)) and image.format != "MPO"


def _is_deep(picture: Picture) -> bool:
    return picture.type == PNG.name and picture.content[24:25] == b"\x10"


def _foreign_profile(image: Image) -> bool:
    """Returns whether an image has a colour profile that is not sRGB's."""
    profile: bytes = image.info.get("icc_profile") or b""
    return bool(profile) and b"sRGB" not in profile and b"s\0R\0G\0B" not in profile


def _in_srgb(image: Image) -> Image:
    from PIL import ImageCms

    image = image if not image.mode.startswith(("I", "F")) else picture_encoder.eight_bits(image)
    profile = image.info.get("icc_profile")
    target = "RGBA" if picture_encoder.has_alpha(image) else "RGB"
    if profile and image.mode in ("RGB", "RGBA", "CMYK", "L", "LAB"):
        try:
            source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
            made = ImageCms.profileToProfile(image, source, ImageCms.createProfile("sRGB"), outputMode=target)
            if made is not None:
                made.info.pop("icc_profile", None)
                return made
        except (ImageCms.PyCMSError, OSError):
            pass  # a profile that nobody can read says nothing: the colours are taken as they stand
    made = image if image.mode in ("L", "RGB", "RGBA", "P", "LA") else image.convert(target)
    made.info.pop("icc_profile", None)
    return made


# ---- metadata, without touching the pixels ----------------------------------------------------------------------


def _without_metadata(picture: Picture, image: Image, wanted: frozenset[str]) -> tuple[Picture, tuple[Correction, ...]]:
    if METADATA not in wanted:
        return picture, ()
    turned = ORIENTATION not in wanted and image.getexif().get(_ORIENTATION_TAG, 1) != 1
    content = picture.content
    if picture.type == JPEG.name and not turned:
        content = b"".join(_jpeg_pieces(content))
    elif picture.type == PNG.name:
        content = b"".join(_png_pieces(content, keep_exif=turned))
    if content == picture.content:
        return picture, ()
    made = Picture(content, picture.type, picture.name, picture.width, picture.height, picture.density)
    return made, (Correction(METADATA, f"{len(picture.content) - len(content):,} bytes of metadata left out"),)


def _jpeg_pieces(content: bytes) -> Iterator[bytes]:
    """Yields a JPEG without comments and application segments, but for JFIF, profiles and Adobe's (ITU-T T.81,
    B.1.1)."""
    yield content[:2]
    position = 2
    while content[position : position + 1] == b"\xff" and position + 4 <= len(content):
        marker = content[position + 1]
        if marker == 0xFF:  # a fill byte
            position += 1
            continue
        length = struct.unpack(">H", content[position + 2 : position + 4])[0]
        segment = content[position : position + 2 + length]
        private = marker == 0xFE or (
            0xE1 <= marker <= 0xEF and marker != 0xEE and not (marker == 0xE2 and segment[4:15] == b"ICC_PROFILE")
        )
        if marker == 0xDA:  # the scan: all that follows is the picture
            end = content.rfind(b"\xff\xd9")
            yield content[position : end + 2 if end > position else len(content)]
            return
        if not private:
            yield segment
        position += 2 + length
    yield content[position:]


_PRIVATE_CHUNKS = frozenset({b"tEXt", b"zTXt", b"iTXt", b"tIME"})


def _png_pieces(content: bytes, *, keep_exif: bool) -> Iterator[bytes]:
    """Yields a PNG without its texts, time and camera's notes (PNG 3, 11.3)."""
    yield content[:8]
    position = 8
    while position + 12 <= len(content):
        length = struct.unpack(">I", content[position : position + 4])[0]
        kind = content[position + 4 : position + 8]
        if kind not in _PRIVATE_CHUNKS and (kind != b"eXIf" or keep_exif):
            yield content[position : position + 12 + length]
        position += 12 + length
        if kind == b"IEND":
            return
